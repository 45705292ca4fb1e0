//! What was done: pages, filters, counts, traces.

use jiff::{SignedDuration, Timestamp};
use wetbank_core::ItemState;
use wetbank_journal::{AttemptEnd, Journal, NewHold, Outcome, Progress, RunFilter, Sighting, Work};

use crate::{attempt, change, open, record, sighting, take};

async fn many(journal: &Journal, count: usize) -> Vec<Work> {
    let mut works = Vec::new();
    for number in 0..count {
        works.push(take(journal, sighting(&format!("office:/gauge-{number:02}.csv"), "1")).await.unwrap());
    }
    works
}

async fn runs(journal: &Journal, filter: RunFilter) -> Vec<i64> {
    journal.runs(&filter).await.unwrap().into_iter().map(|run| run.id).collect()
}

#[tokio::test]
async fn runs_are_read_page_by_page_newest_first() {
    let (_folder, journal) = open().await;
    let works = many(&journal, 7).await;
    let (mut before, mut read) = (None, Vec::new());
    loop {
        let page = runs(&journal, RunFilter { before, limit: 3, ..RunFilter::default() }).await;
        let Some(last) = page.last() else { break };
        assert!(page.len() <= 3);
        before = Some(*last);
        read.extend(page);
    }
    let mut expected: Vec<i64> = works.iter().map(|work| work.run).collect();
    expected.reverse();
    assert_eq!(read, expected);
}

#[tokio::test]
async fn runs_are_found_by_rule_and_state() {
    let (_folder, journal) = open().await;
    let works = many(&journal, 3).await;
    let other = Sighting { rule: wetbank_core::Name::new("other").unwrap(), ..sighting("office:/x.csv", "1") };
    let other = take(&journal, other).await.unwrap();
    record(&journal, &works[1], ItemState::Done).await;
    let by = |rule: &str, state: &str| {
        let text = |text: &str| (!text.is_empty()).then(|| text.to_owned());
        RunFilter { rule: text(rule), state: text(state), limit: 10, ..RunFilter::default() }
    };
    assert_eq!(runs(&journal, by("other", "")).await, [other.run]);
    assert_eq!(runs(&journal, by("", "done")).await, [works[1].run]);
    assert_eq!(runs(&journal, by("keep", "running")).await, [works[2].run, works[0].run]);
    assert!(runs(&journal, by("nothing", "")).await.is_empty());
    assert_eq!(runs(&journal, RunFilter { limit: 0, ..RunFilter::default() }).await.len(), 1, "a page is never empty");
}

#[tokio::test]
async fn a_run_ends_when_its_last_item_does_and_tells_the_worst_of_them() {
    for (states, told) in [
        (vec![ItemState::Done, ItemState::Done], "done"),
        (vec![ItemState::Done, ItemState::Skipped], "done"),
        (vec![ItemState::Skipped, ItemState::Skipped], "skipped"),
        (vec![ItemState::Done, ItemState::Held], "held"),
    ] {
        let (_folder, journal) = open().await;
        let sightings = vec![sighting("office:/a.csv", "1"), sighting("office:/b.csv", "1")];
        let works =
            journal.take_together(sightings, wetbank_core::Cause::Arrival, None, Timestamp::now()).await.unwrap();
        record(&journal, &works[0], states[0]).await;
        let run = journal.run(works[0].run).await.unwrap().unwrap();
        assert_eq!((run.state.as_str(), run.ended), ("running", None), "{states:?}");
        record(&journal, &works[1], states[1]).await;
        let run = journal.run(works[0].run).await.unwrap().unwrap();
        assert_eq!(run.state, told, "{states:?}");
    }
}

#[tokio::test]
async fn attempts_are_told_in_their_order_with_what_they_said() {
    let (_folder, journal) = open().await;
    let work = many(&journal, 1).await.remove(0);
    for number in 1..=3 {
        let id = journal.next_attempt();
        journal.start_attempt(attempt(id, &work, "deliver", number)).await.unwrap();
        let is_last = number == 3;
        let said = |text: &str| (!is_last).then(|| text.to_owned());
        let end = AttemptEnd {
            id,
            ended: Timestamp::now(),
            outcome: if is_last { Outcome::Done } else { Outcome::Failed },
            size: is_last.then_some(10),
            code: said("unreachable"),
            message: said("nothing listens"),
            remedy: said("Start it."),
            also_named: None,
            unclear: false,
        };
        let state = if is_last { ItemState::Done } else { ItemState::Waiting };
        journal.record(Progress { end: Some(end), ..Progress::change(change(&work, state)) }).await.unwrap();
    }
    let told = journal.attempts(work.item).await.unwrap();
    let short: Vec<_> = told.iter().map(|a| (a.number, a.outcome.as_str(), a.code.as_deref(), a.size)).collect();
    let failed = |number| (number, "failed", Some("unreachable"), None);
    assert_eq!(short, [failed(1), failed(2), (3, "done", None, Some(10))]);
    assert!(journal.going_attempt(work.item).await.unwrap().is_none());
}

