//! Runs that begin with a schedule, a signal, a hand; files that go; rules that start rules.

use jiff::{SignedDuration, Timestamp};
use wetbank_core::{Cause, FilePath, ItemKind, ItemState, Name};
use wetbank_journal::{AttemptEnd, Chained, Journal, NewRun, Outcome, Progress, Refusal, RunFilter, Sighting};

use crate::{at, attempt, change, open, record, sighting, take};

fn run(cause: Cause) -> NewRun {
    NewRun {
        hand: None,
        rule: Name::new("keep").unwrap(),
        version: 4,
        cause,
        about: None,
        looks: Vec::new(),
        firing: None,
        once: None,
        bare: None,
    }
}

fn file(text: &str) -> FilePath {
    FilePath::parse(text).unwrap()
}

#[tokio::test]
async fn a_run_by_the_clock_keeps_its_firing_together_with_its_searches() {
    let (folder, journal) = open().await;
    let rule = Name::new("keep").unwrap();
    assert_eq!(journal.fired(&rule).await.unwrap(), None);
    let looks = vec![(0, file("office:/in")), (1, file("harbour:/out"))];
    let scheduled = NewRun { looks, firing: Some(at(60)), ..run(Cause::Schedule) };
    let works = journal.start_run(scheduled, at(61)).await.unwrap().unwrap();
    let told: Vec<_> = works.iter().map(|w| (w.kind, w.branch, w.run, w.version)).collect();
    assert_eq!(told, [(ItemKind::Find, Some(0), works[0].run, 4), (ItemKind::Find, Some(1), works[0].run, 4)]);
    journal.close().await;
    let journal = Journal::open(folder.path()).await.unwrap();
    assert_eq!(journal.fired(&rule).await.unwrap(), Some(at(60)));
    assert_eq!(journal.open_items(0, 10).await.unwrap(), works, "a restart goes on with the same");
    assert_eq!(journal.open_runs(&rule).await.unwrap(), [(works[0].run, at(61))]);
    assert!(journal.run_goes_on(works[0].run).await.unwrap());
}

#[tokio::test]
async fn a_firing_never_goes_back() {
    let (_folder, journal) = open().await;
    let rule = Name::new("keep").unwrap();
    journal.note_firing(&rule, at(100)).await.unwrap();
    journal
        .skip_run((&rule, 1), Cause::Schedule, "the one before goes on".to_owned(), Some(at(160)), at(161))
        .await
        .unwrap();
    assert_eq!(journal.fired(&rule).await.unwrap(), Some(at(160)));
    let skipped = &journal.runs(&RunFilter { limit: 5, ..RunFilter::default() }).await.unwrap()[0];
    assert_eq!((skipped.state.as_str(), skipped.why.as_deref()), ("skipped", Some("the one before goes on")));
    assert_eq!((skipped.items, skipped.ended), (0, Some(at(161))));
    assert!(journal.open_runs(&rule).await.unwrap().is_empty());
    assert!(!journal.run_goes_on(skipped.id).await.unwrap());
}

#[tokio::test]
async fn a_signal_begins_one_run_however_often_it_is_sent_and_is_forgotten_after_an_hour() {
    let (_folder, journal) = open().await;
    let signal =
        || NewRun { once: Some("sum of the call".to_owned()), bare: Some(file("work:/keep")), ..run(Cause::Hand) };
    let first = journal.start_run(signal(), at(0)).await.unwrap().unwrap();
    assert_eq!((first.len(), first[0].kind), (1, ItemKind::Made));
    assert!(journal.start_run(signal(), at(5)).await.unwrap().is_none());
    let other = NewRun { once: Some("another".to_owned()), ..signal() };
    assert!(journal.start_run(other, at(5)).await.unwrap().is_some());
    let late = at(0) + SignedDuration::from_secs(3_601);
    assert!(journal.start_run(signal(), late).await.unwrap().is_some());
}

