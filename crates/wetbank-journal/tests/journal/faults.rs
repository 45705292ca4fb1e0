//! A journal that cannot be opened, read or written.

use std::{fs, process::Command};

use tempfile::TempDir;
use wetbank_journal::{Journal, JournalError, Refusal};
use wetbank_testbed::SmallDisk;

use crate::{open, sighting, take};

/// What a person reads, causes included.
fn told(error: &dyn std::error::Error) -> String {
    let mut text = error.to_string();
    let mut cause = error.source();
    while let Some(error) = cause {
        text.push_str(": ");
        text.push_str(&error.to_string());
        cause = error.source();
    }
    text
}

#[tokio::test]
async fn a_file_that_is_no_journal_is_refused_and_left_as_it_is() {
    let folder = TempDir::new().unwrap();
    let file = folder.path().join("journal.db");
    fs::write(&file, "gauge;level\n7;2.31\n".repeat(100)).unwrap();
    let before = fs::read(&file).unwrap();
    let error = Journal::open(folder.path()).await.unwrap_err();
    assert!(told(&error).contains("not a database"), "{}", told(&error));
    assert!(fs::read(&file).unwrap() == before, "nothing of it was changed");
}

#[tokio::test]
async fn a_missing_folder_is_told_with_its_path() {
    let folder = TempDir::new().unwrap();
    let error = Journal::open(&folder.path().join("not/there")).await.unwrap_err();
    assert!(matches!(error, JournalError::Open { .. }));
    assert!(error.to_string().contains("not/there/journal.db"), "{error}");
}

#[tokio::test]
async fn a_journal_of_a_newer_version_is_not_touched() {
    let (folder, journal) = open().await;
    journal.close().await;
    let database = folder.path().join("journal.db");
    let newer = "INSERT INTO _sqlx_migrations (version, description, success, checksum, execution_time) \
                 VALUES (99990101000001, 'later', 1, x'00', 0)";
    assert!(Command::new("sqlite3").arg(&database).arg(newer).status().unwrap().success());
    let error = Journal::open(folder.path()).await.unwrap_err();
    assert!(matches!(error, JournalError::Migrate(_)), "{error}");
    assert!(told(&error).contains("99990101000001"), "{}", told(&error));
}

#[tokio::test]
async fn after_it_was_closed_every_call_says_so_and_none_hangs() {
    let (_folder, journal) = open().await;
    let work = take(&journal, sighting("office:/a.csv", "1")).await.unwrap();
    journal.close().await;
    let refused = journal.take_in(vec![sighting("office:/b.csv", "1")], wetbank_core::Cause::Arrival, work.taken).await;
    assert!(matches!(refused, Err(JournalError::Closed)), "{refused:?}");
    assert!(journal.open_items(0, 10).await.is_err());
    journal.close().await;
}

#[tokio::test]
async fn on_a_full_disk_nothing_is_acknowledged_that_is_not_kept() {
    // Only root may mount; the suite runs as root where it is set up.
    let folder = TempDir::new().unwrap();
    let Some(disk) = SmallDisk::over(folder.path(), 1200) else { return };
    let journal = Journal::open(folder.path()).await.unwrap();
    let mut kept = Vec::new();
    let failure = loop {
        assert!(kept.len() < 100_000, "the disk never became full");
        let page: Vec<_> = (0..200).map(|n| sighting(&format!("office:/{}-{n}.csv", kept.len()), "1")).collect();
        match journal.take_in(page, wetbank_core::Cause::Arrival, jiff::Timestamp::now()).await {
            Ok(works) => kept.extend(works.into_iter().map(|work| work.unwrap().item)),
            Err(error) => break error,
        }
    };
    assert!(told(&failure).contains("full"), "{}", told(&failure));
    // A reader sees just what was acknowledged, now and after a restart.
    let count = journal.open_items(0, 1_000_000).await.unwrap().len();
    assert_eq!(count, kept.len());
    journal.close().await;
    let journal = Journal::open(folder.path()).await;
    if let Ok(journal) = journal {
        let items: Vec<_> = journal.open_items(0, 1_000_000).await.unwrap().into_iter().map(|w| w.item).collect();
        assert_eq!(items, kept);
        journal.close().await;
    }
    // With room again it goes on where it was.
    disk.resize(64 << 10);
    let journal = Journal::open(folder.path()).await.unwrap();
    assert_eq!(take(&journal, sighting("office:/0-0.csv", "1")).await, Err(Refusal::Known));
    assert!(take(&journal, sighting("office:/new.csv", "1")).await.is_ok());
    journal.close().await;
}

#[tokio::test]
async fn a_damaged_page_is_found_at_the_start_and_told_with_what_to_do() {
    let (folder, journal) = open().await;
    let sightings = (0..5_000).map(|number| sighting(&format!("office:/in/{number:05}.csv"), "1")).collect();
    journal.take_in(sightings, wetbank_core::Cause::Arrival, crate::at(1)).await.unwrap();
    journal.close().await;
    drop(Journal::open(folder.path()).await.unwrap());
    let file = folder.path().join("journal.db");
    let mut bytes = fs::read(&file).unwrap();
    assert!(bytes.len() > 40 * 4096, "{}", bytes.len());
    // The middle of every fifth page, as a failing disk gives it back.
    for page in bytes.chunks_mut(4096).skip(10).step_by(5) {
        page[..2048].fill(0xA5);
    }
    fs::write(&file, &bytes).unwrap();
    let error = Journal::open(folder.path()).await.unwrap_err();
    assert!(matches!(error, JournalError::Damaged { .. }), "{}", told(&error));
    assert!(error.to_string().contains("Keep a copy"), "{error}");
    assert!(fs::read(&file).unwrap() == bytes, "nothing of it was changed");
}
