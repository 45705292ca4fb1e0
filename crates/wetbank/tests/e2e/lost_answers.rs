//! The connection to a server breaks after a request, before its answer, at every request in turn: nothing
//! arrives twice, nothing is held, nothing is left over.

use std::{collections::BTreeMap, fs, net::SocketAddr, os::unix::fs::PermissionsExt, path::PathBuf};

use crate::support::{
    Archive, Office,
    bundles::Bundles,
    cuts::{Way, wait_through},
    leftovers, names, wait_for,
};
use wetbank_testbed::{
    Apache, Cutter, FTP_USER, FtpOffer, Proftpd, SHARE_NAME, SHARE_USER, Samba, ShareOffer, Sshd, WEBDAV_USER,
    client_key,
};

/// A server behind a proxy that cuts connections, and a rule that sends files there.
struct Line {
    office: Office,
    cutter: Cutter,
    there: There,
    _guards: Vec<Box<dyn std::any::Any>>,
}

/// Where the files arrive.
enum There {
    Folder(PathBuf),
    Bucket(Archive),
}

impl There {
    /// What arrived, by name.
    fn files(&self) -> BTreeMap<String, Vec<u8>> {
        match self {
            Self::Folder(folder) => {
                let read = |name: String| (name.clone(), fs::read(folder.join(name)).unwrap());
                names(folder).into_iter().filter(|name| !name.starts_with('.')).map(read).collect()
            }
            Self::Bucket(archive) => {
                let keys = archive.keys().into_iter();
                keys.map(|key| (key.clone(), archive.object(&key).map(|o| o.to_vec()).unwrap_or_default())).collect()
            }
        }
    }

    /// The content of the one file of ours that lies aside, in a folder.
    fn leftover(&self) -> Option<Vec<u8>> {
        let Self::Folder(folder) = self else { return None };
        match &leftovers(folder)[..] {
            [one] => fs::read(one).ok(),
            _ => None,
        }
    }

    fn is_tidy(&self) -> bool {
        match self {
            Self::Folder(folder) => leftovers(folder).is_empty(),
            Self::Bucket(archive) => archive.open_uploads() == 0,
        }
    }
}

/// The line of a twin breaks in the middle of its passes, before any answer in turn.
#[test]
fn both_sides_of_a_twin_come_to_be_alike_and_nothing_is_lost() {
    const CUTS: usize = 16;
    let (office, sshd) = (Office::open(), Sshd::start());
    let (file, key) = client_key(sshd.folder.path(), &["ed25519"], "");
    sshd.authorize(&file);
    assert!(office.wetbank_with(&["secret", "set", "key"], &key).status.success());
    let (cutter, root) = (Cutter::before(sshd.address), sshd.folder.path().join("store"));
    let store = format!(
        "[place.store]\nkind = \"sftp\"\nhost = \"127.0.0.1\"\nport = {}\nuser = \"{}\"\nkey = {{ secret = \"key\" }}\n\
         host-key = \"{}\"\nroot = \"{}\"\nretry = {{ attempts = 20, first = \"100ms\", longest = \"500ms\" }}\n",
        cutter.address.port(),
        sshd.user(),
        sshd.fingerprint,
        root.display()
    );
    let mut way = Bundles::between(office, &store, &root);
    cutter.cut_at(0);
    way.put(0);
    wait_through(&mut way, 1);
    way.put(1);
    wait_through(&mut way, 2);
    let requests = cutter.requests();
    assert!(requests > CUTS, "{requests}");
    for cut in 0..CUTS {
        cutter.cut_at(1 + cut * requests / CUTS);
        way.put(2 + cut);
        wait_through(&mut way, 3 + cut);
    }
    way.check(2 + CUTS);
}

fn line(server: SocketAddr, there: There, place: impl FnOnce(&Office, SocketAddr) -> String) -> Line {
    let (office, cutter) = (Office::open(), Cutter::before(server));
    let place = place(&office, cutter.address);
    let rule = |name: &str, exists: &str, attempts: u32| {
        format!(
            "[rule.{name}]\nretry = {{ attempts = {attempts}, first = \"100ms\", longest = \"500ms\" }}\n\
             starts = {{ arrival = {{ place = \"office\", folder = \"{name}\" }} }}\n\
             [[rule.{name}.branch]]\nsteps = [ {{ copy = {{ to = \"there\", exists = \"{exists}\" }} }} ]\noriginal = \"delete\"\n"
        )
    };
    let rules = rule("both", "keep-both", 20) + &*rule("refuse", "refuse", 20) + &*rule("once", "refuse", 1);
    office.book(&format!("[place.office]\nkind = \"folder\"\nroot = \"@/office\"\n{place}{rules}"));
    Line { office, cutter, there, _guards: Vec::new() }
}

