//! Deliveries to a real OpenSSH server that goes away, changes, refuses or stalls.

use std::fs;

use crate::support::{Archive, Office, leftovers, names, servers::openssh, start_store, wait_for};
use wetbank_testbed::{Sshd, client_key};

const BOOK: &str = r#"
[place.office]
kind = "folder"
root = "@/office"

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
    let harbour = openssh(&office, &sshd, "harbour", "harbour");
    office.book(&format!("{BOOK}{harbour}"));
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

/// The file that is on its way is replaced by another of the same name.
fn replace(office: &Office) {
    office.put("office/aside", b"the next edition");
    fs::rename(office.path("office/aside"), office.path("office/out/survey.raw")).unwrap();
}

/// The new edition arrived, and nothing is left of the old one.
fn only_the_new_edition_arrived(office: &Office) {
    wait_for("the new edition", || office.path("harbour/survey.raw").exists().then_some(()));
    office.wait_idle();
    assert_eq!(fs::read(office.path("harbour/survey.raw")).unwrap(), b"the next edition");
    assert_eq!(names(&office.path("harbour")), ["survey.raw"]);
    assert!(leftovers(&office.path("harbour")).is_empty(), "of the old one nothing is left over");
    assert!(office.json(&["run", "show", "1"]).to_string().contains("replaced before its turn"));
}

#[test]
fn of_a_file_that_was_replaced_while_the_server_was_away_nothing_is_left_over() {
    let (office, mut sshd) = delivering();
    large(&office, "survey.raw");
    wait_under_way(&office);
    sshd.crash();
    wait_for("it waits", || (office.json(&["status"])["waiting"] == 1).then_some(()));
    replace(&office);
    wait_for("the log tells of what lies there", || {
        let log = fs::read_to_string(office.path("log")).unwrap();
        log.contains("a partial file could not be removed").then_some(())
    });
    assert_eq!(office.json(&["status"])["waiting"], 1, "it is waited for");
    assert_eq!(leftovers(&office.path("harbour")).len(), 1);
    sshd.go_on();
    only_the_new_edition_arrived(&office);
}

#[test]
fn of_a_file_that_was_replaced_while_the_service_was_down_nothing_is_left_over() {
    let (mut office, _sshd) = delivering();
    large(&office, "survey.raw");
    wait_under_way(&office);
    office.kill();
    replace(&office);
    assert_eq!(leftovers(&office.path("harbour")).len(), 1);
    office.start();
    only_the_new_edition_arrived(&office);
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
    let why = office.waits_for("harbour");
    assert!(why.contains("host key is not confirmed") && why.contains(&sshd.fingerprint), "{why}");
    assert!(!office.path("harbour/second.csv").exists());
    let confirmed = office.wetbank(&["place", "test", "harbour", "--confirm", &sshd.fingerprint]);
    assert!(confirmed.status.success(), "{}", String::from_utf8_lossy(&confirmed.stderr));
    wait_for("the second", || office.path("harbour/second.csv").exists().then_some(()));
}

#[test]
fn a_key_the_server_does_not_know_is_refused_by_name_and_a_new_secret_mends_it() {
    let (office, sshd) = delivering();
    let (stranger, unknown) = client_key(sshd.folder.path(), &["ecdsa"], "");
    assert!(office.wetbank_with(&["secret", "set", "harbour-ssh"], &unknown).status.success());
    office.put("office/out/a.csv", b"a");
    let why = office.waits_for("harbour");
    for word in ["sign-in was refused", "harbour-ssh"] {
        assert!(why.contains(word), "{why}");
    }
    assert!(office.path("office/out/a.csv").exists());
    sshd.authorize(&stranger);
    assert!(office.wetbank_with(&["secret", "set", "harbour-ssh"], &unknown).status.success());
    wait_for("the file", || office.path("harbour/a.csv").exists().then_some(()));
}

#[test]
fn a_refused_sign_in_is_the_same_whoever_met_it_first() {
    for somebody_was_first in [false, true] {
        let (office, sshd) = delivering();
        let (stranger, unknown) = client_key(sshd.folder.path(), &["ecdsa"], "");
        assert!(office.wetbank_with(&["secret", "set", "harbour-ssh"], &unknown).status.success());
        if somebody_was_first {
            assert!(!office.wetbank(&["place", "browse", "harbour:/"]).status.success());
        }
        office.put("office/out/a.csv", b"a");
        let why = office.waits_for("harbour");
        assert!(why.contains("sign-in was refused"), "{why}");
        sshd.authorize(&stranger);
        assert!(office.wetbank(&["place", "test", "harbour"]).status.success());
        wait_for("the file", || office.path("harbour/a.csv").exists().then_some(()));
    }
}

#[test]
fn a_stopped_run_is_held_with_its_file_in_place_and_goes_on_when_it_is_retried() {
    let (office, sshd) = delivering();
    let size = large(&office, "slow.raw");
    wait_under_way(&office);
    sshd.signal("STOP");
    let run = office.runs()[0]["id"].to_string();
    let stopped = office.json(&["run", "stop", &run]);
    assert_eq!(stopped["held"], 1);
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
fn what_is_told_of_a_stopped_run_is_what_is_on_record() {
    const FILES: usize = 150;
    const BOOK: &str = r#"
[place.office]
kind = "folder"
root = "@/office"

[place.archive]
kind = "folder"
root = "@/archive"
rate = "2 MB/s"

[rule.take]
starts = { hand = {} }
finds = [ { place = "office", folder = "in" } ]
[[rule.take.branch]]
steps = [ { copy = { to = "archive" } } ]
"#;
    let office = Office::open();
    fs::create_dir_all(office.path("archive")).unwrap();
    office.book(BOOK);
    for number in 0..FILES {
        office.put(&format!("office/in/{number}.csv"), &[7; 50_000]);
    }
    assert!(office.wetbank(&["rule", "run", "take", "--detach"]).status.success());
    let run = office.runs()[0]["id"].to_string();
    wait_for("some are done", || (names(&office.path("archive")).len() > 20).then_some(()));
    let told = office.json(&["run", "stop", &run]);
    let count = |what: &str| told[what].as_u64().unwrap() as usize;
    let items = office.json(&["run", "show", &run])["items"].as_array().unwrap().clone();
    let held = items.iter().filter(|item| item["state"] == "held").count();
    let expected = count("held")..=count("held") + count("stopping");
    assert!(expected.contains(&held), "{told}, and {held} are held");
    assert!(held > 0, "{told}");
    wait_for("the rest came to rest", || (office.json(&["status"])["working"] == 0).then_some(()));
    let held = usize::try_from(office.json(&["status"])["held"].as_i64().unwrap()).unwrap();
    assert!(expected.contains(&held), "{told}, and {held} are held");
    assert_eq!(office.json(&["run", "retry", &run])["items"], held);
    office.wait_idle();
    assert_eq!(names(&office.path("archive")).len(), FILES, "what was held as stopped goes on where it was");
}

#[test]
fn a_run_that_waits_for_a_server_can_be_stopped_and_dismissed() {
    let (office, mut sshd) = delivering();
    sshd.crash();
    office.put("office/out/a.csv", b"a");
    wait_for("it waits", || (office.json(&["status"])["waiting"] == 1).then_some(()));
    let run = office.runs()[0]["id"].to_string();
    assert_eq!(office.json(&["run", "stop", &run])["held"], 1);
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
    office.book(&(places + archive.place(&office, "archive").as_str() + rule));
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
