//! Why a rule would take a file, or would not, without anything being done.

use std::fs;

use wetbank_core::ItemState;
use wetbank_engine::RuleOnFile;

use crate::support::{Office, file};

const RULES: &str = "[rule.keep]\nstarts = { arrival = { place = \"office\", folder = \"in\", names = [\"*.csv\"] } }\n\
    [[rule.keep.branch]]\ntitle = \"Large ones\"\nif = { file = \"size\", over = \"1 KiB\" }\nsteps = [ { hold = { why = \"large\" } } ]\n\
    [[rule.keep.branch]]\ntitle = \"The others\"\nsteps = [ { copy = { to = \"archive\" } } ]\n\
    [rule.other]\nstarts = { hand = {} }\nfinds = [ { place = \"harbour\" } ]\n[[rule.other.branch]]\nsteps = [ { copy = { to = \"archive\" } } ]\n";

#[tokio::test(flavor = "multi_thread")]
async fn each_test_is_told_with_what_was_found() {
    let office = Office::new("").await;
    office.put("office/in/a.csv", "small");
    office.put("office/in/b.csv", vec![b'x'; 2_000]);
    office.arrange(RULES).await;
    office.at_rest(2).await;
    for (name, branch) in [("a.csv", 1), ("b.csv", 0)] {
        let told = office.engine.explain(&file(&format!("office:/in/{name}")), Some("keep")).await.unwrap();
        let RuleOnFile { explanation, notes } = &told.rules[0];
        assert_eq!(explanation.taken_by, Some(branch), "{explanation:?}");
        assert!(explanation.trigger.iter().all(|verdict| verdict.holds));
        assert_eq!(explanation.branches.len(), branch + 1, "no branch behind it is asked");
        assert!(notes.iter().any(|note| note.contains("took this very file")), "{notes:?}");
    }
    assert_eq!(office.names("archive"), ["a.csv"], "to explain is to do nothing");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_name_that_the_rule_does_not_ask_for_is_told() {
    let office = Office::new(RULES).await;
    office.put("office/in/notes.txt", "x");
    let told = office.engine.explain(&file("office:/in/notes.txt"), None).await.unwrap();
    let keep = &told.rules.iter().find(|one| one.explanation.rule == "keep").unwrap().explanation;
    assert_eq!(keep.taken_by, None);
    let failed: Vec<_> = keep.trigger.iter().filter(|verdict| !verdict.holds).collect();
    assert_eq!(failed.len(), 1, "{failed:?}");
    assert!(failed[0].asked.contains("*.csv"), "{failed:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn of_a_file_that_is_not_there_names_are_compared() {
    let office = Office::new(RULES).await;
    let told = office.engine.explain(&file("office:/in/none.csv"), Some("keep")).await.unwrap();
    assert!(told.facts.is_none());
    assert!(told.rules[0].notes[0].contains("not there"), "{told:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn places_and_rules_that_there_are_not_are_named() {
    let office = Office::new(RULES).await;
    let place = office.engine.explain(&file("attic:/a.csv"), None).await.unwrap_err().to_string();
    assert!(place.contains("attic"), "{place}");
    let rule = office.engine.explain(&file("office:/a.csv"), Some("kept")).await.unwrap_err().to_string();
    assert!(rule.contains("kept"), "{rule}");
}

/// What is said of a file by the rule `keep`, besides its conditions.
async fn notes(office: &Office, path: &str) -> String {
    let told = office.engine.explain(&file(path), Some("keep")).await.unwrap();
    told.rules[0].notes.join("; ")
}

#[tokio::test(flavor = "multi_thread")]
async fn what_keeps_a_file_from_being_taken_is_told_whatever_it_is() {
    let arrival = |more: &str| {
        format!(
            "[rule.keep]\nstarts = {{ arrival = {{ place = \"office\", folder = \"in\"{more} }} }}\n\
             [[rule.keep.branch]]\nsteps = [ {{ copy = {{ to = \"archive\" }} }} ]\n"
        )
    };
    let office = Office::new(&arrival(", marker = \"*.done\"")).await;
    office.put("office/in/a.csv", "x");
    assert!(notes(&office, "office:/in/a.csv").await.contains("not there yet: in/a.csv.done"));
    office.arrange(&arrival(", settle = \"1h\"")).await;
    let settling = notes(&office, "office:/in/a.csv").await;
    assert!(settling.contains("must stay the same for 1 h"), "{settling}");
    let writer = fs::OpenOptions::new().append(true).open(office.path("office/in/a.csv")).unwrap();
    let open = notes(&office, "office:/in/a.csv").await;
    assert!(open.contains("open for writing"), "{open}");
    drop(writer);
    office.engine.switch("keep", false).await.unwrap();
    assert!(notes(&office, "office:/in/a.csv").await.contains("the rule is off"));
    office.arrange(
        "[rule.keep]\nzone = \"UTC\"\nstarts = { schedule = { at = \"06:00\" } }\nfinds = [ { place = \"office\", folder = \"in\" } ]\n\
         [[rule.keep.branch]]\nsteps = [ { copy = { to = \"archive\" } } ]\n",
    )
    .await;
    let scheduled = notes(&office, "office:/in/a.csv").await;
    assert!(scheduled.contains("does not watch: it looks") && scheduled.contains("06:00"), "{scheduled}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_that_another_rule_has_in_hand_and_a_place_that_is_away_are_told() {
    let held = "[rule.first]\nstarts = { arrival = { place = \"office\", folder = \"in\" } }\n\
        [[rule.first.branch]]\nsteps = [ { hold = { why = \"look at it\" } } ]\n";
    let office = Office::new(&format!("{held}{RULES}")).await;
    office.put("office/in/a.csv", "x");
    office.until("held", |items| items.iter().any(|item| item.state == ItemState::Held)).await;
    let claimed = notes(&office, "office:/in/a.csv").await;
    assert!(claimed.contains("the rule \"first\" has it in hand") && claimed.contains("held"), "{claimed}");
    fs::rename(office.path("office"), office.path("elsewhere")).unwrap();
    let away = office.engine.explain(&file("office:/in/a.csv"), Some("keep")).await;
    match away {
        // The folder that is the place's root went away.
        Ok(told) => assert!(told.facts.is_none() && !told.rules[0].notes.is_empty(), "{told:?}"),
        Err(error) => panic!("{error}"),
    }
}