#[tokio::test]
async fn what_is_known_of_a_run_is_told_to_each_of_its_items() {
    let (_folder, journal) = open().await;
    let looks = vec![(0, file("office:/in"))];
    let begun = journal.start_run(NewRun { looks, ..run(Cause::Hand) }, at(0)).await.unwrap().unwrap();
    journal.set_about(begun[0].run, r#"{"who":"tove"}"#.to_owned()).await.unwrap();
    let found = journal.take_into(&begun[0], vec![sighting("office:/in/a.csv", "1")], at(1)).await.unwrap();
    let found = found[0].clone().unwrap();
    assert_eq!((found.run, found.kind, found.cause), (begun[0].run, ItemKind::File, Cause::Hand));
    let kept = journal.work(found.item).await.unwrap().unwrap();
    assert_eq!(kept.about.as_deref(), Some(r#"{"who":"tove"}"#));
    assert_eq!(journal.run_paths(found.run).await.unwrap(), [file("office:/in/a.csv")]);
    record(&journal, &found, ItemState::Held).await;
    assert_eq!(journal.held_in_run(found.run).await.unwrap(), Some(file("office:/in/a.csv")));
}

#[tokio::test]
async fn files_that_come_together_are_one_run_and_none_of_them_is_taken_twice() {
    let (_folder, journal) = open().await;
    let sightings = ["a", "b", "a", "c"].map(|name| sighting(&format!("office:/{name}.csv"), "1"));
    let works = journal.take_together(sightings.to_vec(), Cause::Arrival, None, at(0)).await.unwrap();
    let paths: Vec<_> = works.iter().map(|w| w.file.path.to_string()).collect();
    assert_eq!(paths, ["a.csv", "b.csv", "c.csv"]);
    assert!(works.iter().all(|work| work.run == works[0].run));
    assert_eq!(take(&journal, sighting("office:/b.csv", "1")).await, Err(Refusal::Known));
    let again = journal.take_together(sightings.to_vec(), Cause::Arrival, None, at(1)).await.unwrap();
    assert!(again.is_empty());
}

#[tokio::test]
async fn a_file_that_went_is_told_once_and_only_if_it_was_known() {
    let (_folder, journal) = open().await;
    let known = take(&journal, sighting("office:/a.csv", "1")).await.unwrap();
    record(&journal, &known, ItemState::Done).await;
    let rule = Name::new("keep").unwrap();
    let gone = async || {
        let files = vec![file("office:/a.csv"), file("office:/never-seen.csv")];
        let now = Timestamp::now() + SignedDuration::from_secs(1);
        journal.take_gone((&rule, 1), files, now, r#"{"gone":"yes"}"#.to_owned(), now).await.unwrap()
    };
    let told = gone().await;
    assert_eq!(told.iter().map(|w| w.file.clone()).collect::<Vec<_>>(), [file("office:/a.csv")]);
    assert_eq!((told[0].fingerprint.as_str(), told[0].about.as_deref()), ("1", Some(r#"{"gone":"yes"}"#)));
    assert!(gone().await.is_empty(), "once is enough");
}

#[tokio::test]
async fn a_file_that_went_while_it_was_worked_on_is_told_unless_the_work_takes_it_away() {
    let (_folder, journal) = open().await;
    let rule = Name::new("keep").unwrap();
    let mut told = Vec::new();
    for (path, kind) in [("copied.csv", "copy"), ("moved.csv", "move"), ("kept.csv", "original"), ("told.csv", "mail")]
    {
        let work = take(&journal, sighting(&format!("office:/{path}"), "1")).await.unwrap();
        journal.start_attempt(attempt(journal.next_attempt(), &work, kind, 1)).await.unwrap();
        let now = Timestamp::now() + SignedDuration::from_secs(1);
        let gone = journal.take_gone((&rule, 1), vec![work.file], now, "{}".to_owned(), now).await.unwrap();
        told.extend(gone.into_iter().map(|work| work.file.path.to_string()));
    }
    assert_eq!(told, ["copied.csv", "told.csv"]);
    // The step that was cut short had perhaps taken it away, and does so again.
    let work = take(&journal, sighting("office:/cut.csv", "1")).await.unwrap();
    let id = journal.next_attempt();
    journal.start_attempt(attempt(id, &work, "delete", 1)).await.unwrap();
    let end = AttemptEnd {
        id,
        ended: Timestamp::now(),
        outcome: Outcome::Failed,
        size: None,
        code: Some("stopped".to_owned()),
        message: None,
        remedy: None,
        also_named: None,
        unclear: false,
    };
    let change = change(&work, ItemState::Working);
    journal.record(Progress { end: Some(end), ..Progress::change(change) }).await.unwrap();
    let now = Timestamp::now() + SignedDuration::from_secs(1);
    assert!(journal.take_gone((&rule, 1), vec![work.file], now, "{}".to_owned(), now).await.unwrap().is_empty());
}

#[tokio::test]
async fn a_sighting_that_is_only_noted_starts_nothing_and_is_known_afterwards() {
    let (_folder, journal) = open().await;
    let noted = Sighting { note_only: true, ..sighting("office:/a.csv", "1") };
    assert_eq!(take(&journal, noted).await, Err(Refusal::Noted));
    assert_eq!(take(&journal, sighting("office:/a.csv", "1")).await, Err(Refusal::Known));
    assert!(take(&journal, sighting("office:/a.csv", "2")).await.is_ok());
    let again = Sighting { again: true, ..sighting("office:/a.csv", "2") };
    assert!(take(&journal, again).await.is_ok(), "somebody asked for it");
}

#[tokio::test]
async fn a_ledger_is_read_by_pages_in_the_order_of_paths() {
    let (_folder, journal) = open().await;
    for number in [3, 1, 2, 5, 4] {
        take(&journal, sighting(&format!("office:/{number}.csv"), "1")).await.unwrap();
    }
    take(&journal, sighting("archive:/0.csv", "1")).await.unwrap();
    let (rule, office) = (Name::new("keep").unwrap(), Name::new("office").unwrap());
    let (mut after, mut read) = (Vec::new(), Vec::new());
    loop {
        let page = journal.sightings(&rule, &office, &after, 2).await.unwrap();
        let Some(last) = page.last() else { break };
        after.clone_from(last);
        read.extend(page);
    }
    let names: Vec<_> = read.iter().map(|path| String::from_utf8_lossy(path).into_owned()).collect();
    assert_eq!(names, ["1.csv", "2.csv", "3.csv", "4.csv", "5.csv"]);
    assert_eq!(journal.sighting(&rule, &file("office:/2.csv")).await.unwrap().as_deref(), Some("1"));
    assert_eq!(journal.sighting(&rule, &file("office:/9.csv")).await.unwrap(), None);
}

#[tokio::test]
async fn files_of_a_day_are_numbered_from_one() {
    let (_folder, journal) = open().await;
    let rule = Name::new("keep").unwrap();
    let item = take(&journal, sighting("office:/a.csv", "1")).await.unwrap().item;
    let next = async |rule: &Name, day: &str| {
        journal.count_file(rule, day.to_owned(), item, |number| Some(format!("number {number}"))).await.unwrap()
    };
    assert_eq!([next(&rule, "2026-03-14").await, next(&rule, "2026-03-14").await], [1, 2]);
    let in_hand = journal.work(item).await.unwrap().unwrap().hand;
    assert_eq!(in_hand.as_deref(), Some("number 2"), "the item has its number from then on");
    assert_eq!(next(&rule, "2026-03-15").await, 1);
    assert_eq!(next(&Name::new("other").unwrap(), "2026-03-15").await, 1, "each rule has its own");
}

#[tokio::test]
async fn what_starts_another_rule_is_written_with_the_step_and_taken_once() {
    let (folder, journal) = open().await;
    let work = take(&journal, sighting("office:/a.csv", "1")).await.unwrap();
    let next = Name::new("next").unwrap();
    let chained = |rule: &Name, path: &str| Chained {
        rule: rule.clone(),
        version: 2,
        file: file(path),
        fingerprint: "9".to_owned(),
        size: 12,
        depth: 1,
        about: r#"{"from":"keep"}"#.to_owned(),
    };
    let unwanted = Name::new("switched-off").unwrap();
    let chained = vec![chained(&next, "archive:/a.csv"), chained(&unwanted, "archive:/a.csv")];
    let done = Progress { chained, ..Progress::change(change(&work, ItemState::Done)) };
    journal.record(done).await.unwrap();
    journal.close().await;
    let journal = Journal::open(folder.path()).await.unwrap();
    let (works, more) = journal.take_chained(1, vec![next.clone()], at(5)).await.unwrap();
    assert_eq!((works.len(), more), (1, true));
    assert_eq!((works[0].depth, works[0].size, works[0].rule.clone()), (1, 12, next.clone()));
    assert_eq!(works[0].about.as_deref(), Some(r#"{"from":"keep"}"#));
    let (rest, more) = journal.take_chained(10, vec![next], at(6)).await.unwrap();
    assert_eq!((rest.len(), more), (0, false), "a rule that nobody wants takes nothing, and it is not kept for it");
}
