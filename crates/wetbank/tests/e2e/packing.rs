//! Many files into one and one into many, through the real binary.

use std::{fs, process::Command};

use crate::support::{Office, PLACES, leftovers, names, office, wait_for};
use serde_json::Value;

fn items(office: &Office, rule: &str) -> Vec<Value> {
    let runs = office.json(&["run", "list", "--rule", rule])["runs"].as_array().unwrap().clone();
    let show = |run: &Value| office.json(&["run", "show", &run["id"].to_string()])["items"].as_array().unwrap().clone();
    runs.iter().flat_map(show).collect()
}

fn of_kind<'i>(items: &'i [Value], kind: &str) -> Vec<&'i Value> {
    items.iter().filter(|item| item["kind"] == kind).collect()
}

/// What a program of the machine finds in an archive.
fn listed(office: &Office, archive: &str) -> Vec<String> {
    let script = "import sys, zipfile\nz = zipfile.ZipFile(sys.argv[1])\nassert z.testzip() is None\nprint('\\n'.join(sorted(z.namelist())))";
    let output = Command::new("python3").args(["-c", script]).arg(office.path(archive)).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8_lossy(&output.stdout).lines().map(str::to_owned).collect()
}

const NIGHTLY: &str = r#"
[rule.nightly]
starts = { hand = {} }
finds = [ { place = "office", folder = "out", names = ["*.csv"], below = true } ]
[[rule.nightly.branch]]
steps = [
  { pack = { as = "readings-{{ today }}.zip", folders = true } },
  { deliver = { to = "archive", folder = "{{ now | date('%Y') }}" } },
]
original = { move-to = "/sent" }
"#;

#[test]
fn the_files_of_a_run_travel_as_one_and_only_then_are_set_aside() {
    let office = office(NIGHTLY);
    for name in ["gauge-07.csv", "gauge-08.csv", "huts/gauge-09.csv"] {
        office.put(&format!("office/out/{name}"), name.as_bytes());
    }
    office.put("office/out/readme.txt", b"stays");
    let output = office.wetbank(&["rule", "run", "nightly"]);
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    let now = jiff::Zoned::now().with_time_zone(jiff::tz::TimeZone::UTC);
    let zip = format!("archive/{}/readings-{}.zip", now.year(), now.date());
    assert_eq!(listed(&office, &zip), ["gauge-07.csv", "gauge-08.csv", "huts/gauge-09.csv"]);
    assert_eq!(names(&office.path("office/sent")), ["gauge-07.csv", "gauge-08.csv", "gauge-09.csv"]);
    assert_eq!(names(&office.path("office/out")), ["huts", "readme.txt"]);
    let items = items(&office, "nightly");
    assert_eq!(of_kind(&items, "file").len(), 3);
    let made = of_kind(&items, "made");
    assert_eq!(made.len(), 1);
    assert_eq!(made[0]["attempts"][0]["message"], "3 files");
    assert!(items.iter().all(|item| item["state"] == "done"));
    assert!(leftovers(office.folder.path()).is_empty());
    office.wait_work_cleared();
}

#[test]
fn a_pack_that_is_not_delivered_leaves_every_original_where_it_is() {
    let office = office(NIGHTLY);
    office.put("office/out/gauge-07.csv", b"one");
    office.put("office/out/gauge-08.csv", b"two");
    let now = jiff::Zoned::now().with_time_zone(jiff::tz::TimeZone::UTC);
    let zip = format!("archive/{}/readings-{}.zip", now.year(), now.date());
    office.put(&zip, b"was there before");
    assert_eq!(office.wetbank(&["rule", "run", "nightly"]).status.code(), Some(1));
    let hold = office.hold();
    assert_eq!((hold["code"].as_str(), hold["step"].as_str()), (Some("exists"), Some("deliver")));
    assert_eq!(names(&office.path("office/out")), ["gauge-07.csv", "gauge-08.csv"]);
    // Given up, the files themselves are left alone, and say why.
    office.json(&["hold", "dismiss", &hold["item"].to_string(), "--why", "sent by post"]);
    office.wait_idle();
    let items = items(&office, "nightly");
    for file in of_kind(&items, "file") {
        assert_eq!(file["state"], "skipped");
        assert!(file["why"].as_str().unwrap().contains("sent by post"), "{file}");
    }
    assert_eq!(names(&office.path("office/out")), ["gauge-07.csv", "gauge-08.csv"]);
    // And the next run packs them anew.
    fs::remove_file(office.path(&zip)).unwrap();
    assert!(office.wetbank(&["rule", "run", "nightly"]).status.success());
    assert_eq!(listed(&office, &zip).len(), 2);
}

