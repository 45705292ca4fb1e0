//! Partners whose line breaks, who lie, or who come while the service dies.

use std::{
    collections::BTreeSet,
    fs,
    io::{Read, Write},
    process::{Child, Command, Stdio},
    time::Duration,
};

use crate::support::{Archive, Office, partner::Partner, wait_for};

const BOTH: &str = "place = \"office\"\nfolder = \"lab\"\nmay = \"both\"\ndelete = true\n";
const COPIES: &str = "[rule.keep]\nstarts = { account = {} }\n[[rule.keep.branch]]\n\
                      steps = [ { copy = { to = \"archive\", folder = \"kept\", exists = \"keep-both\" } } ]\n";

fn whole(office: &Office, below: &str) -> BTreeSet<String> {
    let Ok(entries) = fs::read_dir(office.path(below)) else { return BTreeSet::new() };
    let names = entries.map(|one| one.unwrap().file_name().into_string().unwrap());
    names.filter(|name| !name.starts_with(".wetbank-")).collect()
}

#[test]
fn a_service_that_is_killed_keeps_what_it_said_it_has_and_the_rest_goes_on() {
    let (mut office, partner) = Office::receiving(BOTH, COPIES);
    office.keep_address();
    let reception = office.json(&["reception", "show"])["sftp"].as_str().unwrap().to_owned();
    const EACH: usize = 20;
    const GUESTS: usize = 10;
    let content = |name: &str| name.repeat(20_000);
    let mut guests = Vec::new();
    for guest in 0..GUESTS {
        let mut lines = String::new();
        for number in 0..EACH {
            let name = format!("g{guest}-{number:02}.csv");
            fs::write(partner.path(&name), content(&name)).unwrap();
            // What is printed behind a file was said to have arrived.
            lines.push_str(&format!("put {name}\n!echo {name} >> said-{guest}\n"));
        }
        guests.push(partner.begins(&lines));
    }
    wait_for("some arrived", || (whole(&office, "office/lab").len() > 40).then_some(()));
    office.kill();
    for mut guest in guests {
        let _ = guest.wait();
    }
    let said: BTreeSet<String> = (0..GUESTS)
        .flat_map(|guest| {
            fs::read_to_string(partner.path(&format!("said-{guest}")))
                .unwrap_or_default()
                .lines()
                .map(str::to_owned)
                .collect::<Vec<_>>()
        })
        .collect();
    assert!(said.len() > 10 && said.len() < EACH * GUESTS, "{} were told", said.len());
    let (host, _) = reception.rsplit_once(':').unwrap();
    assert_eq!(host, "127.0.0.1");
    let listening = [office.url().trim_start_matches("http://").to_owned(), reception];
    office.start_with(&["--listen", &listening[0], "--sftp", &listening[1]]);
    for name in &said {
        assert_eq!(fs::read_to_string(office.path("office/lab").join(name)).unwrap(), content(name), "{name}");
    }
    wait_for("all that arrived is worked, once", || {
        let there = whole(&office, "office/lab");
        let kept = whole(&office, "archive/kept");
        (said.is_subset(&kept) && kept.is_subset(&there)).then_some(())
    });
    // The rest: what came in part is gone on with, what did not begin is handed in.
    for guest in 0..GUESTS {
        for number in 0..EACH {
            let name = format!("g{guest}-{number:02}.csv");
            if whole(&office, "office/lab").contains(&name) {
                continue;
            }
            if !partner.does(&format!("reput {name}\n")).status.success() {
                partner.must(&format!("put {name}\n"));
            }
            assert_eq!(fs::read_to_string(office.path("office/lab").join(&name)).unwrap(), content(&name), "{name}");
        }
    }
    wait_for("all are worked", || (whole(&office, "archive/kept").len() == EACH * GUESTS).then_some(()));
    let counts = office.json(&["account", "exchanged", "--what", "handed-in"]);
    assert_eq!(counts.as_array().unwrap().len(), 100, "a page of them");
}

