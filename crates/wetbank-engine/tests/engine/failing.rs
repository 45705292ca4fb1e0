//! What fails: tried again, held, gone on with, done otherwise.

use std::fs;

use wetbank_core::ItemState;
use wetbank_journal::{ItemRecord, RunFilter};

use crate::support::{Office, branch, by_hand, states};

#[tokio::test(flavor = "multi_thread")]
async fn a_place_that_is_away_is_waited_for_and_the_file_arrives() {
    let office = Office::new(&by_hand("", &branch("{ copy = { to = \"archive\" } }"))).await;
    office.put("office/in/a.csv", "a");
    fs::rename(office.path("archive"), office.path("elsewhere")).unwrap();
    office.engine.run_rule("keep", true).await.unwrap();
    let waiting = |items: &[ItemRecord]| items.len() == 1 && items[0].state == ItemState::Waiting;
    let item = office.until("waiting", waiting).await.remove(0);
    assert!(item.due.is_some() && item.why.is_some_and(|why| why.contains("archive")));
    assert!(!office.is_there("archive"), "what is mounted there is not made up for by a folder of ours");
    fs::rename(office.path("elsewhere"), office.path("archive")).unwrap();
    // A person need not wait until it is tried again.
    let run = office.engine.journal().runs(&RunFilter { limit: 1, ..RunFilter::default() }).await.unwrap()[0].id;
    office.engine.retry_run(run, None).await.unwrap();
    assert_eq!((office.only().await.state, office.read("archive/a.csv")), (ItemState::Done, "a".to_owned()));
}

#[tokio::test(flavor = "multi_thread")]
async fn after_the_last_attempt_it_is_held_and_goes_on_when_a_person_says_so() {
    let office =
        Office::new(&by_hand("", &branch("{ copy = { to = \"harbour\" } }, { copy = { to = \"archive\" } }"))).await;
    office.put("office/in/a.csv", "a");
    office.take_name();
    let item = office.run(1).await.remove(0);
    assert_eq!(item.state, ItemState::Held);
    assert_eq!(office.tried(&item).await, ["copy done", "copy failed"]);
    let holds = office.engine.journal().holds(None, 10).await.unwrap();
    assert_eq!(holds.len(), 1);
    office.free_name();
    office.engine.release(item.id).await.unwrap();
    let item = office.only().await;
    assert_eq!(item.state, ItemState::Done);
    assert_eq!(office.tried(&item).await.len(), 3, "what was done is not done again");
    assert!(office.engine.journal().holds(None, 10).await.unwrap().is_empty());
    assert!(office.engine.release(item.id).await.is_err(), "it is held no more");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_failure_path_is_taken_and_knows_what_failed() {
    let steps = "{ copy = { to = \"archive\" }, on-failure = [ { copy = { to = \"harbour\", as = \"{{ fault.step }}-{{ file.name }}\" } } ] }, \
                 { note = { text = \"after\" } }";
    let office = Office::new(&by_hand("", &branch(steps))).await;
    office.put("office/in/a.csv", "a");
    office.take_name();
    let item = office.run(1).await.remove(0);
    assert_eq!(item.state, ItemState::Skipped, "its end is the path's");
    assert!(item.why.as_deref().is_some_and(|why| why.contains("taken")), "{:?}", item.why);
    assert_eq!(office.names("harbour"), ["copy-a.csv"]);
    assert_eq!(office.tried(&item).await, ["copy failed", "copy done"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_failure_path_that_goes_on_is_followed_by_the_next_step() {
    let steps = "{ copy = { to = \"archive\" }, on-failure = [ { copy = { to = \"harbour\" } } ], then = \"go-on\" }, { note = { text = \"after\" } }";
    let office = Office::new(&by_hand("", &branch(steps))).await;
    office.put("office/in/a.csv", "a");
    office.take_name();
    let item = office.run(1).await.remove(0);
    assert_eq!(item.state, ItemState::Done);
    assert_eq!(office.tried(&item).await, ["copy failed", "copy done", "note done"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_that_went_away_before_its_turn_is_told() {
    let office = Office::new(&by_hand("", &branch("{ copy = { to = \"archive\" } }"))).await;
    office.put("office/in/a.csv", "a");
    office.take_name();
    let held = office.run(1).await.remove(0);
    office.free_name();
    fs::remove_file(office.path("office/in/a.csv")).unwrap();
    office.engine.release(held.id).await.unwrap();
    let item = office.until("told", |items| items[0].why != held.why && items[0].ended.is_some()).await.remove(0);
    assert_eq!(item.state, ItemState::Skipped, "{item:?}");
    assert!(office.names("archive").is_empty(), "nothing of it came there");
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_held_file_means_for_the_others_is_said_by_the_rule() {
    for (on_fault, listed) in [("wait", false), ("go-on", true)] {
        let branches = "[[rule.keep.branch]]\nif = { file = \"name\", is = \"b.csv\" }\nsteps = [ { hold = { why = \"odd\" } } ]\n\
            [[rule.keep.branch]]\nsteps = [ { manifest = { as = \"SUMS\" } }, { copy = { to = \"archive\" } } ]\n";
        let office = Office::new(&by_hand(&format!("on-fault = \"{on_fault}\""), branches)).await;
        for name in ["a.csv", "b.csv", "c.csv"] {
            office.put(&format!("office/in/{name}"), name);
        }
        office.engine.run_rule("keep", true).await.unwrap();
        let held = |items: &[ItemRecord]| items.iter().any(|item| item.state == ItemState::Held);
        office.until("held", held).await;
        if listed {
            office
                .until("listed", |items| {
                    items.len() == 4 && items.iter().filter(|item| item.state == ItemState::Done).count() == 3
                })
                .await;
            assert_eq!(office.read("archive/SUMS").lines().count(), 2);
        } else {
            let joining = |item: &&ItemRecord| item.state == ItemState::Joining;
            office.until("waiting", |items| items.iter().filter(joining).count() == 2).await;
            assert!(office.names("archive").is_empty(), "the list waits: {:?}", states(&office.items().await));
            let held = office.items().await.into_iter().find(|item| item.state == ItemState::Held).unwrap();
            office.engine.dismiss(held.id, "not wanted").await.unwrap();
            office.until("listed", |items| items.len() == 4 && items.iter().all(|item| item.ended.is_some())).await;
            assert_eq!(office.read("archive/SUMS").lines().count(), 2);
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_held_file_is_given_up_with_a_reason() {
    let office = Office::new(&by_hand("", &branch("{ hold = { why = \"look\" } }"))).await;
    office.put("office/in/a.csv", "a");
    let held = office.run(1).await.remove(0);
    office.engine.dismiss(held.id, "sent by mail").await.unwrap();
    let item = office.only().await;
    assert_eq!(item.state, ItemState::Skipped);
    assert_eq!(item.why.as_deref(), Some("dismissed: sent by mail"));
    assert!(office.is_there("office/in/a.csv"), "the file stays");
    assert!(office.engine.dismiss(held.id, "twice").await.is_err());
}
