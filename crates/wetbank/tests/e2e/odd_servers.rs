//! Servers that cannot do what most can, and names that are not possible everywhere.

use std::fs;

use wetbank_testbed::{SHARE_USER, Samba, ShareOffer, Sshd};

use crate::support::{Office, PLACES, leftovers, names, servers::openssh, wait_for};

const NO_RENAME: &str = r#"
[place.office]
kind = "folder"
root = "@/office"

[rule.send]
starts = { arrival = { place = "office", folder = "out" } }
retry = { attempts = 20, first = "200ms", longest = "1s" }
[[rule.send.branch]]
steps = [ { deliver = { to = "dropbox", folder = "in", exists = "EXISTS" } } ]
original = "delete"
"#;

/// An office, and a server that lets nobody rename or remove.
struct Scene {
    office: Office,
    sshd: Sshd,
    place: String,
}

impl Scene {
    fn open() -> Self {
        let sshd = Sshd::start_with("ForceCommand internal-sftp -P rename,posix-rename,remove");
        let office = Office::open();
        fs::create_dir_all(office.path("office/out")).unwrap();
        fs::create_dir_all(office.path("dropbox/in")).unwrap();
        let place = openssh(&office, &sshd, "dropbox", "dropbox");
        Self { office, sshd, place }
    }

    fn book(&self, staged: &str, exists: &str) {
        let rule = NO_RENAME.replace("EXISTS", exists);
        self.office.book(&format!("{rule}{}{staged}\n", self.place));
    }

    /// A large file that is put out, of which each byte tells where it stands.
    fn large(&self) -> Vec<u8> {
        let content: Vec<u8> = (0..96_u32 << 20).map(|at| (at >> 12) as u8 | 1).collect();
        self.office.put("office/out/.wetbank-aside", &content);
        fs::rename(self.office.path("office/out/.wetbank-aside"), self.office.path("office/out/survey.raw")).unwrap();
        content
    }

    fn wait_under_way(&self) {
        wait_for("a part of the file on the server", || {
            let part = fs::metadata(self.office.path("dropbox/in/survey.raw")).ok()?;
            (part.len() > 1 << 20).then_some(())
        });
    }
}

fn said(output: &std::process::Output) -> String {
    String::from_utf8_lossy(&[&output.stdout[..], &output.stderr[..]].concat()).into_owned()
}

#[test]
fn a_server_that_lets_nobody_rename_is_used_with_the_danger_told() {
    let scene = Scene::open();
    scene.book("", "refuse");
    let tested = said(&scene.office.wetbank(&["place", "test", "dropbox", "--write"]));
    assert!(tested.contains("✗ rename it") && tested.contains("staged = false"), "{tested}");
    scene.book("staged = false", "refuse");
    let tested = said(&scene.office.wetbank(&["place", "test", "dropbox", "--write"]));
    assert!(tested.contains("✓ write a probe file") && tested.contains("sees half a file"), "{tested}");
    assert!(!tested.contains("rename it"), "{tested}");
    scene.office.put("office/out/assay.csv", b"grades");
    wait_for("the file", || {
        fs::read(scene.office.path("dropbox/in/assay.csv")).is_ok_and(|c| c == b"grades").then_some(())
    });
    scene.office.wait_idle();
    // What is there already is as safe as anywhere.
    scene.office.put("office/out/assay.csv", b"grades, and more of them");
    let hold = scene.office.hold();
    assert_eq!(hold["code"], "exists", "{hold}");
    assert_eq!(fs::read(scene.office.path("dropbox/in/assay.csv")).unwrap(), b"grades");
    assert!(leftovers(&scene.office.path("dropbox/in")).is_empty());
}

#[test]
fn what_a_broken_line_left_under_its_own_name_is_known_again_and_made_whole() {
    for (exists, dies) in [("refuse", false), ("keep-both", false), ("refuse", true)] {
        let mut scene = Scene::open();
        scene.book("staged = false", exists);
        let content = scene.large();
        scene.wait_under_way();
        if dies {
            scene.office.kill();
            scene.office.start();
        } else {
            scene.sshd.crash();
            wait_for("it waits", || (scene.office.json(&["status"])["waiting"] == 1).then_some(()));
            assert!(fs::metadata(scene.office.path("dropbox/in/survey.raw")).unwrap().len() < content.len() as u64);
            scene.sshd.go_on();
        }
        wait_for("the original goes", || (!scene.office.path("office/out/survey.raw").exists()).then_some(()));
        scene.office.wait_idle();
        assert_eq!(names(&scene.office.path("dropbox/in")), ["survey.raw"], "{exists}, dies: {dies}");
        assert!(fs::read(scene.office.path("dropbox/in/survey.raw")).unwrap() == content, "{exists}, dies: {dies}");
    }
}

#[test]
fn a_file_that_somebody_put_there_in_the_meantime_is_not_taken_for_the_part_of_ours() {
    let mut scene = Scene::open();
    scene.book("staged = false", "refuse");
    scene.large();
    scene.wait_under_way();
    scene.sshd.crash();
    wait_for("it waits", || (scene.office.json(&["status"])["waiting"] == 1).then_some(()));
    fs::write(scene.office.path("dropbox/in/survey.raw"), b"the partner's own").unwrap();
    scene.sshd.go_on();
    let hold = scene.office.hold();
    assert_eq!(hold["code"], "exists", "{hold}");
    assert_eq!(fs::read(scene.office.path("dropbox/in/survey.raw")).unwrap(), b"the partner's own");
}