#[test]
fn a_held_file_keeps_the_pack_waiting_unless_the_rule_goes_on_without_it() {
    let rule = |name: &str, fault: &str| {
        format!(
            "[rule.{name}]\nstarts = {{ hand = {{}} }}\n{fault}finds = [ {{ place = \"office\", folder = \"{name}\" }} ]\n\
             [[rule.{name}.branch]]\nsteps = [\n  {{ hold = {{ why = \"look\" }}, if = {{ file = \"name\", starts-with = \"odd\" }} }},\n  \
             {{ pack = {{ as = \"{name}.zip\" }} }},\n  {{ copy = {{ to = \"archive\" }} }},\n]\n"
        )
    };
    let office = office(&format!("{}{}", rule("waits", ""), rule("goes-on", "on-fault = \"go-on\"\n")));
    for folder in ["waits", "goes-on"] {
        for name in ["odd.csv", "gauge-07.csv", "gauge-08.csv"] {
            office.put(&format!("office/{folder}/{name}"), b"one");
        }
        assert_eq!(office.wetbank(&["rule", "run", folder]).status.code(), Some(1));
    }
    wait_for("it goes on without the odd one", || office.path("archive/goes-on.zip").exists().then_some(()));
    assert_eq!(listed(&office, "archive/goes-on.zip"), ["gauge-07.csv", "gauge-08.csv"]);
    assert!(!office.path("archive/waits.zip").exists());
    let odd = office.holds().into_iter().find(|hold| hold["rule"] == "waits").unwrap();
    office.json(&["hold", "release", &odd["item"].to_string()]);
    wait_for("the pack is whole", || office.path("archive/waits.zip").exists().then_some(()));
    assert_eq!(listed(&office, "archive/waits.zip").len(), 3);
}

#[test]
fn a_stopped_run_packs_nothing_even_if_its_rule_goes_on_without_held_files() {
    let office = office(
        r#"
[place.away]
kind = "sftp"
host = "127.0.0.1"
port = 9
user = "merrow"
password = { secret = "away" }

[rule.later]
starts = { arrival = { place = "office", folder = "in" } }
[[rule.later.branch]]
steps = [ { copy = { to = "archive" } } ]

[rule.parcel]
starts = { hand = {} }
on-fault = "go-on"
finds = [ { place = "office", folder = "out" } ]
[[rule.parcel.branch]]
steps = [
  { copy = { to = "away" }, if = { file = "name", starts-with = "odd" } },
  { pack = { as = "parcel.zip" } },
  { copy = { to = "archive" } },
]
"#,
    );
    assert!(office.wetbank_with(&["secret", "set", "away"], "grey heron").status.success());
    for name in ["odd.csv", "gauge-07.csv", "gauge-08.csv"] {
        office.put(&format!("office/out/{name}"), b"one");
    }
    office.json(&["rule", "run", "parcel", "--detach"]);
    wait_for("all but one wait for it", || (office.json(&["status"])["joining"] == 2).then_some(()));
    let run = office.runs()[0]["id"].to_string();
    assert_eq!(office.json(&["run", "stop", &run])["held"], 1);
    let hold = office.hold();
    assert_eq!(hold["code"], "stopped");
    // Whatever the stop set off is queued before what comes now.
    office.put("office/in/later.csv", b"later");
    wait_for("the rest of the work", || office.path("archive/later.csv").exists().then_some(()));
    fs::remove_file(office.path("archive/later.csv")).unwrap();
    assert!(names(&office.path("archive")).is_empty());
    office.json(&["hold", "dismiss", &hold["item"].to_string(), "--why", "not wanted"]);
    wait_for("the others go on", || office.path("archive/parcel.zip").exists().then_some(()));
    assert_eq!(listed(&office, "archive/parcel.zip"), ["gauge-07.csv", "gauge-08.csv"]);
}

