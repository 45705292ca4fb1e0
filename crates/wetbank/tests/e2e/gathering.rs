//! Files that start a rule together, again when they change, or when they go; and what is left of them.

use std::{fs, process::Command};

use crate::support::{Office, PLACES, names, wait_for};
use serde_json::Value;

fn office(rules: &str) -> Office {
    let office = Office::open();
    fs::create_dir_all(office.path("archive")).unwrap();
    fs::create_dir_all(office.path("office/out")).unwrap();
    office.book(&format!("{PLACES}{rules}"));
    office
}

/// A rule that packs what gathers.
fn parcel(gather: &str) -> Office {
    office(&format!(
        "[rule.parcel]\nstarts = {{ arrival = {{ place = \"office\", folder = \"out\", names = [\"*.csv\"], gather = {{ {gather} }} }} }}\n\
         [[rule.parcel.branch]]\nsteps = [ {{ pack = {{ as = \"parcel-{{{{ run.id }}}}.zip\" }} }}, {{ copy = {{ to = \"archive\" }} }} ]\n\
         original = {{ move-to = \"sent\" }}\n"
    ))
}

/// What is in the archives that were made, each sorted.
fn parcels(office: &Office) -> Vec<Vec<String>> {
    let script = "import sys, zipfile\nprint('\\n'.join(sorted(zipfile.ZipFile(sys.argv[1]).namelist())))";
    let listed = |name: String| {
        let output =
            Command::new("python3").args(["-c", script]).arg(office.path("archive").join(name)).output().unwrap();
        String::from_utf8_lossy(&output.stdout).lines().map(str::to_owned).collect()
    };
    // One that is still written is none yet.
    names(&office.path("archive")).into_iter().filter(|name| name.ends_with(".zip")).map(listed).collect()
}

#[test]
fn files_that_come_together_are_one_run_once_it_is_quiet() {
    let mut office = parcel("quiet = \"3s\"");
    office.put("office/out/a.csv", b"a");
    office.put("office/out/b.csv", b"b");
    // A stop forgets how long it was quiet, and no file.
    office.kill();
    office.start();
    office.put("office/out/c.csv", b"c");
    wait_for("they are packed", || (parcels(&office).len() == 1).then_some(()));
    assert_eq!(parcels(&office), [["a.csv", "b.csv", "c.csv"]]);
    wait_for("they are set aside", || (names(&office.path("office/out/sent")).len() == 3).then_some(()));
    assert_eq!(office.runs().len(), 1);
}

#[test]
fn so_many_at_a_time_are_one_run_and_the_rest_waits() {
    let office = parcel("count = 2");
    for name in ["a", "b", "c"] {
        office.put(&format!("office/out/{name}.csv"), name.as_bytes());
        wait_for("its turn", || (name != "b" || parcels(&office).len() == 1).then_some(()));
    }
    assert_eq!(parcels(&office), [["a.csv", "b.csv"]]);
    assert!(office.path("office/out/c.csv").exists());
    office.put("office/out/d.csv", b"d");
    wait_for("the second parcel", || (parcels(&office).len() == 2).then_some(()));
    assert_eq!(parcels(&office)[1], ["c.csv", "d.csv"], "the third waited for the fourth");
}

#[test]
fn a_marker_sets_off_what_waits_each_time_it_comes_anew() {
    let office = parcel("marker = \"ready.txt\"");
    let witness = "[rule.witness]\nstarts = { arrival = { place = \"office\", folder = \"out\", names = [\"c.csv\"] } }\n\
                   [[rule.witness.branch]]\nsteps = [ { copy = { to = \"archive\", as = \"seen\" } } ]\n";
    office.add(witness);
    office.put("office/out/a.csv", b"a");
    office.put("office/out/b.csv", b"b");
    office.put("office/out/ready.txt", b"one");
    wait_for("the parcel", || (parcels(&office).len() == 1).then_some(()));
    assert_eq!(parcels(&office), [["a.csv", "b.csv"]], "the first waited for the marker");
    office.put("office/out/c.csv", b"c");
    wait_for("it to be seen", || office.path("archive/seen").exists().then_some(()));
    assert_eq!(parcels(&office).len(), 1, "the same marker counts once");
    office.put("office/out/ready.txt", b"another");
    wait_for("the second parcel", || (parcels(&office).len() == 2).then_some(()));
    assert_eq!(parcels(&office)[1], ["c.csv"]);
    assert!(office.path("office/out/ready.txt").exists(), "a marker is no file of the run");
}