const SHARE: &str = r#"
[place.survey]
kind = "share"
host = "127.0.0.1"
port = PORT
share = "survey"
user = "merrow"
password = { secret = "survey" }

[rule.take]
starts = { arrival = { place = "survey", folder = "in", look-every = "200ms" } }
[[rule.take.branch]]
steps = [ { copy = { to = "archive", folder = "taken" } } ]

[rule.give]
starts = { arrival = { place = "office", folder = "out" } }
[[rule.give.branch]]
steps = [ { deliver = { to = "survey", folder = "given" } } ]
original = { move-to = "sent" }

[rule.look]
starts = { hand = {} }
finds = [ { place = "survey", folder = "in", names = ["none-*"] } ]
[[rule.look.branch]]
steps = [ { copy = { to = "archive", folder = "found" } } ]
"#;

#[test]
fn names_that_a_share_cannot_show_are_told_and_names_that_it_cannot_have_are_refused_before_a_byte_is_sent() {
    let (office, server) = (Office::open(), Samba::start(ShareOffer::Usual));
    for folder in ["office/out", "archive"] {
        fs::create_dir_all(office.path(folder)).unwrap();
    }
    let inbox = server.root.path().join("in");
    fs::create_dir(&inbox).unwrap();
    for name in ["plain.csv", "con", "a:b.csv", "REPORT~1.CSV"] {
        fs::write(inbox.join(name), name).unwrap();
    }
    assert!(office.wetbank_with(&["secret", "set", "survey"], SHARE_USER.1).status.success());
    office.book(&(PLACES.to_owned() + SHARE).replace("PORT", &server.port.to_string()));
    let taken = office.path("archive/taken");
    wait_for("what can be taken", || (names(&taken) == ["REPORT~1.CSV", "plain.csv"]).then_some(()));
    let told = wait_for("what cannot be taken", || {
        let told = office.json(&["status"])["warnings"].to_string();
        told.contains("cannot be used").then_some(told)
    });
    assert!(told.contains("2 files whose names") && told.contains("con") && told.contains("a:b.csv"), "{told}");
    let listed = said(&office.wetbank(&["place", "browse", "survey:/in"]));
    assert!(listed.contains("misnamed") && listed.contains("con"), "{listed}");
    assert!(office.wetbank(&["rule", "run", "look"]).status.success());
    wait_for("the search tells it, too", || {
        let look = office.runs().into_iter().find(|run| run["rule"] == "look")?["id"].to_string();
        office.json(&["run", "show", &look]).to_string().contains("2 files whose names").then_some(())
    });
    for name in ["con", "a:b.csv"] {
        fs::rename(inbox.join(name), inbox.join(format!("now {}.csv", name.len()))).unwrap();
    }
    wait_for("they are taken", || taken.join("now 7.csv").exists().then_some(()));
    wait_for("they are taken", || taken.join("now 3.csv").exists().then_some(()));
    wait_for("it is right again", || {
        (!office.json(&["status"])["warnings"].to_string().contains("cannot be used")).then_some(())
    });

    office.put("office/out/aux.csv", b"a device to some");
    office.put("office/out/assay.csv", b"grades");
    let hold = office.hold();
    assert_eq!(hold["code"], "bad-name", "{hold}");
    assert!(hold.to_string().contains("name of a device"), "{hold}");
    office.wait_idle();
    assert_eq!(names(&server.root.path().join("given")), ["assay.csv"]);
    assert!(leftovers(&server.root.path().join("given")).is_empty());
}

const SLOW: &str = r#"
[place.office]
kind = "folder"
root = "@/office"
rate = "4 MB/s"

[place.archive]
kind = "folder"
root = "@/archive"

[rule.take]
starts = { arrival = { place = "office", folder = "in" } }
retry = { attempts = 3, first = "100ms", longest = "200ms" }
[[rule.take.branch]]
steps = [ { copy = { to = "archive" } } ]
"#;

#[test]
fn a_file_that_its_writer_renames_while_it_is_read_is_looked_at_again_and_not_held() {
    let office = Office::open();
    fs::create_dir_all(office.path("office/in")).unwrap();
    fs::create_dir_all(office.path("archive")).unwrap();
    office.book(SLOW);
    let content = vec![7; 8 << 20];
    office.put("office/in/survey.t", &content);
    wait_for("it is read", || leftovers(&office.path("archive")).pop());
    fs::rename(office.path("office/in/survey.t"), office.path("office/in/survey.raw")).unwrap();
    wait_for("it arrives under its name", || office.path("archive/survey.raw").exists().then_some(()));
    office.wait_idle();
    assert!(office.holds().is_empty(), "{:?}", office.holds());
    assert_eq!(names(&office.path("archive")), ["survey.raw"]);
    assert!(leftovers(&office.path("archive")).is_empty(), "nothing of it is left aside");
    assert!(office.json(&["run", "show", "1"]).to_string().contains("gone before its turn"));
}