#[test]
fn a_numbered_pack_that_failed_is_packed_again_under_its_number() {
    let office = office(
        r#"
[rule.numbered]
starts = { hand = {} }
finds = [ { place = "office", folder = "out" } ]
[[rule.numbered.branch]]
steps = [
  { hold = { why = "look" }, if = { file = "name", starts-with = "odd" } },
  { pack = { as = "{{ count | pad(4) }}.zip" } },
  { copy = { to = "archive", as = "{{ count | pad(4) }}-{{ file.name }}" } },
]
"#,
    );
    for name in ["odd.csv", "gauge-07.csv"] {
        office.put(&format!("office/out/{name}"), b"one");
    }
    let (file, elsewhere) = (office.path("office/out/gauge-07.csv"), office.path("gauge-07.csv"));
    assert_eq!(office.wetbank(&["rule", "run", "numbered"]).status.code(), Some(1));
    fs::rename(&file, &elsewhere).unwrap();
    office.json(&["hold", "release", &office.hold()["item"].to_string()]);
    let hold = wait_for("the pack fails", || office.holds().into_iter().find(|hold| hold["step"] == "pack"));
    fs::rename(&elsewhere, &file).unwrap();
    office.json(&["hold", "release", &hold["item"].to_string()]);
    wait_for("the pack is made", || office.path("archive/0001-0001.zip").exists().then_some(()));
    assert_eq!(listed(&office, "archive/0001-0001.zip").len(), 2);
    office.wait_idle();
}

#[test]
fn each_file_of_an_archive_goes_on_by_itself_and_the_archive_only_after_them() {
    let rule = r#"
[rule.opens]
starts = { arrival = { place = "office", folder = "in", names = ["*.zip"] } }
[[rule.opens.branch]]
steps = [
  { unpack = { passphrase = { secret = "tide" } } },
  { compress = {}, if = { file = "extension", is = "csv" } },
  { copy = { to = "archive", folder = "{{ file.folder }}" } },
]
original = "delete"
"#;
    let office = office(rule);
    assert!(office.wetbank_with(&["secret", "set", "tide"], "grey heron").status.success());
    let sealed = r#"
[rule.seals]
starts = { hand = {} }
finds = [ { place = "office", folder = "out", below = true } ]
[[rule.seals.branch]]
steps = [ { pack = { as = "sealed.zip", folders = true, passphrase = { secret = "tide" } } }, { copy = { folder = "in" } } ]
"#;
    office.put("office/out/gauge-07.csv", b"06:00;1.20\n");
    office.put("office/out/boats/sounding-B12.xyz", b"1 2 3");
    office.book(&format!("{PLACES}{rule}{sealed}"));
    assert!(office.wetbank(&["rule", "run", "seals"]).status.success());
    wait_for("the archive is gone", || names(&office.path("office/in")).is_empty().then_some(()));
    office.wait_idle();
    assert_eq!(names(&office.path("archive/in/sealed.zip")), ["boats", "gauge-07.csv.gz"]);
    assert_eq!(fs::read(office.path("archive/in/sealed.zip/boats/sounding-B12.xyz")).unwrap(), b"1 2 3");
    let unzipped = Command::new("gzip").arg("-dc").arg(office.path("archive/in/sealed.zip/gauge-07.csv.gz")).output();
    assert_eq!(unzipped.unwrap().stdout, b"06:00;1.20\n");
    let items = items(&office, "opens");
    assert_eq!(of_kind(&items, "part").len(), 2);
    assert!(items.iter().all(|item| item["state"] == "done"), "{items:?}");
    office.wait_work_cleared();
    // What an archive must not hold is refused whole, and the archive stays.
    assert!(office.wetbank_with(&["secret", "set", "tide"], "white heron").status.success());
    fs::create_dir_all(office.path("office/in")).unwrap();
    assert!(office.wetbank(&["rule", "run", "seals", "--all"]).status.success());
    assert!(office.wetbank_with(&["secret", "set", "tide"], "grey heron").status.success());
    let script = "import sys, zipfile\nz = zipfile.ZipFile(sys.argv[1], 'w')\nz.writestr('ok.csv', '1')\nz.writestr('../escape.csv', '1')";
    let evil = office.path("evil.zip");
    assert!(Command::new("python3").args(["-c", script]).arg(&evil).status().unwrap().success());
    office.put("office/in/evil.zip", &fs::read(&evil).unwrap());
    let hold = wait_for("it is held", || office.holds().into_iter().find(|hold| hold["code"] == "unsafe-archive"));
    assert!(hold["why"].as_str().unwrap().contains("\"../escape.csv\""), "{hold}");
    assert!(office.path("office/in/evil.zip").exists());
    assert!(!office.path("archive/in/evil.zip").exists() && !office.path("office/escape.csv").exists());
}

