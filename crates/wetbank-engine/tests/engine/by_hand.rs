//! Files that a person picks: copied or moved, and a rule that is run on one of them.

use std::fs;

use wetbank_core::{HandDelivery, IfExists, ItemState, Name, RelPath};
use wetbank_engine::{Declined, EngineError};

use crate::support::{Office, branch, file, on_arrival};

fn delivery(folder: &str, to: &str, moves: bool) -> HandDelivery {
    HandDelivery {
        from: Name::new("office").unwrap(),
        folder: RelPath::parse(folder).unwrap(),
        to: file(to),
        moves,
        exists: IfExists::Refuse,
    }
}

fn paths(paths: &[&str]) -> Vec<RelPath> {
    paths.iter().map(|path| RelPath::parse(path).unwrap()).collect()
}

fn why(declined: Result<impl std::fmt::Debug, EngineError>) -> &'static str {
    match declined.unwrap_err() {
        EngineError::Declined(declined) => declined.code(),
        other => panic!("{other}"),
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn files_and_folders_are_copied_with_all_that_is_in_them() {
    let office = Office::new("").await;
    office.put("office/in/a.csv", "a");
    office.put("office/in/deep/er/b.csv", "b");
    office.put("office/in/left.csv", "not picked");
    let begun =
        office.engine.by_hand(&delivery("in", "archive:/kept", false), &paths(&["in/a.csv", "in/deep"]), "ove").await;
    assert_eq!(begun.unwrap().files, 2);
    office.at_rest(2).await;
    assert_eq!(
        (office.read("archive/kept/a.csv"), office.read("archive/kept/deep/er/b.csv")),
        ("a".into(), "b".into())
    );
    assert!(!office.is_there("archive/kept/left.csv"));
    assert!(office.is_there("office/in/a.csv"), "a copy leaves the original");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_moved_is_gone_here_and_a_taken_name_is_asked_about() {
    let office = Office::new("").await;
    office.put("office/in/a.csv", "a");
    office.put("office/in/b.csv", "ours");
    office.put("archive/b.csv", "theirs");
    office.engine.by_hand(&delivery("in", "archive:/", true), &paths(&["in/a.csv", "in/b.csv"]), "ove").await.unwrap();
    let items = office.at_rest(2).await;
    assert_eq!(items.iter().map(|item| item.state).collect::<Vec<_>>(), [ItemState::Done, ItemState::Held]);
    assert_eq!((office.names("office/in"), office.read("archive/b.csv")), (vec!["b.csv".to_owned()], "theirs".into()));
}

#[tokio::test(flavor = "multi_thread")]
async fn names_with_braces_are_names_and_no_placeholders() {
    let office = Office::new("").await;
    office.put("office/in/{{ now }}/{% a %}.csv", "odd");
    let picked = paths(&["in/{{ now }}/{% a %}.csv"]);
    office.engine.by_hand(&delivery("in", "archive:/{{ today }}", false), &picked, "ove").await.unwrap();
    assert_eq!(office.only().await.state, ItemState::Done);
    assert_eq!(office.read("archive/{{ today }}/{{ now }}/{% a %}.csv"), "odd");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_meant_is_refused_with_its_cause() {
    let office = Office::new("").await;
    office.put("office/in/a.csv", "a");
    std::os::unix::fs::symlink(office.path("office/in/a.csv"), office.path("office/in/link")).unwrap();
    let ask = async |from: &str, to: &str, picked: &str| {
        why(office.engine.by_hand(&delivery(from, to, false), &paths(&[picked]), "ove").await)
    };
    let same = ask("in", "office:/in", "in/a.csv").await;
    let outside = ask("in/deep", "archive:/", "in/a.csv").await;
    let link = ask("in", "archive:/", "in/link").await;
    assert_eq!(
        [same, outside, link],
        [
            Declined::SamePlace(file("a:/b")).code(),
            Declined::Outside { path: RelPath::root(), folder: RelPath::root() }.code(),
            Declined::NoFile { file: file("a:/b"), what: "" }.code(),
        ]
    );
    let missing = office.engine.by_hand(&delivery("in", "archive:/", false), &paths(&["in/none.csv"]), "ove").await;
    assert!(missing.unwrap_err().to_string().contains("none.csv"));
    assert!(office.items().await.is_empty(), "nothing was begun");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_that_is_still_written_is_not_picked() {
    let office = Office::new("").await;
    let writer = fs::File::create(office.path("office/in/a.csv")).unwrap();
    let picked = paths(&["in/a.csv"]);
    let refused = why(office.engine.by_hand(&delivery("in", "archive:/", true), &picked, "ove").await);
    assert_eq!(refused, Declined::OpenForWriting(file("a:/b")).code());
    drop(writer);
    office.engine.by_hand(&delivery("in", "archive:/", true), &picked, "ove").await.unwrap();
    assert_eq!(office.only().await.state, ItemState::Done);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_rule_is_run_on_one_file_again_and_not_on_one_it_does_not_take() {
    let rule = "[rule.keep]\nstarts = { arrival = { place = \"office\", folder = \"in\", names = [\"*.csv\"] } }\n\
                [[rule.keep.branch]]\nif = { file = \"size\", over = \"1 B\" }\nsteps = [ { copy = { to = \"archive\", exists = \"keep-both\" } } ]\n";
    let office = Office::new(rule).await;
    office.put("office/in/a.csv", "aa");
    office.only().await;
    office.engine.run_now("keep", &file("office:/in/a.csv")).await.unwrap();
    office.at_rest(2).await;
    assert_eq!(office.names("archive"), ["a (2).csv", "a.csv"]);
    office.put("office/in/small.csv", "x");
    office.at_rest(3).await;
    let refused = why(office.engine.run_now("keep", &file("office:/in/small.csv")).await);
    assert_eq!(refused, Declined::NotTaken { file: file("a:/b"), outcome: String::new() }.code());
    assert!(office.engine.run_now("none", &file("office:/in/a.csv")).await.is_err());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_rule_that_is_off_takes_nothing_and_takes_what_came_meanwhile_when_it_is_on() {
    let rule = on_arrival(&branch("{ copy = { to = \"archive\" } }"));
    let witness = rule.replace("rule.keep", "rule.witness").replace("archive", "harbour");
    let office = Office::new(&(rule + &witness)).await;
    office.engine.switch("keep", false).await.unwrap();
    office.put("office/in/a.csv", "a");
    office.only().await;
    assert_eq!((office.names("harbour").len(), office.names("archive").len()), (1, 0));
    office.engine.switch("keep", true).await.unwrap();
    assert!(office.at_rest(2).await.iter().all(|item| item.state == ItemState::Done));
    assert_eq!(office.names("archive"), ["a.csv"]);
    assert!(office.engine.switch("none", true).await.is_err());
}
