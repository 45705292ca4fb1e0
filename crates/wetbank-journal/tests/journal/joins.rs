//! Items that wait for others of their run.

use wetbank_core::{Cause, FilePath, ItemKind, ItemState, Position};
use wetbank_journal::{Gathered, Journal, NewHold, NewPart, Progress, Standing, Through, Work};

use crate::{at, change, open, record, sighting};

async fn together(journal: &Journal, count: usize) -> Vec<Work> {
    let sightings = (0..count).map(|number| sighting(&format!("office:/in/{number}.csv"), "1")).collect();
    journal.take_together(sightings, Cause::Arrival, None, at(0)).await.unwrap()
}

const AT_REST: Standing = Standing { open: false, held: false, stopped: false };
const AT: Gathered = Gathered { branch: 0, step: 1, items: 3 };

#[tokio::test]
async fn what_waits_at_a_step_is_counted_and_becomes_one() {
    let (folder, journal) = open().await;
    let works = together(&journal, 3).await;
    let run = works[0].run;
    for work in &works[..2] {
        record(&journal, work, ItemState::Joining).await;
    }
    assert_eq!(journal.standing(run).await.unwrap(), Standing { open: true, ..AT_REST });
    record(&journal, &works[2], ItemState::Joining).await;
    assert_eq!(journal.standing(run).await.unwrap(), AT_REST);
    journal.close().await;
    let journal = Journal::open(folder.path()).await.unwrap();
    assert_eq!(journal.joining_runs().await.unwrap(), [run]);
    assert_eq!(journal.gathered(run).await.unwrap(), [AT]);
    let made = journal.join(run, AT, "3 files".to_owned(), at(5)).await.unwrap().unwrap();
    assert_eq!(
        (made.kind, made.file.path.to_string(), made.position),
        (ItemKind::Made, "in/3 files".to_owned(), Position::Step(1))
    );
    let sources = journal.sources(made.item, 0, 10).await.unwrap();
    assert_eq!(sources.iter().map(|s| s.item).collect::<Vec<_>>(), works.iter().map(|w| w.item).collect::<Vec<_>>());
    assert_eq!(journal.sources(made.item, sources[1].item, 10).await.unwrap().len(), 1, "page by page");
    assert!(journal.gathered(run).await.unwrap().is_empty());
    assert!(journal.join(run, AT, "3 files".to_owned(), at(6)).await.unwrap().is_none(), "only one is made");
}

#[tokio::test]
async fn sources_are_through_when_what_was_made_of_them_is_and_left_out_if_it_is() {
    for (end, why) in [(ItemState::Done, None), (ItemState::Skipped, Some("dismissed".to_owned()))] {
        let (_folder, journal) = open().await;
        let works = together(&journal, 2).await;
        let run = works[0].run;
        for work in &works {
            record(&journal, work, ItemState::Joining).await;
        }
        let made = journal.join(run, AT, "2 files".to_owned(), at(5)).await.unwrap().unwrap();
        assert!(journal.through(run, 10).await.unwrap().is_empty(), "it is at work");
        record(&journal, &made, ItemState::Held).await;
        assert!(journal.through(run, 10).await.unwrap().is_empty(), "it waits for a person");
        let mut ended = change(&made, end);
        ended.why.clone_from(&why);
        journal.record(Progress::change(ended)).await.unwrap();
        let through = journal.through(run, 10).await.unwrap();
        let expected: Vec<_> = works.iter().map(|w| Through { item: w.item, skipped: why.clone() }).collect();
        assert_eq!(through, expected);
        assert_eq!(journal.through(run, 1).await.unwrap().len(), 1);
    }
}

#[tokio::test]
async fn a_held_item_is_told_apart_from_one_at_work() {
    let (_folder, journal) = open().await;
    let works = together(&journal, 2).await;
    record(&journal, &works[0], ItemState::Joining).await;
    record(&journal, &works[1], ItemState::Held).await;
    assert_eq!(journal.standing(works[0].run).await.unwrap(), Standing { held: true, ..AT_REST });
    for (code, stopped) in [("exists", false), ("stopped", true), ("time-limit", true)] {
        let hold = NewHold { code: code.to_owned(), why: "so".to_owned(), remedy: "look".to_owned() };
        let held = change(&works[1], ItemState::Held);
        journal.record(Progress { hold: Some(hold), ..Progress::change(held) }).await.unwrap();
        assert_eq!(journal.standing(works[0].run).await.unwrap(), Standing { held: true, stopped, ..AT_REST });
    }
}

#[tokio::test]
async fn parts_are_queued_in_the_same_moment_in_which_their_whole_begins_to_wait() {
    let (folder, journal) = open().await;
    let whole = together(&journal, 1).await.remove(0);
    let part = |name: &str| NewPart {
        file: FilePath::parse(&format!("office:/in/0.csv/{name}")).unwrap(),
        fingerprint: "p".to_owned(),
        size: 5,
        position: Position::Step(2),
        hand: format!("hand of {name}"),
    };
    let waits = Progress::change(change(&whole, ItemState::Joining));
    let parts = journal.split(waits, &whole, vec![part("a.txt"), part("b.txt")], at(4)).await.unwrap();
    journal.close().await;
    let journal = Journal::open(folder.path()).await.unwrap();
    let open_items = journal.open_items(0, 10).await.unwrap();
    assert_eq!(open_items.iter().map(|w| w.item).collect::<Vec<_>>(), parts.iter().map(|w| w.item).collect::<Vec<_>>());
    let first = &open_items[0];
    assert_eq!((first.kind, first.position, first.size, first.run), (ItemKind::Part, Position::Step(2), 5, whole.run));
    assert_eq!(first.hand.as_deref(), Some("hand of a.txt"));
    assert!(journal.gathered(whole.run).await.unwrap().is_empty(), "a whole waits for its parts, not to be joined");
    record(&journal, &parts[0], ItemState::Done).await;
    assert!(journal.through(whole.run, 10).await.unwrap().is_empty());
    record(&journal, &parts[1], ItemState::Done).await;
    assert_eq!(journal.through(whole.run, 10).await.unwrap(), [Through { item: whole.item, skipped: None }]);
    assert_eq!(journal.trace("b.txt", 5).await.unwrap()[0].item, parts[1].item);
}

#[tokio::test]
async fn a_whole_without_parts_is_not_through_by_itself() {
    let (_folder, journal) = open().await;
    let whole = together(&journal, 1).await.remove(0);
    let waits = Progress::change(change(&whole, ItemState::Joining));
    assert!(journal.split(waits, &whole, Vec::new(), at(4)).await.unwrap().is_empty());
    assert!(journal.through(whole.run, 10).await.unwrap().is_empty());
}
