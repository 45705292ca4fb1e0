//! When a file counts as complete, in every kind of place that is watched.

use std::{
    fs,
    path::Path,
    time::{Duration, SystemTime},
};

use crate::support::{Office, names, wait_for};
use wetbank_testbed::{SHARE_NAME, SHARE_USER, Samba, ShareOffer, run};

const BOOK: &str = r#"
[place.office]
kind = "folder"
root = "@/office"

[place.archive]
kind = "folder"
root = "@/archive"

[rule.keep]
starts = { arrival = { place = "WATCHED", folder = "in", marker = "*.done" } }
[[rule.keep.branch]]
steps = [ { copy = { to = "archive" } } ]
"#;

/// Puts a file with its marker, of which both are modified so many seconds from now.
fn whole(folder: &Path, name: &str, content: &str, later: u64) {
    for (name, content) in [(name.to_owned(), content), (format!("{name}.done"), "")] {
        let path = folder.join(name);
        fs::write(&path, content).unwrap();
        modified(&path, later);
    }
}

fn modified(path: &Path, later: u64) {
    let time = SystemTime::now() + Duration::from_secs(later);
    fs::File::options().write(true).open(path).unwrap().set_modified(time).unwrap();
}

/// A file that says nothing is waited for; its marker, and a new marker for a new content, take it.
fn taken_with_its_marker(office: &Office, folder: &Path) {
    fs::write(folder.join("early.csv"), "half").unwrap();
    let archive = office.path("archive");
    // Each that is taken shows that the folder was looked at after what lay there before.
    for name in ["one.csv", "two.csv"] {
        whole(folder, name, "whole", 0);
        wait_for("a file with a marker", || archive.join(name).exists().then_some(()));
    }
    assert_eq!(names(&archive), ["one.csv", "two.csv"], "neither the one without a marker nor a marker");
    whole(folder, "early.csv", "all of it", 0);
    wait_for("the other one", || archive.join("early.csv").exists().then_some(()));
    assert_eq!(fs::read(archive.join("early.csv")).unwrap(), b"all of it");
    // The old marker says nothing about what was written after it.
    fs::write(folder.join("early.csv"), "begun anew").unwrap();
    modified(&folder.join("early.csv"), 5);
    for name in ["three.csv", "four.csv"] {
        whole(folder, name, "whole", 0);
        wait_for("a file with a marker", || archive.join(name).exists().then_some(()));
    }
    office.wait_idle();
    assert_eq!(office.runs().len(), 5);
}

#[test]
fn a_marker_tells_that_a_file_in_a_local_folder_is_complete() {
    let office = Office::open();
    for folder in ["office/in", "archive"] {
        fs::create_dir_all(office.path(folder)).unwrap();
    }
    office.book(&BOOK.replace("WATCHED", "office"));
    taken_with_its_marker(&office, &office.path("office/in"));
}

#[test]
fn a_marker_tells_that_a_file_on_a_share_is_complete() {
    let (office, samba) = (Office::open(), Samba::start(ShareOffer::Usual));
    fs::create_dir(samba.root.path().join("in")).unwrap();
    fs::create_dir_all(office.path("archive")).unwrap();
    assert!(office.wetbank_with(&["secret", "set", "files"], SHARE_USER.1).status.success());
    let share = format!(
        "[place.files]\nkind = \"share\"\nhost = '\\\\127.0.0.1:{}\\{SHARE_NAME}'\nuser = \"{}\"\npassword = {{ secret = \"files\" }}\n",
        samba.port, SHARE_USER.0
    );
    let rule = BOOK.replace("WATCHED", "files").replace("marker =", "look-every = \"200ms\", marker =");
    office.book(&(share + rule.as_str()));
    taken_with_its_marker(&office, &samba.root.path().join("in"));
}

#[test]
fn a_share_is_added_from_the_command_line_and_moves_files_both_ways() {
    let (office, samba) = (Office::open(), Samba::start(ShareOffer::OnlyEncrypted));
    fs::create_dir_all(office.path("office/out")).unwrap();
    office.book("[place.office]\nkind = \"folder\"\nroot = \"@/office\"\n");
    let host = format!("\\\\127.0.0.1:{}\\{SHARE_NAME}\\Field notes", samba.port);
    fs::create_dir(samba.root.path().join("Field notes")).unwrap();
    let words = ["place", "add", "files", "--kind", "share", "--host", &host, "--user", "MERROW\\merrow", "--password"];
    let added = office.wetbank_with(&words, SHARE_USER.1);
    let shown = String::from_utf8_lossy(&added.stdout).into_owned();
    assert!(added.status.success(), "{shown}{}", String::from_utf8_lossy(&added.stderr));
    assert!(shown.contains("SMB 3.1.1, AES-128-GCM") && shown.contains("signed in as MERROW\\merrow"), "{shown}");
    let content: Vec<u8> = (0..5_000_000_u32).map(|n| (n % 251) as u8).collect();
    office.put("office/out/survey.raw", &content);
    let moved = office.wetbank(&["place", "move", "office:/out/survey.raw", "files:/2026"]);
    assert!(moved.status.success(), "{}", String::from_utf8_lossy(&moved.stderr));
    let there = samba.root.path().join("Field notes/2026/survey.raw");
    wait_for("the file on the share", || there.exists().then_some(()));
    office.wait_idle();
    assert!(fs::read(&there).unwrap() == content && !office.path("office/out/survey.raw").exists());
    let me = run("id", &["-un"]);
    wait_for("who it belongs to is told", || {
        let browsed = String::from_utf8(office.wetbank(&["place", "browse", "files:/2026"]).stdout).unwrap();
        browsed.lines().any(|line| line.starts_with("survey.raw") && line.ends_with(me.trim())).then_some(())
    });
    let back = office.wetbank(&["place", "move", "files:/2026/survey.raw", "office:/back"]);
    assert!(back.status.success(), "{}", String::from_utf8_lossy(&back.stderr));
    let here = office.path("office/back/survey.raw");
    wait_for("the file to come back", || here.exists().then_some(()));
    office.wait_idle();
    assert!(fs::read(&here).unwrap() == content && !there.exists());
}

#[test]
fn a_place_says_how_often_is_tried_and_a_rule_may_say_otherwise() {
    let (office, mut samba) = (Office::open(), Samba::start(ShareOffer::ReadOnly));
    fs::create_dir_all(office.path("office/in")).unwrap();
    assert!(office.wetbank_with(&["secret", "set", "files"], SHARE_USER.1).status.success());
    let book = format!(
        "[place.office]\nkind = \"folder\"\nroot = \"@/office\"\n\n\
         [place.files]\nkind = \"share\"\nhost = \"127.0.0.1\"\nport = {}\nshare = \"{SHARE_NAME}\"\nuser = \"{}\"\n\
         password = {{ secret = \"files\" }}\ntimeout = \"1s\"\nretry = {{ attempts = 2, first = \"50ms\" }}\n\n\
         [rule.keep]\nstarts = {{ arrival = {{ place = \"office\", folder = \"in\" }} }}\n\
         [[rule.keep.branch]]\nsteps = [ {{ copy = {{ to = \"files\" }} }} ]\n",
        samba.port, SHARE_USER.0
    );
    office.book(&book);
    // A server that is there and never answers: each attempt ends after a second of silence.
    assert!(office.wetbank(&["place", "test", "files"]).status.success());
    samba.signal("STOP");
    office.put("office/in/a.csv", b"a");
    let hold = office.hold();
    assert!(hold["why"].as_str().unwrap().contains("2 attempts failed"), "{hold}");
    samba.signal("CONT");
    samba.crash();
}
