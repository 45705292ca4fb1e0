//! The journal by itself: what it takes, what it refuses, what it finds again.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

mod arranged;
mod faults;
mod folding;
mod history;
mod joins;
mod outbox;
mod settling;
mod starting;
mod twins;
mod years;

use jiff::Timestamp;
use tempfile::TempDir;
use wetbank_core::{FilePath, ItemState, Name, Position};
use wetbank_journal::{
    AttemptEnd, AttemptStart, Intention, ItemChange, Journal, NewHold, Outcome, Output, Progress, Refusal, RunFilter,
    Sighting, Work,
};

fn sighting(path: &str, fingerprint: &str) -> Sighting {
    Sighting {
        rule: Name::new("keep").unwrap(),
        version: 1,
        file: FilePath::parse(path).unwrap(),
        fingerprint: fingerprint.to_owned(),
        size: 10,
        seen: Timestamp::now(),
        own_results: false,
        again: false,
        about: None,
        note_only: false,
    }
}

async fn take(journal: &Journal, sighting: Sighting) -> Result<Work, Refusal> {
    journal.take_in(vec![sighting], wetbank_core::Cause::Arrival, Timestamp::now()).await.unwrap().remove(0)
}

fn at(second: i64) -> Timestamp {
    Timestamp::from_second(1_773_500_000 + second).unwrap()
}

async fn open() -> (TempDir, Journal) {
    let folder = TempDir::new().unwrap();
    let journal = Journal::open(folder.path()).await.unwrap();
    (folder, journal)
}

async fn record(journal: &Journal, work: &Work, state: ItemState) {
    journal.record(Progress::change(change(work, state))).await.unwrap();
}

fn change(work: &Work, state: ItemState) -> ItemChange {
    ItemChange {
        item: work.item,
        run: work.run,
        state,
        branch: Some(0),
        position: Position::Step(1),
        hand: None,
        failures: 0,
        due: None,
        why: None,
        at: Timestamp::now(),
    }
}

fn attempt(id: i64, work: &Work, kind: &'static str, number: u32) -> AttemptStart {
    AttemptStart {
        id,
        item: work.item,
        branch: Some(0),
        position: Position::Step(0),
        kind,
        number,
        began: Timestamp::now(),
        target: None,
        intent: None,
    }
}

#[tokio::test]
async fn the_same_state_of_a_file_is_taken_once_and_a_new_state_again() {
    let (_folder, journal) = open().await;
    let first = take(&journal, sighting("office:/a.csv", "1")).await.unwrap();
    assert_eq!(take(&journal, sighting("office:/a.csv", "1")).await, Err(Refusal::Known));
    let second = take(&journal, sighting("office:/a.csv", "2")).await.unwrap();
    assert!(second.item > first.item && second.run > first.run);
    let rule = Name::new("keep").unwrap();
    let seen_before = sighting("office:/a.csv", "2");
    tokio::time::sleep(std::time::Duration::from_millis(3)).await;
    journal.forget_sightings(&rule, vec![first.file.clone()], Timestamp::now()).await.unwrap();
    assert_eq!(take(&journal, seen_before).await, Err(Refusal::Known), "an old look shows nothing new");
    tokio::time::sleep(std::time::Duration::from_millis(3)).await;
    assert!(take(&journal, sighting("office:/a.csv", "2")).await.is_ok(), "one that came back is new");
}

#[tokio::test]
async fn what_was_taken_after_a_scan_began_is_not_forgotten_by_it() {
    let (_folder, journal) = open().await;
    let began = Timestamp::now().checked_sub(jiff::Span::new().seconds(1)).unwrap();
    let work = take(&journal, sighting("office:/a.csv", "1")).await.unwrap();
    journal.forget_sightings(&work.rule, vec![work.file.clone()], began).await.unwrap();
    assert_eq!(take(&journal, sighting("office:/a.csv", "1")).await, Err(Refusal::Known));
}