fn to_sftp() -> Line {
    let sshd = Sshd::start();
    let (file, key) = client_key(sshd.folder.path(), &["ed25519"], "");
    sshd.authorize(&file);
    let root = sshd.folder.path().join("in");
    fs::create_dir_all(&root).unwrap();
    let mut line = line(sshd.address, There::Folder(root.clone()), |office, at| {
        assert!(office.wetbank_with(&["secret", "set", "key"], &key).status.success());
        format!(
            "[place.there]\nkind = \"sftp\"\nhost = \"127.0.0.1\"\nport = {}\nuser = \"{}\"\nkey = {{ secret = \"key\" }}\n\
             host-key = \"{}\"\nroot = \"{}\"\n",
            at.port(),
            sshd.user(),
            sshd.fingerprint,
            root.display()
        )
    });
    line._guards.push(Box::new(sshd));
    line
}

fn to_ftp() -> Line {
    let server = Proftpd::start(FtpOffer::Plain);
    let root = server.root.path().to_owned();
    let mut line = line(([127, 0, 0, 1], server.port).into(), There::Folder(root.clone()), |office, at| {
        assert!(office.wetbank_with(&["secret", "set", "ftp"], FTP_USER.1).status.success());
        format!(
            "[place.there]\nkind = \"ftp\"\nhost = \"127.0.0.1\"\nport = {}\nuser = \"{}\"\npassword = {{ secret = \"ftp\" }}\n\
             security = \"none\"\nroot = \"{}\"\n",
            at.port(),
            FTP_USER.0,
            root.display()
        )
    });
    line._guards.push(Box::new(server));
    line
}

fn to_share() -> Line {
    let server = Samba::start(ShareOffer::Usual);
    let root = server.root.path().to_owned();
    let mut line = line(([127, 0, 0, 1], server.port).into(), There::Folder(root), |office, at| {
        assert!(office.wetbank_with(&["secret", "set", "share"], SHARE_USER.1).status.success());
        format!(
            "[place.there]\nkind = \"share\"\nhost = \"127.0.0.1\"\nport = {}\nshare = \"{SHARE_NAME}\"\nuser = \"{}\"\n\
             password = {{ secret = \"share\" }}\n",
            at.port(),
            SHARE_USER.0
        )
    });
    line._guards.push(Box::new(server));
    line
}

fn address_of(url: &str) -> SocketAddr {
    url.split("//").nth(1).unwrap().split('/').next().unwrap().replace("localhost", "127.0.0.1").parse().unwrap()
}

fn to_webdav() -> Line {
    let server = Apache::start(false);
    let (root, url) = (server.root.path().to_owned(), server.url.clone());
    let mut line = line(address_of(&url), There::Folder(root), |office, at| {
        assert!(office.wetbank_with(&["secret", "set", "dav"], WEBDAV_USER.1).status.success());
        let url = url.replace(&address_of(&url).to_string(), &at.to_string());
        format!(
            "[place.there]\nkind = \"webdav\"\nurl = \"{url}\"\nuser = \"{}\"\npassword = {{ secret = \"dav\" }}\n",
            WEBDAV_USER.0
        )
    });
    line._guards.push(Box::new(server));
    line
}

fn to_bucket() -> Line {
    let archive = Archive::open();
    let url = archive.store.url();
    let server = address_of(&url);
    let line = line(server, There::Folder(PathBuf::new()), |office, at| {
        archive.place(office, "there").replace(&url, &url.replace(&server.to_string(), &at.to_string()))
    });
    Line { there: There::Bucket(archive), ..line }
}

