//! Steps for some files only, failure paths, branches that go on in others, runs that stop.

use std::{fs, os::unix::fs::PermissionsExt};

use crate::support::{Office, PLACES, names, wait_for};
use serde_json::Value;

const CLOSED: &str = r#"
[place.closed]
kind = "folder"
root = "@/closed"
"#;

/// An office with an archive and a folder that nobody may write.
fn office(rules: &str) -> Office {
    let office = Office::open();
    fs::create_dir_all(office.path("archive")).unwrap();
    fs::create_dir_all(office.path("closed")).unwrap();
    // A name that is taken is a failure that lasts, also for those who may write anywhere.
    fs::write(office.path("closed/taken.csv"), "there").unwrap();
    fs::set_permissions(office.path("closed"), fs::Permissions::from_mode(0o755)).unwrap();
    office.book(&format!("{PLACES}{CLOSED}{rules}"));
    office
}

fn items(office: &Office, rule: &str) -> Vec<Value> {
    let runs = office.json(&["run", "list", "--rule", rule])["runs"].as_array().unwrap().clone();
    let show = |run: &Value| office.json(&["run", "show", &run["id"].to_string()])["items"].as_array().unwrap().clone();
    runs.iter().flat_map(show).filter(|item| item["kind"] == "file").collect()
}

/// The steps of an item with what became of them.
fn way(item: &Value) -> Vec<String> {
    let step = |step: &Value| format!("{} {}", step["kind"].as_str().unwrap(), step["state"].as_str().unwrap());
    item["steps"].as_array().unwrap().iter().map(step).collect()
}

#[test]
fn a_step_can_be_for_some_files_only_and_the_record_tells_why_it_was_left_out() {
    let office = office(
        r#"
[rule.sorted]
starts = { arrival = { place = "office", folder = "in" } }
[[rule.sorted.branch]]
steps = [
  { make-folder = { to = "archive", folder = "{{ file.modified | date('%Y') }}/kept" } },
  { copy = { to = "archive", folder = "large" }, if = { file = "size", over = "10 B" } },
  { copy = { to = "archive", folder = "small" }, if = { none = [ { file = "size", over = "10 B" } ] } },
  { note = { text = "{{ file.name }} came by {{ run.cause }}" } },
]
original = "delete"
"#,
    );
    office.put("office/in/tiny.csv", b"1");
    office.put("office/in/huge.csv", b"one hundred readings");
    wait_for("both are gone", || names(&office.path("office/in")).is_empty().then_some(()));
    office.wait_idle();
    assert_eq!(names(&office.path("archive/large")), ["huge.csv"]);
    assert_eq!(names(&office.path("archive/small")), ["tiny.csv"]);
    let year = jiff::Zoned::now().year().to_string();
    assert!(office.path("archive").join(year).join("kept").is_dir());
    let items = items(&office, "sorted");
    let tiny = items.iter().find(|item| item["file"] == "office:/in/tiny.csv").unwrap();
    assert_eq!(way(tiny), ["make-folder done", "copy skipped", "copy done", "note done", "original done"]);
    let said: Vec<&str> = tiny["attempts"].as_array().unwrap().iter().filter_map(|a| a["message"].as_str()).collect();
    assert!(said.contains(&"left out: it is for files where size over 10 B, here it is 1 B"), "{said:?}");
    assert!(said.contains(&"tiny.csv came by arrival"), "{said:?}");
}

#[test]
fn a_failure_path_does_what_was_arranged_and_the_file_is_not_held() {
    let office = office(
        r#"
[rule.handled]
starts = { arrival = { place = "office", folder = "in" } }
[[rule.handled.branch]]
steps = [
  { deliver = { to = "closed", as = "taken.csv" }, on-failure = [
      { note = { text = "{{ fault.step }}: {{ fault.why }}" } },
      { move = { folder = "failed" } },
  ] },
  { copy = { to = "archive", as = "never-{{ file.name }}" } },
]
[rule.goes-on]
starts = { arrival = { place = "office", folder = "on" } }
[[rule.goes-on.branch]]
steps = [
  { deliver = { to = "closed", as = "taken.csv" }, on-failure = [], then = "go-on" },
  { copy = { to = "archive" } },
]
original = "delete"
"#,
    );
    office.put("office/in/gauge-07.csv", b"one");
    office.put("office/on/gauge-08.csv", b"two");
    wait_for("it is set aside", || office.path("office/failed/gauge-07.csv").exists().then_some(()));
    wait_for("the other went on", || names(&office.path("office/on")).is_empty().then_some(()));
    office.wait_idle();
    assert!(office.holds().is_empty());
    assert_eq!(names(&office.path("archive")), ["gauge-08.csv"]);
    let handled = &items(&office, "handled")[0];
    assert_eq!(way(handled), ["deliver failed", "copy skipped", "note done", "move done"]);
    assert_eq!(handled["state"], "skipped");
    assert!(handled["why"].as_str().unwrap().starts_with("deliver: "), "{handled}");
    let on = &items(&office, "goes-on")[0];
    assert_eq!((on["state"].as_str(), way(on)[0].as_str()), (Some("done"), "deliver failed"));
}

