//! What a journal is like after some time: upgraded from an earlier version, counted, tidied.

use std::{fs, io::Write, path::Path, process::Command};

use jiff::SignedDuration;
use sqlx::{ConnectOptions, Row, SqliteConnection, sqlite::SqliteConnectOptions};
use wetbank_core::Cause;

use super::*;

/// A journal as the demo of a version before 29 November 2026 left it.
const EARLIER: &[u8] = include_bytes!("journal-2026-11-28.db.gz");

fn earlier(folder: &Path) {
    let packed = folder.join("journal.db.gz");
    fs::File::create(&packed).unwrap().write_all(EARLIER).unwrap();
    assert!(Command::new("gzip").arg("--decompress").arg(&packed).status().unwrap().success());
}

async fn look(folder: &Path) -> SqliteConnection {
    SqliteConnectOptions::new().filename(folder.join("journal.db")).read_only(true).connect().await.unwrap()
}

async fn number(connection: &mut SqliteConnection, query: &'static str) -> i64 {
    sqlx::query(query).fetch_one(connection).await.unwrap().get(0)
}

/// What is kept counted is what counting tells.
async fn assert_counted(folder: &Path) {
    let mut connection = look(folder).await;
    for (kept, counted) in [
        ("SELECT sum(items) FROM run", "SELECT count(*) FROM item WHERE kind <> 'find'"),
        ("SELECT sum(runs) FROM begun WHERE state = 'held'", "SELECT count(*) FROM run WHERE state = 'held'"),
        ("SELECT sum(runs) FROM begun", "SELECT count(*) FROM run"),
        (
            "SELECT sum(items) FROM tally WHERE state = 'done'",
            "SELECT count(*) FROM item WHERE state = 'done' AND kind <> 'find'",
        ),
        (
            "SELECT sum(bytes) FROM tally",
            "SELECT sum(size) FROM item WHERE state IN ('done', 'skipped') AND kind <> 'find'",
        ),
        ("SELECT sum(items) FROM standing WHERE state = 'held'", "SELECT count(*) FROM item WHERE state = 'held'"),
        ("SELECT sum(items) FROM standing", "SELECT count(*) FROM item WHERE state NOT IN ('done', 'skipped')"),
        ("SELECT count(*) FROM standing WHERE items < 0", "SELECT 0"),
        ("SELECT count(*) FROM begun WHERE runs < 0", "SELECT 0"),
    ] {
        let (kept_count, counted_count) = (number(&mut connection, kept).await, number(&mut connection, counted).await);
        assert_eq!(kept_count, counted_count, "{kept} and {counted}");
    }
}

#[tokio::test]
async fn a_journal_of_an_earlier_version_is_upgraded_with_all_it_has() {
    let folder = TempDir::new().unwrap();
    earlier(folder.path());
    let mut before = look(folder.path()).await;
    let counts = ["SELECT count(*) FROM item", "SELECT count(*) FROM run", "SELECT count(*) FROM attempt"];
    let mut had = Vec::new();
    for query in counts {
        had.push(number(&mut before, query).await);
    }
    assert!(had.iter().all(|count| *count > 5), "{had:?}");
    drop(before);
    let journal = Journal::open(folder.path()).await.unwrap();
    let mut after = look(folder.path()).await;
    for (query, had) in counts.into_iter().zip(had) {
        assert_eq!(number(&mut after, query).await, had, "{query}");
    }
    assert_eq!(number(&mut after, "PRAGMA auto_vacuum").await, 2, "it gives room back");
    assert_counted(folder.path()).await;
    let runs = journal.runs(&RunFilter { limit: 50, ..RunFilter::default() }).await.unwrap();
    let name = runs.iter().find_map(|run| run.first_path.clone()).unwrap().name_text();
    assert!(!journal.trace(&name, 10).await.unwrap().is_empty(), "{name} is found");
    let held = RunFilter { state: Some("held".to_owned()), limit: 50, ..RunFilter::default() };
    assert_eq!(journal.runs(&held).await.unwrap().len(), runs.iter().filter(|run| run.state == "held").count());
    // It goes on.
    let work = take(&journal, sighting("office:/new.csv", "1")).await.unwrap();
    record(&journal, &work, ItemState::Done).await;
    journal.close().await;
    assert_counted(folder.path()).await;
}

#[tokio::test]
async fn what_is_kept_counted_is_right_whatever_happens_to_items() {
    let (folder, journal) = open().await;
    let sightings = (0..40).map(|number| sighting(&format!("office:/{number}.csv"), "1")).collect();
    let works = journal.take_in(sightings, Cause::Arrival, at(1)).await.unwrap();
    let ways: [&[ItemState]; 5] = [
        &[ItemState::Working, ItemState::Done],
        &[ItemState::Working, ItemState::Waiting, ItemState::Working, ItemState::Skipped],
        &[ItemState::Working, ItemState::Held],
        &[ItemState::Working, ItemState::Joining],
        &[],
    ];
    for (work, way) in works.into_iter().map(Result::unwrap).zip(ways.iter().cycle()) {
        for state in *way {
            record(&journal, &work, *state).await;
        }
    }
    assert_counted(folder.path()).await;
    journal.close().await;
}

#[tokio::test]
async fn what_we_wrote_long_ago_where_no_rule_looks_is_forgotten_and_nothing_else() {
    let (_folder, journal) = open().await;
    let mut outputs = Vec::new();
    for (number, (place, is_over)) in [("harbour", true), ("harbour", false), ("office", true)].into_iter().enumerate()
    {
        let work = take(&journal, sighting(&format!("office:/in/{number}.csv"), "1")).await.unwrap();
        let file = FilePath::parse(&format!("{place}:/{number}.csv")).unwrap();
        let rule = Name::new("keep").unwrap();
        let output = Output { file: file.clone(), fingerprint: "7".to_owned(), rule, item: work.item, depth: 1 };
        journal.note_output(output).await.unwrap();
        if is_over {
            record(&journal, &work, ItemState::Done).await;
        }
        outputs.push(file);
    }
    let later = Timestamp::now() + SignedDuration::from_secs(60);
    let long_before = Timestamp::now() - SignedDuration::from_hours(1);
    assert_eq!(journal.forget_outputs(&["office"], long_before).await.unwrap(), 0, "nothing is so old");
    assert_eq!(journal.forget_outputs(&["office"], later).await.unwrap(), 1);
    assert!(journal.output(&outputs[0]).await.unwrap().is_none());
    assert!(journal.output(&outputs[1]).await.unwrap().is_some(), "somebody works on it");
    assert!(journal.output(&outputs[2]).await.unwrap().is_some(), "a rule looks there");
    journal.give_room_back().await.unwrap();
}