/// Sends a file for every request there is, each with another request unanswered.
fn every_request_in_turn(line: &Line, size: usize) {
    let content = |name: &str| name.bytes().cycle().take(size).collect::<Vec<u8>>();
    for rule in ["both", "refuse"] {
        let folder = line.office.path(&format!("office/{rule}"));
        fs::create_dir_all(&folder).unwrap();
        fs::set_permissions(&folder, fs::Permissions::from_mode(0o755)).unwrap();
        let send = |number: usize| {
            let name = format!("{rule}-{size}-{number:03}.csv");
            line.office.put(&format!("office/{rule}/{name}"), &content(&name));
            wait_for(&format!("{name} is through"), || {
                assert_eq!(line.office.holds(), Vec::<serde_json::Value>::new(), "request {number} had no answer");
                names(&folder).is_empty().then_some(())
            });
        };
        // The first file reaches and signs in.
        send(900);
        // How many requests a file needs depends on what the server answers together: it is over when several
        // files in a row went through uncut.
        let (mut number, mut cut, mut uncut) = (0, 0, 0);
        while uncut < 4 {
            number += 1;
            line.cutter.cut_at(number);
            send(number);
            line.office.wait_idle();
            let has_cut = line.cutter.has_cut();
            cut += usize::from(has_cut);
            uncut = if has_cut { 0 } else { uncut + 1 };
        }
        assert!(cut > 2, "only {cut} requests were cut off");
        line.cutter.cut_at(0);
        let arrived = line.there.files();
        let mut expected: Vec<String> =
            (1..=number).chain([900]).map(|n| format!("{rule}-{size}-{n:03}.csv")).collect();
        expected.sort();
        let prefix = format!("{rule}-{size}-");
        let of_rule: Vec<_> = arrived.keys().filter(|name| name.starts_with(&prefix)).cloned().collect();
        assert_eq!(of_rule, expected, "each once and under its own name");
        for name in of_rule {
            assert!(arrived[&name] == content(&name), "{name} is not what was sent");
        }
    }
    line.office.wait_idle();
    wait_for("nothing is left over", || line.there.is_tidy().then_some(()));
}

#[test]
fn of_an_sftp_server() {
    let line = to_sftp();
    every_request_in_turn(&line, 1000);
    every_request_in_turn(&line, 3 << 20);
}

#[test]
fn of_an_ftp_server() {
    every_request_in_turn(&to_ftp(), 1000);
}

#[test]
fn of_a_share() {
    every_request_in_turn(&to_share(), 1000);
}

#[test]
fn of_a_webdav_server() {
    every_request_in_turn(&to_webdav(), 1000);
}

#[test]
fn of_a_bucket() {
    let line = to_bucket();
    every_request_in_turn(&line, 1000);
    every_request_in_turn(&line, 12 << 20);
}

#[test]
fn of_a_file_that_is_held_for_it_nothing_is_left_over_and_released_it_arrives_once() {
    let line = to_sftp();
    let folder = line.office.path("office/once");
    fs::create_dir_all(&folder).unwrap();
    let content = vec![b'x'; 3 << 20];
    let send = |name: &str| drop(line.office.put(&format!("office/once/{name}"), &content));
    let is_through = || names(&folder).is_empty();
    for name in ["first.csv", "counted.csv"] {
        line.cutter.cut_at(0);
        send(name);
        wait_for(name, || is_through().then_some(()));
    }
    let requests = line.cutter.requests();
    for number in 1..=requests {
        line.cutter.cut_at(number);
        send(&format!("{number:03}.csv"));
        let hold = wait_for("it is held or through", || match line.office.holds().into_iter().next() {
            Some(hold) => Some(Some(hold)),
            None => is_through().then_some(None),
        });
        if let Some(hold) = hold {
            // Where nobody heard how giving it its name ended, what lies aside tells: it is whole, and gets its name then.
            let is_unclear = hold["why"].as_str().unwrap().contains("cannot rename");
            let is_as_promised =
                || line.there.is_tidy() || (is_unclear && line.there.leftover().as_ref() == Some(&content));
            wait_for(&format!("nothing is left after request {number}, held: {hold}"), || {
                is_as_promised().then_some(())
            });
            assert!(line.office.wetbank(&["hold", "release", &hold["item"].to_string()]).status.success());
            wait_for(&format!("{number} arrives after all"), || is_through().then_some(()));
        }
        line.office.wait_idle();
    }
    assert!(line.there.files().len() == requests + 2 && line.there.is_tidy());
}
