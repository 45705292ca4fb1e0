//! What a rule would do, without anything being done.

use std::{
    fs,
    time::{Duration, Instant},
};

use jiff::Timestamp;
use wetbank_core::ElsewiseKind;
use wetbank_engine::{Against, Keeping, Only, Over, Played, Proposed, Rehearsed, Show};

use crate::support::{Office, file};

const KEEP: &str = "[rule.keep]\nstarts = { arrival = { place = \"office\", folder = \"in\", names = [\"*.csv\"] } }\n\
    [[rule.keep.branch]]\ntitle = \"Readings\"\nsteps = [ { copy = { to = \"archive\", folder = \"{{ file.stem }}\" } } ]\n\
    original = { move-to = \"done\" }\n";

const ALL: Show = Show { only: Only::All, day: None, from: 0, most: 100 };

fn keep() -> Played {
    Played::InForce("keep".to_owned())
}

async fn rehearsed(office: &Office, played: Played, against: Against, over: Over) -> Rehearsed {
    office.engine.rehearse(played, against, over, ALL).await.unwrap()
}

/// Waits until so many arrivals are on record.
async fn on_record(office: &Office, count: i64) {
    let end = Instant::now() + Duration::from_secs(30);
    while office.engine.journal().arrivals_on_record().await.unwrap().1 != count {
        assert!(Instant::now() < end, "never {count} arrivals on record");
        tokio::time::sleep(Duration::from_millis(5)).await;
    }
}

/// Everything below the office, with what is in it.
fn everything(office: &Office) -> Vec<(String, String)> {
    fn walk(folder: &std::path::Path, found: &mut Vec<(String, String)>) {
        for entry in fs::read_dir(folder).unwrap() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                found.push((path.display().to_string(), String::new()));
                walk(&path, found);
            } else {
                found.push((path.display().to_string(), fs::read_to_string(&path).unwrap()));
            }
        }
    }
    let mut found = Vec::new();
    for place in ["office", "archive", "harbour"] {
        walk(&office.path(place), &mut found);
    }
    found.sort();
    found
}

