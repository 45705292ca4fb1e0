//! Deliveries to a real OpenSSH server that goes away, changes, refuses or stalls.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

mod support;

use std::fs;

use support::{Archive, Office, leftovers, names, start_store, wait_for};
use wetbank_testbed::{Sshd, client_key};

const BOOK: &str = r#"
[place.office]
kind = "folder"
root = "@/office"

[place.harbour]
kind = "sftp"
host = "127.0.0.1"
port = PORT
user = "USER"
key = { secret = "harbour-ssh" }
host-key = "HOSTKEY"
root = "@/harbour"

[rule.send]
starts = { arrival = { place = "office", folder = "out" } }
retry = { attempts = 20, first = "200ms", longest = "1s" }
[[rule.send.branch]]
steps = [ { deliver = { to = "harbour" } } ]
original = "delete"
"#;

/// An office that delivers to a server, and the server.
fn delivering() -> (Office, Sshd) {
    let (office, sshd) = (Office::open(), Sshd::start());
    fs::create_dir_all(office.path("office/out")).unwrap();
    fs::create_dir_all(office.path("harbour")).unwrap();
    let (file, key) = client_key(sshd.folder.path(), &["ed25519"], "");
    sshd.authorize(&file);
    assert!(office.wetbank_with(&["secret", "set", "harbour-ssh"], &key).status.success());
    let book = BOOK.replace("PORT", &sshd.address.port().to_string()).replace("USER", &sshd.user());
    office.book(&book.replace("HOSTKEY", &sshd.fingerprint));
    (office, sshd)
}

/// A file large enough to be caught on its way, and its size.
fn large(office: &Office, name: &str) -> u64 {
    let size = 192 << 20;
    let aside = office.path(&format!("office/out/.wetbank-{name}"));
    fs::File::create(&aside).unwrap().set_len(size).unwrap();
    fs::rename(aside, office.path(&format!("office/out/{name}"))).unwrap();
    size
}

/// Waits until some of a file is on the server, but not all of it.
fn wait_under_way(office: &Office) {
    wait_for("a part of the file on the server", || {
        let part = leftovers(&office.path("harbour")).into_iter().next()?;
        (fs::metadata(part).ok()?.len() > 1 << 20).then_some(())
    });
}

#[test]
fn a_server_gone_in_mid_file_is_waited_for_and_the_file_arrives_whole_when_it_is_back() {
    let (office, mut sshd) = delivering();
    let size = large(&office, "survey.raw");
    wait_under_way(&office);
    sshd.crash();
    wait_for("the place is known to be away", || {
        let away = office.json(&["status"])["places_away"].to_string();
        away.contains("harbour").then_some(())
    });
    office.put("office/out/later.csv", b"came while the server was away");
    assert!(office.path("office/out/survey.raw").exists(), "the original stays until its copy is committed");
    assert!(office.holds().is_empty(), "a server that is away is no fault of the file");
    sshd.go_on();
    wait_for("both files", || (names(&office.path("harbour")) == ["later.csv", "survey.raw"]).then_some(()));
    office.wait_idle();
    assert_eq!(fs::metadata(office.path("harbour/survey.raw")).unwrap().len(), size);
    assert!(names(&office.path("office/out")).is_empty());
}

#[test]
fn a_changed_host_key_stops_deliveries_until_a_person_confirms_the_new_one() {
    let (office, mut sshd) = delivering();
    office.put("office/out/first.csv", b"1");
    wait_for("the first", || office.path("harbour/first.csv").exists().then_some(()));
    office.wait_idle();
    sshd.crash();
    sshd.change_host_key();
    sshd.go_on();
    office.put("office/out/second.csv", b"2");
    let hold = office.hold();
    assert_eq!(hold["code"], "host-key");
    assert!(hold["why"].as_str().unwrap().contains(&sshd.fingerprint), "{hold}");
    assert!(!office.path("harbour/second.csv").exists());
    let confirmed = office.wetbank(&["place", "test", "harbour", "--confirm", &sshd.fingerprint]);
    assert!(confirmed.status.success(), "{}", String::from_utf8_lossy(&confirmed.stderr));
    office.json(&["hold", "release", &hold["item"].to_string()]);
    wait_for("the second", || office.path("harbour/second.csv").exists().then_some(()));
}