#[tokio::test]
async fn open_ended_and_held_files_are_counted() {
    let (_folder, journal) = open().await;
    let works = many(&journal, 6).await;
    record(&journal, &works[0], ItemState::Done).await;
    record(&journal, &works[1], ItemState::Done).await;
    record(&journal, &works[2], ItemState::Waiting).await;
    let hold = NewHold { code: "exists".to_owned(), why: "taken".to_owned(), remedy: "move it".to_owned() };
    let held = Progress { hold: Some(hold), ..Progress::change(change(&works[3], ItemState::Held)) };
    journal.record(held).await.unwrap();
    let mut open: Vec<_> = journal.open_counts().await.unwrap().into_iter().map(|c| (c.state, c.count)).collect();
    open.sort();
    let expected = [("held", 1), ("queued", 2), ("waiting", 1)].map(|(state, count)| (state.to_owned(), count));
    assert_eq!(open, expected);
    let midnight = Timestamp::now() - SignedDuration::from_hours(3);
    let end = midnight + SignedDuration::from_hours(24);
    let hours = journal.hour_counts(midnight, end).await.unwrap();
    assert_eq!(hours.iter().map(|h| (h.state.as_str(), h.count, h.bytes)).collect::<Vec<_>>(), [("done", 2, 20)]);
    assert!((2..=3).contains(&hours[0].hour));
    let held = journal.held_counts(midnight, end).await.unwrap();
    assert_eq!(held.iter().map(|h| h.count).sum::<i64>(), 1);
    let branches = journal.branch_counts("keep", midnight).await.unwrap();
    assert_eq!(branches.iter().map(|c| c.count).sum::<i64>(), 4, "those that know their branch");
    assert_eq!(journal.last_run("keep").await.unwrap().unwrap().0, works[5].run);
    assert!(journal.last_run("nothing").await.unwrap().is_none());
    assert_eq!(journal.day_counts("keep", midnight).await.unwrap().iter().map(|c| c.count).sum::<i64>(), 6);
}

#[tokio::test]
async fn a_trace_finds_parts_of_names_in_any_case_and_never_what_only_looks_like_one() {
    let (_folder, journal) = open().await;
    for name in ["Årsrapport 2026.pdf", "a%b_c.csv", "say \"when\".txt", "abcabd.csv"] {
        take(&journal, sighting(&format!("office:/{name}"), "1")).await.unwrap();
    }
    let found = async |text: &str| {
        let found = journal.trace(text, 10).await.unwrap();
        found.into_iter().map(|t| t.file.path.to_string()).collect::<Vec<_>>()
    };
    assert_eq!(found("rapport 20").await, ["Årsrapport 2026.pdf"]);
    assert_eq!(found("\"when\"").await, ["say \"when\".txt"]);
    assert_eq!(found("%b_").await, ["a%b_c.csv"], "signs of a pattern are letters here");
    assert!(found("abcabc").await.is_empty(), "all its threes occur, but not so");
    assert!(found("a*b OR").await.is_empty());
    assert!(found("ab").await.is_empty(), "too short to be found");
    let raw = wetbank_core::RelPath::from_bytes(b"in/caf\xe9-5\xe2\x84\xaa.csv").unwrap();
    let file = wetbank_core::FilePath { place: wetbank_core::Name::new("office").unwrap(), path: raw };
    take(&journal, Sighting { file, ..sighting("office:/x", "1") }).await.unwrap();
    for text in [r"caf\xe9", "af\\XE9-", "f\\xe9-5k.", "\u{212a}.csv"] {
        assert_eq!(found(text).await.len(), 1, "{text}: bytes that are no text are found as they are shown");
    }
}

#[tokio::test]
async fn names_of_any_bytes_are_kept_exactly() {
    let (folder, journal) = open().await;
    let path = wetbank_core::RelPath::from_bytes(b"in/\xff\xfe line\nbreak.csv").unwrap();
    let place = wetbank_core::Name::new("office").unwrap();
    let file = wetbank_core::FilePath { place, path };
    let work = take(&journal, Sighting { file: file.clone(), ..sighting("office:/x", "1") }).await.unwrap();
    journal.close().await;
    let journal = Journal::open(folder.path()).await.unwrap();
    assert_eq!(journal.work(work.item).await.unwrap().unwrap().file, file);
    assert_eq!(journal.items(work.run, 0, 10).await.unwrap()[0].file, file);
    assert_eq!(journal.run_paths(work.run).await.unwrap(), [file]);
}