#[test]
fn an_account_may_live_in_an_object_store() {
    let archive = Archive::open();
    let (office, partner) = Office::receiving(BOTH, "");
    let book = fs::read_to_string(office.path("book.toml")).unwrap();
    let stored = archive.place(&office, "store");
    let rule = "[rule.keep]\nstarts = { account = { names = [\"*.csv\"] } }\n[[rule.keep.branch]]\n\
                steps = [ { copy = { to = \"archive\", folder = \"kept\" } } ]\n";
    office.book(&format!(
        "{}{stored}{rule}",
        book.replace("place = \"office\"\nfolder = \"lab\"", "place = \"store\"\nfolder = \"lab\"")
    ));
    let long: Vec<u8> = (0..2_000_000_u32).map(|at| (at % 253) as u8).collect();
    fs::write(partner.path("long.csv"), &long).unwrap();
    partner.must("mkdir in\nput long.csv in/\nls -l in\nget in/long.csv back.csv\n");
    assert!(fs::read(partner.path("back.csv")).unwrap() == long);
    wait_for("it is worked", || fs::read(office.path("archive/kept/long.csv")).ok().filter(|kept| *kept == long));
    partner.must("rm in/long.csv\n");
    let said = partner.cannot("get in/long.csv again.csv\n");
    assert!(said.contains("not found") || said.contains("No such file"), "{said}");
    let exchanged = office.json(&["account", "exchanged"]);
    let sums: BTreeSet<_> = exchanged
        .as_array()
        .unwrap()
        .iter()
        .filter(|one| one["what"] != "removed")
        .map(|one| one["blake3"].to_string())
        .collect();
    assert_eq!(sums.len(), 1, "{exchanged}");
    let waits: Vec<_> =
        fs::read_dir(office.data().join("reception")).unwrap().map(|one| one.unwrap().file_name()).collect();
    assert!(waits.iter().all(|name| name.to_string_lossy().starts_with("host-")), "{waits:?}");
}

#[test]
fn many_wrong_passwords_lock_an_account_for_a_while_and_are_told_alike() {
    let rules = "[rule.locked]\nstarts = { account = { on = [\"locked\"] } }\n[[rule.locked.branch]]\n\
                 steps = [ { make-folder = { to = \"archive\", folder = \"locked-{{ account.name }}\" } } ]\n";
    let (office, partner) = Office::receiving(&format!("{BOTH}password = true\n"), rules);
    let set = office.wetbank_with(&["account", "password", "lindmoor", "--stdin"], "three grey herons\n");
    assert!(set.status.success(), "{}", String::from_utf8_lossy(&set.stderr));
    assert!(partner.answers(&["three grey herons"], "ls\n").status.success());
    for _ in 0..6 {
        assert!(!partner.answers(&["wrong one", "another wrong"], "ls\n").status.success());
    }
    wait_for("somebody is told", || office.path("archive/locked-lindmoor").exists().then_some(()));
    assert!(!partner.answers(&["three grey herons"], "ls\n").status.success(), "not even the right one");
    let shown = office.json(&["account", "show", "lindmoor"]);
    assert!(shown["has"]["locked"].is_string(), "{shown}");
    partner.must("ls\n");
    let log = fs::read_to_string(office.path("log")).unwrap();
    assert!(!log.contains("herons") && !log.contains("wrong one"));
}

/// A line to the server that says whatever a test likes.
struct Line {
    child: Child,
}

impl Drop for Line {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

impl Line {
    fn to(partner: &Partner) -> Self {
        let key = format!("IdentityFile={}", partner.key().display());
        let child = Command::new("ssh")
            .args(partner.options())
            .args(["-o", &key, "-o", "IdentitiesOnly=yes", "-s", "lindmoor@127.0.0.1", "sftp"])
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let mut line = Self { child };
        line.say(&[1, 0, 0, 0, 3]);
        assert_eq!(line.hears()[0], 2, "a version");
        line
    }