#[tokio::test]
async fn a_rule_does_not_take_its_own_result_but_another_rule_does_one_deeper() {
    let (_folder, journal) = open().await;
    let file = FilePath::parse("office:/out.csv").unwrap();
    let rule = Name::new("keep").unwrap();
    let output = Output { file, fingerprint: "7".to_owned(), rule, item: 1, depth: 2 };
    journal.note_output(output).await.unwrap();
    assert_eq!(take(&journal, sighting("office:/out.csv", "7")).await, Err(Refusal::OwnResult));
    let other = Sighting { rule: Name::new("other").unwrap(), ..sighting("office:/out.csv", "7") };
    assert_eq!(take(&journal, other).await.unwrap().depth, 3);
    let told = Sighting { fingerprint: "8".to_owned(), ..sighting("office:/out.csv", "8") };
    assert_eq!(take(&journal, told).await.unwrap().depth, 0, "a new state is nobody's result");
}

#[tokio::test]
async fn everything_acknowledged_is_there_after_a_reopening() {
    let folder = TempDir::new().unwrap();
    let journal = Journal::open(folder.path()).await.unwrap();
    let work = take(&journal, sighting("office:/assay-0412.csv", "1")).await.unwrap();
    let target = FilePath::parse("archive:/renamed-on-the-way.csv").unwrap();
    let id = journal.next_attempt();
    let start = AttemptStart { target: Some(target.clone()), ..attempt(id, &work, "copy", 1) };
    journal.start_attempt(start).await.unwrap();
    let intention = Intention {
        attempt: id,
        intent: "{}".to_owned(),
        target: target.clone(),
        size: 10,
        sha256: Some("abcdef0123456789".to_owned()),
        blake3: Some("b".to_owned()),
        output: None,
    };
    journal.intend(intention).await.unwrap();
    journal.close().await;
    let journal = Journal::open(folder.path()).await.unwrap();
    let open = journal.open_items(0, 10).await.unwrap();
    assert_eq!((open.len(), open[0].state), (1, ItemState::Working));
    let going = journal.going_attempt(work.item).await.unwrap().unwrap();
    assert_eq!((going.id, going.target, going.intent.as_deref()), (id, Some(target), Some("{}")));
    assert!(journal.next_attempt() > id);
    let end = AttemptEnd {
        id,
        ended: Timestamp::now(),
        outcome: Outcome::Done,
        size: None,
        code: None,
        message: None,
        remedy: None,
        also_named: Some("renamed-on-the-way.csv".to_owned()),
        unclear: false,
    };
    let done = Progress { end: Some(end), ..Progress::change(change(&work, ItemState::Done)) };
    journal.record(done).await.unwrap();
    assert!(journal.open_items(0, 10).await.unwrap().is_empty());
    assert_eq!(journal.runs(&RunFilter { limit: 5, ..RunFilter::default() }).await.unwrap()[0].state, "done");
    for text in ["say-04", "on-the-way", "abcdef01"] {
        assert_eq!(journal.trace(text, 10).await.unwrap().len(), 1, "{text}");
    }
    assert!(journal.trace("nothing like it", 10).await.unwrap().is_empty());
}

#[tokio::test]
async fn a_hold_ends_once() {
    let (_folder, journal) = open().await;
    let work = take(&journal, sighting("office:/a.csv", "1")).await.unwrap();
    let hold = NewHold { code: "exists".to_owned(), why: "taken".to_owned(), remedy: "move it".to_owned() };
    let held = Progress { hold: Some(hold), ..Progress::change(change(&work, ItemState::Held)) };
    journal.record(held).await.unwrap();
    assert_eq!(journal.holds(None, 10).await.unwrap().len(), 1);
    assert!(journal.end_hold(change(&work, ItemState::Queued), 1).await.unwrap());
    assert!(!journal.end_hold(change(&work, ItemState::Skipped), 1).await.unwrap(), "it is no longer held");
    assert!(journal.holds(None, 10).await.unwrap().is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn many_writers_share_transactions_and_each_is_answered() {
    let (_folder, journal) = open().await;
    let mut writers = tokio::task::JoinSet::new();
    for number in 0..500 {
        let journal = journal.clone();
        writers
            .spawn(async move { take(&journal, sighting(&format!("office:/{number}.csv"), "1")).await.unwrap().item });
    }
    let mut items: Vec<i64> = writers.join_all().await;
    items.sort_unstable();
    items.dedup();
    assert_eq!(items.len(), 500);
    assert_eq!(journal.open_items(0, 1000).await.unwrap().len(), 500);
}