#[tokio::test(flavor = "multi_thread")]
async fn one_file_is_told_with_its_exact_names_and_what_lies_at_the_target_and_nothing_is_touched() {
    let office = Office::new(KEEP).await;
    office.engine.switch("keep", false).await.unwrap();
    office.put("office/in/a.csv", "x");
    let before = everything(&office);
    let over = || Over::File(file("office:/in/a.csv"));
    let told = rehearsed(&office, keep(), Against::Nothing, over()).await;
    let one = &told.files[0];
    assert_eq!(one.after.steps[0].comes.as_ref().unwrap().at.to_string(), "archive:/a/a.csv");
    assert_eq!(one.found[0].as_deref(), Some("the folder a would be made"));
    assert_eq!(one.after.end.words(), "the original goes to office:/in/done/a.csv");
    assert_eq!(everything(&office), before);
    office.put("archive/a/a.csv", "older");
    let told = rehearsed(&office, keep(), Against::Nothing, over()).await;
    let found = told.files[0].found[0].clone().unwrap();
    assert!(found.contains("taken (5 B") && found.contains("wait for a person"), "{found}");
    let both = KEEP.replace("{{ file.stem }}\" }", "a\", exists = \"keep-both\" }");
    let draft = Played::Draft(Proposed::Text(both));
    let told = rehearsed(&office, draft, Against::InForce, over()).await;
    let found = told.files[0].found[0].clone().unwrap();
    assert!(found.ends_with("it would be named a (2).csv"), "{found}");
    assert!(office.items().await.is_empty(), "no run began");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_came_is_on_record_taken_or_not_and_two_versions_are_compared_over_it() {
    let office = Office::new(KEEP).await;
    for name in ["a.csv", "b.csv", "C.CSV", "notes.txt"] {
        office.put(&format!("office/in/{name}"), name);
    }
    office.at_rest(2).await;
    on_record(&office, 4).await;
    let over = || Over::Since(Timestamp::now() - jiff::SignedDuration::from_hours(1));
    let told = rehearsed(&office, keep(), Against::Nothing, over()).await;
    assert_eq!((told.counted.files, told.counted.ways.len()), (4, 2));
    // The same, but what is small waits, and texts are taken.
    let draft = "[rule.keep]\nstarts = { arrival = { place = \"office\", folder = \"in\" } }\n\
        [[rule.keep.branch]]\ntitle = \"Doubtful\"\nif = { file = \"name\", starts-with = \"b\" }\nsteps = [ { hold = { why = \"?\" } } ]\n\
        [[rule.keep.branch]]\ntitle = \"Readings\"\nsteps = [ { copy = { to = \"archive\", folder = \"{{ file.stem }}\" } } ]\n\
        original = { move-to = \"done\" }\n";
    let draft = Played::Draft(Proposed::Text(draft.to_owned()));
    let differing = Show { only: Only::Differing, ..ALL };
    let told = office.engine.rehearse(draft, Against::InForce, over(), differing).await.unwrap();
    let kinds: Vec<_> = told.counted.differing.iter().map(|(kind, files)| (*kind, *files)).collect();
    assert_eq!(kinds, [(ElsewiseKind::NewlyTaken, 2), (ElsewiseKind::ToAPerson, 1)]);
    let mut names: Vec<_> = told.files.iter().map(|one| one.file.name()).collect();
    names.sort();
    assert_eq!(names, ["C.CSV", "b.csv", "notes.txt"]);
    // Opened from the record it is the same, though the file went meanwhile; and what lies at its target is looked at.
    let id = told.files[0].arrival.unwrap();
    let again = rehearsed(&office, keep(), Against::Nothing, Over::Arrival(id)).await;
    assert_eq!(again.files[0].file.name(), told.files[0].file.name());
    let id = |name: &str| told.files.iter().find(|one| one.file.name() == name).unwrap().arrival.unwrap();
    let to_one = KEEP.replace("{{ file.stem }}", "one").replace("[\"*.csv\"]", "[\"*\"]");
    office.put("archive/one/notes.txt", "older");
    let draft = Played::Draft(Proposed::Text(to_one));
    let looked = rehearsed(&office, draft, Against::Nothing, Over::Arrival(id("notes.txt"))).await;
    assert!(looked.files[0].found[0].as_deref().unwrap().contains("is taken (5 B"), "{:?}", looked.files[0].found);
}

#[tokio::test(flavor = "multi_thread")]
async fn two_files_that_would_get_one_name_are_told() {
    let office = Office::new(KEEP).await;
    for name in ["monday.csv", "tuesday.csv", "wednesday.csv"] {
        office.put(&format!("office/later/{name}"), name);
    }
    let draft = |exists: &str| {
        let to = format!("copy = {{ to = \"archive\", as = \"week.csv\", exists = \"{exists}\" }}");
        let text = KEEP.replace("folder = \"in\"", "folder = \"later\"");
        Played::Draft(Proposed::Text(text.replace("copy = { to = \"archive\", folder = \"{{ file.stem }}\" }", &to)))
    };
    let told = rehearsed(&office, draft("refuse"), Against::Nothing, Over::Here).await;
    assert_eq!((told.counted.files, told.counted.same_names), (3, 2));
    let found: Vec<_> = told.files.iter().map(|one| one.found[0].clone().unwrap()).collect();
    assert_eq!(found[0], "the name is free");
    let first = &told.files[0].file.path;
    let second = format!("the name is free; the name that {first} gets, too: it would wait for a person");
    assert_eq!(found[1..], [second.clone(), second]);
    // Where it is said what is done then, nobody is asked.
    let told = rehearsed(&office, draft("replace"), Against::Nothing, Over::Here).await;
    assert_eq!(told.counted.same_names, 0);
    assert!(told.files[1].found[0].as_deref().unwrap().ends_with("that file would be replaced"));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_lies_there_is_listed_and_a_rule_that_looks_nowhere_says_so() {
    let office = Office::new(KEEP).await;
    office.engine.switch("keep", false).await.unwrap();
    office.put("office/in/a.csv", "x");
    office.put("office/in/deeper/b.csv", "x");
    let told = rehearsed(&office, keep(), Against::Nothing, Over::Here).await;
    assert_eq!(told.files.iter().map(|one| one.file.name()).collect::<Vec<_>>(), ["a.csv"]);
    let chained = "[rule.after]\nstarts = { chain = { after = [\"copied\"] } }\n[[rule.after.branch]]\nsteps = [ { note = { text = \"x\" } } ]\n";
    let draft = Played::Draft(Proposed::Text(chained.to_owned()));
    let error = office.engine.rehearse(draft, Against::Nothing, Over::Here, ALL).await.unwrap_err();
    assert!(error.to_string().contains("looks in no folder"), "{error}");
    let wrong = Played::Draft(Proposed::Text(KEEP.replace("archive", "attic")));
    let error = office.engine.rehearse(wrong, Against::Nothing, Over::Here, ALL).await.unwrap_err();
    assert!(error.to_string().contains("attic"), "{error}");
}

#[tokio::test(flavor = "multi_thread")]
async fn the_record_of_what_came_has_bounds_that_hold_at_once_and_after_a_start() {
    let office = Office::new(KEEP).await;
    for number in 0..20 {
        office.put(&format!("office/in/{number}.txt"), "x");
    }
    on_record(&office, 20).await;
    office.engine.keep(Keeping { days: 10, most: 5 }).await.unwrap();
    assert_eq!(office.engine.journal().arrivals_on_record().await.unwrap().1, 5);
    assert_eq!(office.engine.keeping().await.unwrap(), Keeping { days: 10, most: 5 });
    for wrong in [Keeping { days: 0, most: 5 }, Keeping { days: 5, most: 0 }, Keeping { days: 4_000, most: 5 }] {
        assert!(office.engine.keep(wrong).await.is_err(), "{wrong:?}");
    }
}
