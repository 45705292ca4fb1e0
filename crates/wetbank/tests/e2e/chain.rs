//! Rules that are started by what other rules do.

use std::fs;

use crate::support::{Office, PLACES, names, wait_for};
use serde_json::Value;

const MORE: &str = r#"
[place.north]
kind = "folder"
root = "@/north"

[place.south]
kind = "folder"
root = "@/south"
"#;

fn office(rules: &str) -> Office {
    let office = Office::open();
    for place in ["north", "south", "archive"] {
        fs::create_dir_all(office.path(place)).unwrap();
    }
    office.book(&format!("{PLACES}{MORE}{rules}"));
    office
}

fn runs(office: &Office, rule: &str) -> Vec<Value> {
    office.json(&["run", "list", "--rule", rule])["runs"].as_array().unwrap().clone()
}

const GATHER: &str = r#"
[rule.gather]
starts = { hand = {} }
finds = [ { place = "north", only-new = true }, { place = "south", only-new = true } ]
[[rule.gather.branch]]
steps = [ { fetch = { to = "office", folder = "gathered", exists = "keep-both" } } ]
"#;

#[test]
fn a_rule_reacts_to_each_file_that_another_one_fetched_from_a_certain_place() {
    let office = office(&format!(
        "{GATHER}{}",
        r#"
[rule.forward]
starts = { chain = { after = ["fetched"], rules = ["gather"], from = ["north"] } }
[[rule.forward.branch]]
if = { chain = "from", is = "north" }
steps = [ { deliver = { to = "archive", folder = "{{ chain.rule }}/{{ chain.from }}" } } ]
original = "delete"
"#
    ));
    for number in 0..20 {
        office.put(&format!("north/gauge-{number:02}.csv"), b"north");
        office.put(&format!("south/hut-{number:02}.csv"), b"south");
    }
    assert!(office.wetbank(&["rule", "run", "gather"]).status.success());
    wait_for("all of the north is delivered", || {
        (names(&office.path("archive/gather/north")).len() == 20).then_some(())
    });
    office.wait_idle();
    assert_eq!(names(&office.path("office/gathered")).len(), 20, "what came from the south stays");
    assert!(names(&office.path("office/gathered")).iter().all(|name| name.starts_with("hut-")));
    let runs = runs(&office, "forward");
    assert_eq!(runs.len(), 20, "one run for each file");
    assert!(runs.iter().all(|run| run["cause"] == "chain" && run["state"] == "done"));
    // Run again, nothing is new, so nothing is fetched and nothing forwarded.
    assert!(office.wetbank(&["rule", "run", "gather"]).status.success());
    office.wait_idle();
    assert_eq!(self::runs(&office, "forward").len(), 20);
}

#[test]
fn a_rule_reacts_to_files_that_are_held_or_failed() {
    let office = office(
        r#"
[rule.careful]
starts = { arrival = { place = "office", folder = "in" } }
[[rule.careful.branch]]
if = { file = "name", starts-with = "odd" }
steps = [ { hold = { why = "odd" } } ]
[[rule.careful.branch]]
steps = [ { rename = { as = "taken" }, on-failure = [ { note = { text = "told" } } ] } ]
[rule.aside]
starts = { chain = { after = ["held", "failed"] } }
[[rule.aside.branch]]
steps = [ { copy = { to = "archive", folder = "{{ chain.event }}" } } ]
"#,
    );
    office.put("office/in/taken", b"there before");
    office.wait_idle();
    office.put("office/in/odd.csv", b"one");
    office.put("office/in/gauge-07.csv", b"two");
    wait_for("the held one is copied", || (names(&office.path("archive/held")) == ["odd.csv"]).then_some(()));
    wait_for("the failed one is copied", || {
        names(&office.path("archive/failed")).contains(&"gauge-07.csv".to_owned()).then_some(())
    });
}

#[test]
fn rules_that_start_each_other_in_a_circle_end_in_a_hold() {
    let rule = |name: &str, before: &str, folder: &str| {
        format!(
            "[rule.{name}]\nstarts = {{ chain = {{ after = [\"moved\"], rules = [\"{before}\"] }}, hand = {{}} }}\n\
             finds = [ {{ place = \"office\", folder = \"{before}\" }} ]\n\
             [[rule.{name}.branch]]\nsteps = [ {{ move = {{ to = \"office\", folder = \"{folder}\" }} }} ]\n"
        )
    };
    let office = office(&format!("{}{}{}", rule("a", "c", "a"), rule("b", "a", "b"), rule("c", "b", "c")));
    office.put("office/c/gauge-07.csv", b"one");
    let _ = office.wetbank(&["rule", "run", "a"]);
    let hold = office.hold();
    assert_eq!(hold["code"], "chain");
    assert!(hold["why"].as_str().unwrap().contains("round in a circle"), "{hold}");
    office.wait_idle();
    let folders = ["a", "b", "c"].map(|folder| names(&office.path(&format!("office/{folder}"))).len());
    assert_eq!(folders.iter().sum::<usize>(), 1, "the file is there once");
}

#[test]
fn what_was_begun_for_another_rule_is_not_lost_by_a_kill_and_not_done_twice() {
    let mut office = office(&format!(
        "{GATHER}{}",
        "[rule.forward]\nstarts = { chain = { after = [\"fetched\"] } }\n[[rule.forward.branch]]\nsteps = [ { copy = { to = \"archive\" } } ]\n"
    ));
    for number in 0..120 {
        office.put(&format!("north/gauge-{number:03}.csv"), format!("reading {number}").as_bytes());
    }
    let _ = office.wetbank(&["rule", "run", "gather", "--detach"]);
    for pause in [40, 80, 120, 60, 100] {
        std::thread::sleep(std::time::Duration::from_millis(pause));
        office.kill();
        office.start();
    }
    wait_for("all are forwarded", || (names(&office.path("archive")).len() >= 120).then_some(()));
    office.wait_idle();
    assert!(office.holds().is_empty(), "{:?}", office.holds());
    let forwarded = names(&office.path("archive"));
    assert_eq!(forwarded.len(), 120, "{forwarded:?}");
    let runs = office.json(&["run", "list", "--rule", "forward", "--limit", "500"])["runs"].as_array().unwrap().len();
    assert_eq!(runs, 120, "each fetched file started the rule once");
}

#[test]
fn a_chain_that_names_what_is_not_there_is_refused() {
    let office = office("");
    for (chain, said) in [
        ("{ after = [\"fetched\"], rules = [\"gathr\"] }", "unknown rule \"gathr\""),
        ("{ after = [\"fetched\"], rules = [\"wrong\"] }", "not started by itself"),
        ("{ after = [\"eaten\"] }", "unknown word \"eaten\""),
        ("{ after = [\"delivered\"], partners = [\"nobody\"] }", "unknown partner \"nobody\""),
    ] {
        let rule = format!(
            "{PLACES}{MORE}[rule.wrong]\nstarts = {{ chain = {chain} }}\n[[rule.wrong.branch]]\nsteps = [ {{ delete = {{}} }} ]\n"
        );
        let error = String::from_utf8_lossy(&office.try_book(&rule).stderr).into_owned();
        assert!(error.contains(said), "{chain}: {error}");
    }
}
