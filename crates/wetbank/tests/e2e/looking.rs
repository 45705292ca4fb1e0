//! A rule that cannot look where its files come says so, and looks again by itself.

use std::{fs, os::unix::fs::PermissionsExt, process::Command};

use crate::support::{Office, names, office, servers::Scene, wait_for};
use serde_json::Value;
use wetbank_testbed::SmallDisk;

const TAKES: &str = r#"
[rule.takes]
starts = { arrival = { place = "office", folder = "in" } }
[[rule.takes.branch]]
steps = [ { copy = { to = "archive" } } ]
"#;

fn warnings(office: &Office) -> Vec<String> {
    let status = office.json(&["status"]);
    status["warnings"].as_array().unwrap().iter().map(|one| one["what"].as_str().unwrap().to_owned()).collect()
}

fn troubles(office: &Office, rule: &str) -> Vec<Value> {
    office.json(&["rule", "show", rule])["troubles"].as_array().unwrap().clone()
}

fn told(office: &Office, text: &str) {
    wait_for(text, || warnings(office).iter().any(|warning| warning.contains(text)).then_some(()));
    let shown = office.wetbank(&["status"]);
    assert!(String::from_utf8_lossy(&shown.stdout).contains(text), "people read it too");
}

fn lifted(office: &Office, rule: &str) {
    wait_for("nothing is told any more", || {
        (warnings(office).is_empty() && troubles(office, rule).is_empty()).then_some(())
    });
}

fn takes(office: &Office, name: &str) {
    office.put(&format!("office/in/{name}"), name.as_bytes());
    wait_for("it is taken at once", || office.path(&format!("archive/{name}")).exists().then_some(()));
}

#[test]
fn a_folder_that_is_not_there_is_told_until_it_is_made() {
    let office = office(TAKES);
    told(&office, "office:/in cannot be looked through");
    assert!(troubles(&office, "takes")[0]["what"].as_str().unwrap().contains("it is not there"));
    takes(&office, "one.csv");
    lifted(&office, "takes");
}

#[test]
fn a_folder_that_is_removed_or_renamed_away_and_comes_back_is_watched_again_at_once() {
    let office = office(TAKES);
    fs::create_dir_all(office.path("office/in")).unwrap();
    takes(&office, "one.csv");
    fs::remove_dir_all(office.path("office/in")).unwrap();
    told(&office, "office:/in cannot be looked through");
    takes(&office, "two.csv");
    lifted(&office, "takes");
    fs::rename(office.path("office/in"), office.path("office/old")).unwrap();
    told(&office, "office:/in cannot be looked through");
    office.put("office/old/stranger.csv", b"not of this folder any more");
    takes(&office, "three.csv");
    lifted(&office, "takes");
    // The root of the place as well.
    fs::rename(office.path("office"), office.path("office-before")).unwrap();
    wait_for("the place is away", || {
        (office.json(&["status"])["places_away"] == serde_json::json!(["office"])).then_some(())
    });
    fs::create_dir_all(office.path("office/in")).unwrap();
    takes(&office, "four.csv");
    lifted(&office, "takes");
    assert_eq!(names(&office.path("archive")), ["four.csv", "one.csv", "three.csv", "two.csv"]);
}

#[test]
fn a_file_system_that_is_mounted_over_the_folder_is_watched_then() {
    let office = office(TAKES);
    fs::create_dir_all(office.path("office/in")).unwrap();
    takes(&office, "one.csv");
    let Some(_disk) = SmallDisk::over(&office.path("office/in"), 1024) else { return };
    takes(&office, "two.csv");
}

#[test]
fn a_folder_that_may_not_be_listed_on_a_server_is_told_until_it_may() {
    let scene = Scene::new();
    let (_machine, place) = crate::support::servers::sftp(&scene, "machine", "machine");
    let rule = TAKES.replace("place = \"office\"", "place = \"machine\", look-every = \"1s\"");
    scene.book(&[&place, &rule.replace("to = \"archive\"", "to = \"office\", folder = \"out\"")]);
    told(&scene.office, "machine:/in cannot be looked through");
    fs::create_dir_all(scene.office.path("machine/in")).unwrap();
    fs::set_permissions(scene.office.path("machine/in"), fs::Permissions::from_mode(0o755)).unwrap();
    lifted(&scene.office, "takes");
}

#[test]
fn a_journal_that_cannot_be_written_is_told_until_it_can_and_nothing_is_lost() {
    let office = office(TAKES);
    fs::create_dir_all(office.path("office/in")).unwrap();
    takes(&office, "one.csv");
    let script = "import sqlite3, sys, time\nc = sqlite3.connect(sys.argv[1], isolation_level=None)\nc.execute('BEGIN IMMEDIATE')\nprint('held', flush=True)\nsys.stdin.read()";
    let mut holder = Command::new("python3")
        .args(["-c", script])
        .arg(office.data().join("journal.db"))
        .stdin(std::process::Stdio::piped())
        .stdout(std::process::Stdio::piped())
        .spawn()
        .unwrap();
    std::io::Read::read_exact(holder.stdout.as_mut().unwrap(), &mut [0; 4]).unwrap();
    office.put("office/in/two.csv", b"two");
    told(&office, "the journal cannot be written since");
    let log = fs::read_to_string(office.path("log")).unwrap();
    assert!(log.len() < 20_000, "it is said once: {} bytes of log", log.len());
    drop(holder.stdin.take());
    assert!(holder.wait().unwrap().success());
    wait_for("the file is taken", || office.path("archive/two.csv").exists().then_some(()));
    lifted(&office, "takes");
}

#[test]
fn a_target_without_room_is_told_until_there_is_some() {
    let rule = TAKES
        .replace("[rule.takes]", "[rule.takes]\nretry = { attempts = 60, first = \"100ms\", longest = \"500ms\" }");
    let office = office(&rule);
    fs::create_dir_all(office.path("office/in")).unwrap();
    let Some(disk) = SmallDisk::over(&office.path("archive"), 128) else { return };
    office.put("office/in/large.csv", &vec![b'x'; 400 << 10]);
    told(&office, "there is no room in archive");
    disk.resize(4096);
    wait_for("it fits now", || office.path("archive/large.csv").exists().then_some(()));
    lifted(&office, "takes");
}