#[test]
fn a_set_waits_for_one_of_each() {
    let office = parcel("one-of-each = [\"gauge-*.csv\", \"tide-*.csv\"]");
    office.put("office/out/gauge-07.csv", b"a");
    office.put("office/out/gauge-08.csv", b"b");
    office.put("office/out/tide-1.csv", b"c");
    wait_for("the parcel", || (parcels(&office).len() == 1).then_some(()));
    assert_eq!(parcels(&office)[0].len(), 3, "the gauges waited for the tide");
}

fn notes(office: &Office, rule: &str) -> Vec<String> {
    let mut notes: Vec<(i64, String)> = Vec::new();
    for run in office.json(&["run", "list", "--rule", rule])["runs"].as_array().unwrap() {
        let shown = office.json(&["run", "show", &run["id"].to_string()]);
        for attempt in shown["items"][0]["attempts"].as_array().unwrap() {
            // What is only begun says nothing yet.
            notes.extend(attempt["message"].as_str().map(|note| (run["id"].as_i64().unwrap(), note.to_owned())));
        }
    }
    notes.sort();
    notes.into_iter().map(|(_, note)| note).collect()
}

#[test]
fn a_rule_starts_when_files_change_or_go_if_it_says_so_and_only_then() {
    let rules = r#"
[rule.changes]
starts = { arrival = { place = "office", folder = "out", of = ["changed", "gone"] } }
[[rule.changes.branch]]
title = "Gone"
if = { run = "event", is = "gone" }
steps = [ { note = { text = "{{ file.name }} is {{ run.event }}" } } ]
[[rule.changes.branch]]
steps = [ { note = { text = "{{ file.name }} has {{ run.event }} to {{ file.size }}" } } ]
"#;
    let mut office = office(rules);
    fs::create_dir_all(office.path("office/out")).unwrap();
    for name in ["a.csv", "b.csv"] {
        office.put(&format!("office/out/{name}"), b"1");
        wait_for("it is known", || {
            let explained = office.json(&["rule", "explain", &format!("office:/out/{name}")]);
            explained["rules"][0]["notes"].to_string().contains("knows the file as it is now").then_some(())
        });
    }
    assert!(office.runs().is_empty(), "what is new is only known");
    office.put("office/out/a.csv", b"22");
    wait_for("the change is noted", || (notes(&office, "changes").len() == 1).then_some(()));
    fs::remove_file(office.path("office/out/a.csv")).unwrap();
    wait_for("that it is gone is noted", || (notes(&office, "changes").len() == 2).then_some(()));
    // What goes while nobody looks is noticed at the next start.
    office.kill();
    fs::remove_file(office.path("office/out/b.csv")).unwrap();
    office.start();
    wait_for("the other one, too", || (notes(&office, "changes").len() == 3).then_some(()));
    assert_eq!(notes(&office, "changes"), ["a.csv has changed to 2", "a.csv is gone", "b.csv is gone"]);
}

#[test]
fn a_file_that_the_rule_takes_away_itself_is_not_gone() {
    let rules = r#"
[rule.both]
starts = { arrival = { place = "office", folder = "out", of = ["new", "gone"] } }
[[rule.both.branch]]
if = { run = "event", is = "gone" }
steps = [ { note = { text = "gone" } } ]
[[rule.both.branch]]
steps = [ { copy = { to = "archive" } } ]
original = "delete"
"#;
    let office = office(rules);
    office.put("office/out/a.csv", b"1");
    wait_for("it is taken", || (!office.path("office/out/a.csv").exists()).then_some(()));
    office.put("office/out/b.csv", b"1");
    wait_for("the next is taken", || (!office.path("office/out/b.csv").exists()).then_some(()));
    office.wait_idle();
    assert_eq!(office.runs().len(), 2, "whatever goes is seen before what comes later");
}

