//! What becomes of the original, and when.

use std::fs;

use wetbank_core::ItemState;
use wetbank_journal::ItemRecord;

use crate::support::{Office, by_hand};

fn rule(original: &str, steps: &str) -> String {
    by_hand("", &format!("[[rule.keep.branch]]\noriginal = {original}\nsteps = [ {steps} ]"))
}

const COPY: &str = "{ copy = { to = \"archive\" } }";

#[tokio::test(flavor = "multi_thread")]
async fn it_is_deleted_when_everything_is_done() {
    let office = Office::new(&rule("\"delete\"", COPY)).await;
    office.put("office/in/a.csv", "a");
    let item = office.run(1).await.remove(0);
    assert!(!office.is_there("office/in/a.csv"));
    assert_eq!(office.tried(&item).await.len(), 2, "its end is on record, too");
    assert_eq!(office.read("archive/a.csv"), "a");
}

#[tokio::test(flavor = "multi_thread")]
async fn it_stays_when_a_step_failed() {
    let office = Office::new(&rule("\"delete\"", COPY)).await;
    office.put("office/in/a.csv", "ours");
    office.put("archive/a.csv", "somebody else's");
    let item = office.run(1).await.remove(0);
    assert_eq!(item.state, ItemState::Held);
    assert_eq!(
        (office.read("office/in/a.csv"), office.read("archive/a.csv")),
        ("ours".to_owned(), "somebody else's".to_owned())
    );
}

#[tokio::test(flavor = "multi_thread")]
async fn one_that_was_replaced_while_its_file_was_held_is_not_taken_away_unseen() {
    let branches = "[[rule.keep.branch]]\noriginal = \"delete\"\nsteps = [ { copy = { to = \"harbour\" } }, { copy = { to = \"archive\" } } ]";
    let office = Office::new(&by_hand("", branches)).await;
    office.put("office/in/a.csv", "the first");
    office.take_name();
    let held = office.run(1).await.remove(0);
    office.free_name();
    office.put("office/in/a.csv", "the second one");
    office.engine.release(held.id).await.unwrap();
    let told = |item: &ItemRecord| item.why.as_deref().is_some_and(|why| why.contains("changed"));
    office.until("told", |items| told(&items[0])).await;
    assert_eq!(office.read("harbour/a.csv"), "the first");
    assert_eq!(office.read("office/in/a.csv"), "the second one", "nobody delivered that one");
}

#[tokio::test(flavor = "multi_thread")]
async fn it_is_set_aside_below_its_folder_or_below_the_root() {
    for (to, at) in [("sent/{{ file.extension }}", "office/in/sent/csv/a.csv"), ("/sent", "office/sent/a.csv")] {
        let office = Office::new(&rule(&format!("{{ move-to = \"{to}\" }}"), COPY)).await;
        office.put("office/in/a.csv", "a");
        assert_eq!(office.run(1).await[0].state, ItemState::Done);
        assert!(!office.is_there("office/in/a.csv"));
        assert_eq!(office.read(at), "a");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_taken_name_where_it_is_set_aside_loses_neither() {
    let office = Office::new(&rule("{ move-to = \"sent\" }", COPY)).await;
    office.put("office/in/sent/a.csv", "of last week");
    office.put("office/in/a.csv", "of today");
    office.run(1).await;
    let kept: Vec<_> =
        office.names("office/in/sent").iter().map(|name| office.read(&format!("office/in/sent/{name}"))).collect();
    assert!(kept.contains(&"of last week".to_owned()), "{kept:?}");
    assert!(kept.contains(&"of today".to_owned()) || office.read("office/in/a.csv") == "of today", "{kept:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn it_is_marked_by_an_empty_file_beside_it() {
    let office = Office::new(&rule("{ mark = \"{{ file.name }}.done\" }", COPY)).await;
    office.put("office/in/a.csv", "a");
    assert_eq!(office.run(1).await[0].state, ItemState::Done);
    assert_eq!(office.names("office/in"), ["a.csv", "a.csv.done"]);
    assert_eq!(fs::metadata(office.path("office/in/a.csv.done")).unwrap().len(), 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_step_moved_is_no_original_any_more() {
    let office = Office::new(&rule("\"delete\"", "{ move = { to = \"archive\" } }")).await;
    office.put("office/in/a.csv", "a");
    assert_eq!(office.run(1).await[0].state, ItemState::Done);
    assert_eq!(office.read("archive/a.csv"), "a", "the end took nothing away");
    assert!(office.names("office/in").is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_step_renames_it_or_removes_it() {
    let office = Office::new(&rule(
        "\"stays\"",
        "{ rename = { as = \"{{ file.stem }}.seen\" } }, { copy = { to = \"archive\" } }, { delete = {} }",
    ))
    .await;
    office.put("office/in/a.csv", "a");
    let item = office.run(1).await.remove(0);
    assert_eq!(item.state, ItemState::Done);
    assert_eq!((office.names("office/in").len(), office.names("archive")), (0, vec!["a.seen".to_owned()]));
    assert_eq!(office.tried(&item).await, ["rename done", "copy done", "delete done"]);
}