    fn raw(&mut self, bytes: &[u8]) {
        let _ = self.child.stdin.as_mut().unwrap().write_all(bytes);
        let _ = self.child.stdin.as_mut().unwrap().flush();
    }

    fn say(&mut self, packet: &[u8]) {
        let mut framed = (packet.len() as u32).to_be_bytes().to_vec();
        framed.extend_from_slice(packet);
        self.raw(&framed);
    }

    fn hears(&mut self) -> Vec<u8> {
        let out = self.child.stdout.as_mut().unwrap();
        let mut length = [0; 4];
        out.read_exact(&mut length).unwrap();
        let mut packet = vec![0; u32::from_be_bytes(length) as usize];
        out.read_exact(&mut packet).unwrap();
        packet
    }

    /// Asks with strings behind a number; answers the type, and the code if it is a status.
    fn asks(&mut self, kind: u8, strings: &[&[u8]], behind: &[u8]) -> (u8, u32) {
        let mut packet = vec![kind, 0, 0, 0, 7];
        for string in strings {
            packet.extend_from_slice(&(string.len() as u32).to_be_bytes());
            packet.extend_from_slice(string);
        }
        packet.extend_from_slice(behind);
        self.say(&packet);
        let answer = self.hears();
        let code = answer.get(5..9).map_or(0, |code| u32::from_be_bytes(code.try_into().unwrap()));
        (answer[0], code)
    }
}

#[test]
fn who_lies_gets_nothing_and_keeps_nobody_waiting() {
    let (office, partner) = Office::receiving(BOTH, "");
    office.put("office/secret.csv", b"1");
    fs::create_dir_all(office.path("office/lab")).unwrap();
    std::os::unix::fs::symlink(office.path("office"), office.path("office/lab/up")).unwrap();
    std::os::unix::fs::symlink(office.path("office/secret.csv"), office.path("office/lab/link.csv")).unwrap();
    let mut line = Line::to(&partner);
    let (status, attributes) = (101, 105);
    let long = vec![b'x'; 4_000];
    let deep = [b"d/".as_slice(); 3_000].concat();
    let escapes: [&[u8]; 10] = [
        b"../secret.csv",
        b"/../../secret.csv",
        b"up/secret.csv",
        b"link.csv",
        b"a\0b",
        b"../../../../etc/passwd",
        &long,
        &deep,
        b".wetbank-in-00000000000000000000000000000000",
        b"\xff\xfe/../../secret.csv",
    ];
    for path in escapes {
        // Open, look at, both ways; change; list; remove; make; rename, both ways.
        for (kind, strings, behind) in [
            (3, vec![path], [0, 0, 0, 1, 0, 0, 0, 0].as_slice()),
            (7, vec![path], &[]),
            (17, vec![path], &[]),
            (9, vec![path], &[0, 0, 0, 0]),
            (11, vec![path], &[]),
            (13, vec![path], &[]),
            (15, vec![path], &[]),
            (18, vec![path, b"stolen.csv"], &[]),
        ] {
            let (answer, code) = line.asks(kind, &strings, behind);
            assert_eq!(answer, status, "call {kind} of {}", String::from_utf8_lossy(&path[..path.len().min(60)]));
            assert_ne!(code, 0, "call {kind} of {}", String::from_utf8_lossy(&path[..path.len().min(60)]));
        }
    }
    assert_eq!(fs::read(office.path("office/secret.csv")).unwrap(), b"1");
    assert!(!office.path("office/lab/stolen.csv").exists());
    // Handles that were never given, counts without end, calls that there are not.
    for handle in [b"".as_slice(), b"\0\0\0\0\0\0\0\x01", b"nobody's", &long] {
        for kind in [4, 5, 6, 8, 12] {
            let behind: &[u8] = if kind == 6 { &[0; 12] } else { &[0xff; 12] };
            assert_eq!(line.asks(kind, &[handle], behind).0, status, "call {kind}");
        }
    }
    for kind in [19, 20, 21, 99, 200, 255] {
        assert_eq!(line.asks(kind, &[b"a", b"b"], &[]).0, status, "call {kind}");
    }
    // More files than anybody needs: those that are there go on.
    office.put("office/lab/a.csv", b"1");
    let mut given = 0;
    for _ in 0..10_000 {
        match line.asks(3, &[b"a.csv"], &[0, 0, 0, 1, 0, 0, 0, 0]) {
            (102, _) => given += 1,
            (answer, code) => assert_eq!((answer, code), (status, 4)),
        }
    }
    assert_eq!(given, 256);
    assert_eq!(line.asks(17, &[b"a.csv"], &[]).0, attributes);
    // Packets cut at every length, and lengths that lie: the line ends, and only that one.
    let open = [vec![0, 0, 0, 18, 3, 0, 0, 0, 9, 0, 0, 0, 5], b"a.csv".to_vec(), vec![0, 0, 0, 1]].concat();
    for cut in (1..open.len()).step_by(3) {
        let mut line = Line::to(&partner);
        line.raw(&open[..cut]);
        drop(line);
    }
    for lie in [[0xff, 0xff, 0xff, 0xff], [0, 0, 0, 0], [0x7f, 0, 0, 0]] {
        let mut line = Line::to(&partner);
        line.raw(&lie);
        line.raw(&[3; 64]);
        let mut rest = Vec::new();
        let _ = line.child.stdout.as_mut().unwrap().read_to_end(&mut rest);
    }
    // Who never finishes the handshake, and who asks for everything and reads nothing.
    let silent: Vec<_> = (0..30).map(|_| std::net::TcpStream::connect(partner.address()).unwrap()).collect();
    fs::write(office.path("office/lab/large.bin"), vec![7; 40_000_000]).unwrap();
    let mut deaf = Line::to(&partner);
    let mut packet = vec![3, 0, 0, 0, 1, 0, 0, 0, 9];
    packet.extend_from_slice(b"large.bin");
    packet.extend_from_slice(&[0, 0, 0, 1, 0, 0, 0, 0]);
    deaf.say(&packet);
    let handle = deaf.hears()[5..].to_vec();
    let child = deaf.child.stdin.take().unwrap();
    let asks = std::thread::spawn(move || {
        let mut child = child;
        for at in 0..2_000_u64 {
            let mut read = vec![5, 0, 0, 0, 2];
            read.extend_from_slice(&handle);
            read.extend_from_slice(&(at * 20_000).to_be_bytes());
            read.extend_from_slice(&200_000_u32.to_be_bytes());
            let framed = [(read.len() as u32).to_be_bytes().to_vec(), read].concat();
            if child.write_all(&framed).is_err() {
                return;
            }
        }
    });
    std::thread::sleep(Duration::from_secs(1));
    fs::write(partner.path("b.csv"), "1").unwrap();
    partner.must("put b.csv\nls\n");
    assert!(office.peak_memory() < 250 << 20, "{}", office.peak_memory());
    drop((silent, deaf));
    let _ = asks.join();
}

#[test]
fn a_disk_without_room_is_told_and_nothing_is_said_to_have_arrived() {
    let (office, partner) = Office::receiving(BOTH, "");
    let disk = office.path("office/lab");
    fs::create_dir_all(&disk).unwrap();
    // Only root may mount.
    let Some(_small) = wetbank_testbed::SmallDisk::over(&disk, 8 << 10) else { return };
    fs::write(partner.path("large.bin"), vec![7; 12_000_000]).unwrap();
    fs::write(partner.path("a.csv"), "1").unwrap();
    assert!(partner.cannot("put large.bin\n").contains("Failure"));
    assert!(!disk.join("large.bin").exists());
    assert_eq!(office.json(&["account", "exchanged"]).as_array().unwrap().len(), 0);
    partner.must("rm large.bin\nput a.csv\n");
    assert!(disk.join("a.csv").exists());
}