#[test]
fn a_key_the_server_does_not_know_is_refused_by_name_and_a_new_secret_mends_it() {
    let (office, sshd) = delivering();
    let (stranger, unknown) = client_key(sshd.folder.path(), &["ecdsa"], "");
    assert!(office.wetbank_with(&["secret", "set", "harbour-ssh"], &unknown).status.success());
    office.put("office/out/a.csv", b"a");
    let hold = office.hold();
    assert_eq!(hold["code"], "sign-in-refused");
    for word in ["harbour", "harbour-ssh"] {
        assert!(hold["why"].as_str().unwrap().contains(word), "{hold}");
    }
    assert!(hold["remedy"].as_str().unwrap().contains("wetbank secret set harbour-ssh"), "{hold}");
    assert!(office.path("office/out/a.csv").exists());
    sshd.authorize(&stranger);
    assert!(office.wetbank_with(&["secret", "set", "harbour-ssh"], &unknown).status.success());
    office.json(&["run", "retry", &hold["run"].to_string()]);
    wait_for("the file", || office.path("harbour/a.csv").exists().then_some(()));
}

#[test]
fn a_stopped_run_is_held_with_its_file_in_place_and_goes_on_when_it_is_retried() {
    let (office, sshd) = delivering();
    let size = large(&office, "slow.raw");
    wait_under_way(&office);
    sshd.signal("STOP");
    let run = office.runs()[0]["id"].to_string();
    let stopped = office.json(&["run", "stop", &run]);
    assert_eq!(stopped["items"], 1);
    let hold = office.hold();
    assert_eq!(hold["code"], "stopped");
    assert!(office.path("office/out/slow.raw").exists());
    let again = office.wetbank(&["run", "stop", &run]);
    assert_eq!(again.status.code(), Some(2), "nothing goes on any more");
    sshd.signal("CONT");
    assert_eq!(office.json(&["run", "retry", &run])["items"], 1);
    wait_for("the file", || office.path("harbour/slow.raw").exists().then_some(()));
    office.wait_idle();
    assert_eq!(fs::metadata(office.path("harbour/slow.raw")).unwrap().len(), size);
    assert!(leftovers(&office.path("harbour")).is_empty());
    let nothing = office.wetbank(&["run", "retry", &run]);
    assert_eq!(nothing.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&nothing.stderr).contains("wetbank rule run"), "the remedy is named");
}

#[test]
fn a_run_that_waits_for_a_server_can_be_stopped_and_dismissed() {
    let (office, mut sshd) = delivering();
    sshd.crash();
    office.put("office/out/a.csv", b"a");
    wait_for("it waits", || (office.json(&["status"])["waiting"] == 1).then_some(()));
    let run = office.runs()[0]["id"].to_string();
    assert_eq!(office.json(&["run", "stop", &run])["items"], 1);
    let hold = office.hold();
    office.json(&["hold", "dismiss", &hold["item"].to_string(), "--why", "not wanted any more"]);
    sshd.go_on();
    office.put("office/out/b.csv", b"b");
    wait_for("the other file", || office.path("harbour/b.csv").exists().then_some(()));
    office.wait_idle();
    assert_eq!(names(&office.path("office/out")), ["a.csv"]);
    assert_eq!(names(&office.path("harbour")), ["b.csv"]);
}

#[test]
fn a_place_that_was_away_is_probed_used_again_by_itself_and_its_day_tells_it() {
    let (office, archive) = (Office::open(), Archive::open());
    let port: u16 = archive.url().rsplit(':').next().unwrap().parse().unwrap();
    fs::create_dir_all(office.path("office/in")).unwrap();
    let rule = r#"
[rule.keep]
starts = { arrival = { place = "office", folder = "in" } }
[[rule.keep.branch]]
steps = [ { copy = { to = "archive" } } ]
"#;
    let places = "[place.office]\nkind = \"folder\"\nroot = \"@/office\"\n".to_owned();
    office.book(&(places + &archive.place(&office, "archive") + rule));
    office.put("office/in/first.csv", b"levels");
    wait_for("the first file", || archive.object("first.csv"));
    office.wait_idle();
    let Archive { store, runtime } = archive;
    drop(store);
    for number in 0..40 {
        office.put(&format!("office/in/{number:02}.csv"), b"levels");
    }
    wait_for("all of them wait", || (office.json(&["status"])["waiting"] == 40).then_some(()));
    assert!(office.holds().is_empty(), "a file has no fault in that");
    let archive = wait_for("the archive is back", || start_store(&runtime, port).ok());
    wait_for("every file", || (archive.keys().len() == 40).then_some(()));
    office.wait_idle();
    let day: serde_json::Value = runtime.block_on(async {
        let asked = reqwest::Client::new().get(format!("{}/api/v1/places/archive/day", office.url()));
        asked.bearer_auth(office.token()).send().await.unwrap().json().await.unwrap()
    });
    let spans = day["spans"].as_array().unwrap();
    let states: Vec<_> = spans.iter().map(|span| span["state"].as_str().unwrap()).collect();
    assert!(states.ends_with(&["well", "away", "well"]), "{day:#}");
    assert!(spans[states.len() - 2]["why"].as_str().unwrap().contains("nothing listens at"), "{day:#}");
}
