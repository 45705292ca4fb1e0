//! Why a rule would take a file, or would not, without anything being done.

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
        let (explanation, known) = &told.rules[0];
        assert_eq!(explanation.taken_by, Some(branch), "{explanation:?}");
        assert!(explanation.trigger.iter().all(|verdict| verdict.holds));
        assert_eq!(explanation.branches.len(), branch + 1, "no branch behind it is asked");
        assert!(known.is_some(), "it was taken already");
    }
    assert_eq!(office.names("archive"), ["a.csv"], "to explain is to do nothing");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_name_that_the_rule_does_not_ask_for_is_told() {
    let office = Office::new(RULES).await;
    office.put("office/in/notes.txt", "x");
    let told = office.engine.explain(&file("office:/in/notes.txt"), None).await.unwrap();
    let keep = &told.rules.iter().find(|(one, _)| one.rule == "keep").unwrap().0;
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
    assert!(told.rules[0].1.as_ref().is_some_and(|note| note.contains("not there")), "{:?}", told.rules[0].1);
}

#[tokio::test(flavor = "multi_thread")]
async fn places_and_rules_that_there_are_not_are_named() {
    let office = Office::new(RULES).await;
    let place = office.engine.explain(&file("attic:/a.csv"), None).await.unwrap_err().to_string();
    assert!(place.contains("attic"), "{place}");
    let rule = office.engine.explain(&file("office:/a.csv"), Some("kept")).await.unwrap_err().to_string();
    assert!(rule.contains("kept"), "{rule}");
}