#[test]
fn a_failure_path_that_fails_itself_holds_the_file_and_released_it_goes_on_there() {
    let office = office(
        r#"
[rule.twice]
starts = { arrival = { place = "office", folder = "in" } }
[[rule.twice.branch]]
steps = [ { deliver = { to = "closed", as = "taken.csv" }, on-failure = [ { copy = { to = "archive", as = "full" } } ] } ]
"#,
    );
    fs::write(office.path("archive/full"), "there").unwrap();
    office.put("office/in/gauge-07.csv", b"one");
    let hold = office.hold();
    assert_eq!(hold["step"], "copy");
    fs::remove_file(office.path("archive/full")).unwrap();
    office.json(&["hold", "release", &hold["item"].to_string()]);
    office.wait_idle();
    assert_eq!(fs::read(office.path("archive/full")).unwrap(), b"one");
    assert_eq!(items(&office, "twice")[0]["state"], "skipped");
}

#[test]
fn a_branch_can_hand_its_files_to_a_later_one() {
    let office = office(
        r#"
[rule.handed]
starts = { arrival = { place = "office", folder = "in" } }
[[rule.handed.branch]]
title = "Assays"
if = { file = "name", starts-with = "assay-" }
steps = [ { copy = { to = "archive", folder = "assays" } }, { continue = { branch = "Everything" } } ]
[[rule.handed.branch]]
title = "Everything"
steps = [ { copy = { to = "archive", folder = "all" } } ]
original = "delete"
"#,
    );
    office.put("office/in/assay-0412.csv", b"one");
    office.put("office/in/gauge-07.csv", b"two");
    wait_for("both are gone", || names(&office.path("office/in")).is_empty().then_some(()));
    office.wait_idle();
    assert_eq!(names(&office.path("archive/assays")), ["assay-0412.csv"]);
    assert_eq!(names(&office.path("archive/all")), ["assay-0412.csv", "gauge-07.csv"]);
    let back = r#"
[rule.back]
starts = { arrival = { place = "office", folder = "in" } }
[[rule.back.branch]]
title = "One"
steps = [ { continue = { branch = "One" } } ]
"#;
    let error = office.try_book(&format!("{PLACES}{CLOSED}{back}"));
    assert!(String::from_utf8_lossy(&error.stderr).contains("does not come later"));
}

#[test]
fn a_run_that_stops_at_the_first_fault_leaves_the_rest_for_the_next_run() {
    let office = office(
        r#"
[rule.stops]
starts = { hand = {} }
on-fault = "stop"
finds = [ { place = "office", folder = "in", only-new = true } ]
[[rule.stops.branch]]
title = "Bad"
if = { file = "name", starts-with = "a-" }
steps = [ { deliver = { to = "closed", as = "taken.csv" } } ]
[[rule.stops.branch]]
title = "Good"
steps = [ { hold = { why = "first" } } ]
"#,
    );
    // Far more than are worked on at once, so that some were not begun when the first failed.
    for number in 0..400 {
        office.put(&format!("office/in/a-{number:03}.csv"), b"one");
    }
    let output = office.wetbank(&["rule", "run", "stops"]);
    assert_eq!(output.status.code(), Some(1));
    let first = items(&office, "stops");
    let left = first.iter().filter(|item| item["state"] == "skipped").count();
    assert!(left > 0, "nothing was left for another run");
    let why = first.iter().find(|item| item["state"] == "skipped").unwrap()["why"].as_str().unwrap();
    assert!(why.starts_with("not begun, because office:/in/a-") && why.contains("is held"), "{why}");
    assert!(first.iter().all(|item| ["held", "skipped"].contains(&item["state"].as_str().unwrap())));
}