#[test]
fn an_original_is_marked_and_the_mark_is_no_new_file() {
    let rules = r#"
[rule.mark]
starts = { arrival = { place = "office", folder = "out" } }
[[rule.mark.branch]]
steps = [ { copy = { to = "archive" } } ]
original = { mark = "{{ file.name }}.done" }
"#;
    let mut office = office(rules);
    office.put("office/out/a.csv", b"1");
    wait_for("it is marked", || office.path("office/out/a.csv.done").exists().then_some(()));
    office.wait_idle();
    office.kill();
    office.start();
    office.put("office/out/b.csv", b"1");
    wait_for("the next is marked", || office.path("office/out/b.csv.done").exists().then_some(()));
    office.wait_idle();
    assert_eq!(names(&office.path("office/out")), ["a.csv", "a.csv.done", "b.csv", "b.csv.done"]);
    assert_eq!(fs::metadata(office.path("office/out/a.csv.done")).unwrap().len(), 0);
    assert_eq!(office.runs().len(), 2);
    assert_eq!(names(&office.path("archive")), ["a.csv", "b.csv"]);
}

#[test]
fn files_of_a_day_are_counted_however_often_a_step_is_tried() {
    let rules = r#"
[rule.count]
starts = { arrival = { place = "office", folder = "out" } }
[[rule.count.branch]]
steps = [ { copy = { to = "archive", folder = "{{ file.stem }}", as = "{{ count | pad(4) }}.csv" } } ]
original = "delete"
"#;
    let mut office = office(rules);
    fs::remove_dir(office.path("archive")).unwrap();
    for name in ["a", "b", "c"] {
        office.put(&format!("office/out/{name}.csv"), b"x");
    }
    wait_for("each waits for the place", || {
        (office.runs().len() == 3 && office.json(&["place", "show", "archive"])["state"] == "away").then_some(())
    });
    office.kill();
    fs::create_dir(office.path("archive")).unwrap();
    office.start();
    wait_for("all are taken", || names(&office.path("office/out")).is_empty().then_some(()));
    office.wait_idle();
    let mut numbers: Vec<String> =
        ["a", "b", "c"].iter().map(|name| names(&office.path(&format!("archive/{name}"))).join(",")).collect();
    numbers.sort();
    assert_eq!(numbers, ["0001.csv", "0002.csv", "0003.csv"]);
}

#[test]
fn a_file_and_its_signature_go_on_and_whoever_has_the_key_can_check_them() {
    let rules = r#"
[rule.sign]
starts = { arrival = { place = "office", folder = "out" } }
[[rule.sign.branch]]
steps = [ { sign = { by = "merrow" } }, { copy = { to = "archive" } } ]
original = { move-to = "sent" }

[rule.check]
starts = { arrival = { place = "archive", names = ["*.csv"] } }
retry = { attempts = 3, first = "1s" }
[[rule.check.branch]]
steps = [ { verify = { by = ["merrow"] } }, { copy = { to = "office", folder = "checked" } } ]
"#;
    let office = office("");
    office.import_key("merrow");
    office.book(&format!("{PLACES}{rules}"));
    office.put("office/out/assay.csv", b"3.5\n");
    wait_for("it is checked", || office.path("office/checked/assay.csv").exists().then_some(()));
    wait_for("the original is set aside", || office.path("office/out/sent/assay.csv").exists().then_some(()));
    assert_eq!(names(&office.path("archive")), ["assay.csv", "assay.csv.sig"]);
    let (file, signature) = (office.path("archive/assay.csv"), office.path("archive/assay.csv.sig"));
    let checked = Command::new("gpg")
        .arg("--homedir")
        .arg(office.path("gpg"))
        .args(["--batch", "--verify", signature.to_str().unwrap(), file.to_str().unwrap()])
        .output()
        .unwrap();
    assert!(checked.status.success(), "{}", String::from_utf8_lossy(&checked.stderr));
    // However many end at the same instant, each original is set aside.
    for number in 0..40 {
        office.put(&format!("office/out/{number}.csv"), b"3.5\n");
    }
    wait_for("all are set aside", || (names(&office.path("office/out")) == ["sent"]).then_some(()));
    wait_for("all are checked", || (names(&office.path("office/checked")).len() == 41).then_some(()));
    // One that was changed on its way is held, and so is one without a signature.
    office.put("archive/other.csv.sig", &fs::read(&signature).unwrap());
    office.put("archive/other.csv", b"3.6\n");
    let hold = office.hold();
    assert_eq!(hold["code"], "signature", "{hold}");
    office.put("archive/bare.csv", b"x");
    let holds = wait_for("both are held", || Some(office.holds()).filter(|holds: &Vec<Value>| holds.len() == 2));
    assert!(holds.iter().any(|hold| hold["code"] == "no-signature"), "{holds:?}");
    assert_eq!(names(&office.path("office/checked")).len(), 41);
}