#[test]
fn a_list_of_checksums_is_made_that_other_programs_check_and_one_is_checked() {
    let rules = r#"
[rule.lists]
starts = { hand = {} }
finds = [ { place = "office", folder = "out", names = ["*.csv"] } ]
[[rule.lists.branch]]
steps = [ { copy = { to = "archive" } }, { manifest = {} }, { copy = { to = "archive", exists = "replace" } } ]
[rule.checks]
starts = { hand = {} }
finds = [ { place = "archive", names = ["*.csv"] } ]
[[rule.checks.branch]]
steps = [ { check-manifest = {} } ]
"#;
    let office = office(rules);
    office.put("office/out/gauge-07.csv", b"one");
    office.put("office/out/a b.csv", b"two");
    assert!(office.wetbank(&["rule", "run", "lists"]).status.success());
    let output = Command::new("sha256sum")
        .args(["--check", "--strict", "SHA256SUMS"])
        .current_dir(office.path("archive"))
        .output();
    let output = output.unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    assert_eq!(String::from_utf8_lossy(&output.stdout).lines().count(), 2);
    assert!(office.wetbank(&["rule", "run", "checks"]).status.success());
    fs::write(office.path("archive/gauge-07.csv"), "changed").unwrap();
    office.put("archive/new.csv", b"not listed");
    assert_eq!(office.wetbank(&["rule", "run", "checks"]).status.code(), Some(1));
    let codes: Vec<_> = office.holds().iter().map(|hold| hold["code"].as_str().unwrap().to_owned()).collect();
    assert_eq!(codes.len(), 2);
    assert!(codes.contains(&"checksum".to_owned()) && codes.contains(&"not-listed".to_owned()), "{codes:?}");
}

#[test]
fn killed_at_any_time_a_pack_is_delivered_once_and_whole() {
    let mut office = office(NIGHTLY);
    for number in 0..60 {
        office.put(&format!("office/out/gauge-{number:02}.csv"), &vec![b'x'; 200_000]);
    }
    let _ = office.wetbank(&["rule", "run", "nightly", "--detach"]);
    for pause in [30, 60, 90, 120, 150, 200] {
        std::thread::sleep(std::time::Duration::from_millis(pause));
        office.kill();
        assert!(
            names(&office.path("office/sent")).is_empty() || !names(&office.path("archive")).is_empty(),
            "an original went first"
        );
        office.start();
    }
    office.wait_idle();
    let now = jiff::Zoned::now().with_time_zone(jiff::tz::TimeZone::UTC);
    let folder = office.path("archive").join(now.year().to_string());
    assert_eq!(names(&folder), [format!("readings-{}.zip", now.date())]);
    let zip = format!("archive/{}/readings-{}.zip", now.year(), now.date());
    assert_eq!(listed(&office, &zip).len(), 60);
    assert_eq!(names(&office.path("office/sent")).len(), 60);
    assert!(office.holds().is_empty());
    assert!(leftovers(office.folder.path()).is_empty());
}
