//! What a start makes of every state that a kill can leave behind.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use std::{
    fs,
    os::unix::fs::MetadataExt,
    path::PathBuf,
    time::{Duration, Instant},
};

use jiff::Timestamp;
use serde_json::json;
use tempfile::TempDir;
use wetbank_core::{FilePath, ItemState, Name};
use wetbank_engine::{Engine, EngineOptions};
use wetbank_journal::{AttemptStart, Intention, ItemRecord, Journal, Sighting, Work};

const BOOK: &str = "[place.office]\nkind = \"folder\"\nroot = \"@/office\"\n[place.archive]\nkind = \"folder\"\nroot = \"@/archive\"\n\
[rule.keep]\nstarts = { arrival = { place = \"office\" } }\n[[rule.keep.branch]]\nsteps = [ { STEP = { to = \"archive\" } } ]\n";

/// An office whose service was killed while it worked on `a.csv`.
struct Killed {
    folder: TempDir,
    journal: Journal,
    work: Work,
}

fn file(text: &str) -> FilePath {
    FilePath::parse(text).unwrap()
}

impl Killed {
    /// The file was taken in, its first attempt began.
    async fn at(step: &'static str) -> Self {
        let folder = TempDir::new().unwrap();
        for name in ["office", "archive"] {
            fs::create_dir(folder.path().join(name)).unwrap();
        }
        let data = folder.path().join("data");
        let engine =
            Engine::start(EngineOptions { data: data.clone(), programs: None, new_vault_key: false }).await.unwrap();
        let book = BOOK.replace('@', &folder.path().display().to_string()).replace("STEP", step);
        engine.apply_book(&[("book.toml".to_owned(), book)], true, "test").await.unwrap();
        engine.stop().await;
        drop(engine);
        let path = folder.path().join("office/a.csv");
        fs::write(&path, b"one reading").unwrap();
        let journal = Journal::open(&data).await.unwrap();
        let sighting = Sighting {
            rule: Name::new("keep").unwrap(),
            version: 1,
            file: file("office:/a.csv"),
            fingerprint: print(&path),
            size: 11,
            seen: Timestamp::now(),
            own_results: false,
            again: false,
            about: None,
            note_only: false,
        };
        let work = journal
            .take_in(vec![sighting], wetbank_core::Cause::Arrival, Timestamp::now())
            .await
            .unwrap()
            .remove(0)
            .unwrap();
        let id = journal.next_attempt();
        let start = AttemptStart {
            id,
            item: work.item,
            branch: Some(0),
            position: wetbank_core::Position::Step(0),
            kind: step,
            number: 1,
            began: Timestamp::now(),
            target: Some(file("archive:/a.csv")),
            intent: None,
        };
        journal.start_attempt(start).await.unwrap();
        Self { folder, journal, work }
    }

    fn path(&self, below: &str) -> PathBuf {
        self.folder.path().join(below)
    }

    /// The temporary file was written; answers where it lies.
    async fn staged(&self, content: &[u8]) -> PathBuf {
        let instance = self.journal.setting("instance").await.unwrap().unwrap();
        let path = self.path(&format!("archive/.wetbank-{instance}-{}-0", self.work.item));
        fs::write(&path, content).unwrap();
        path
    }

    /// The journal knows what was about to be committed: `from` gets the name `a.csv`, in the
    /// state that the file at `like` has.
    async fn intended(&self, from: &str, like: &PathBuf) {
        let metadata = fs::metadata(like).unwrap();
        let state = json!({ "size": metadata.size(), "modified": metadata.mtime() * 1_000_000_000 + metadata.mtime_nsec(), "inode": metadata.ino() });
        let original = fs::metadata(self.path("office/a.csv")).unwrap();
        let original = json!({ "size": original.size(), "modified": original.mtime() * 1_000_000_000 + original.mtime_nsec(), "inode": original.ino() });
        let from = file(from);
        let intent = json!({
            "from": from, "to": file("archive:/a.csv"), "fingerprint": state, "replace": false, "then_remove": null,
            "hand": { "place": "office", "path": file("office:/a.csv").path, "name": file("office:/a.csv").path,
                      "fingerprint": original, "original": [file("office:/a.csv"), original] },
        });
        let attempt = self.journal.going_attempt(self.work.item).await.unwrap().unwrap();
        let intention = Intention {
            attempt: attempt.id,
            intent: intent.to_string(),
            target: file("archive:/a.csv"),
            size: 11,
            sha256: Some("0".repeat(64)),
            blake3: Some("0".repeat(64)),
            output: None,
        };
        self.journal.intend(intention).await.unwrap();
    }

    /// Starts the service and waits until the item is at rest; answers it and its folder.
    async fn restarted(self) -> (ItemRecord, TempDir) {
        self.journal.close().await;
        let engine = Engine::start(EngineOptions { data: self.path("data"), programs: None, new_vault_key: false })
            .await
            .unwrap();
        let end = Instant::now() + Duration::from_secs(20);
        loop {
            let item = engine.journal().items(self.work.run, 0, 10).await.unwrap().remove(0);
            if matches!(item.state, ItemState::Done | ItemState::Held | ItemState::Skipped) {
                engine.stop().await;
                return (item, self.folder);
            }
            assert!(Instant::now() < end, "never at rest: {item:?}");
            tokio::time::sleep(Duration::from_millis(10)).await;
        }
    }
}

fn print(path: &PathBuf) -> String {
    let metadata = fs::metadata(path).unwrap();
    let modified = metadata.mtime() * 1_000_000_000 + metadata.mtime_nsec();
    format!("{}.{modified}.{}", metadata.size(), metadata.ino())
}

fn names(folder: &TempDir, below: &str) -> Vec<String> {
    let mut names: Vec<_> = fs::read_dir(folder.path().join(below))
        .unwrap()
        .map(|entry| entry.unwrap().file_name().to_string_lossy().into_owned())
        .collect();
    names.sort();
    names
}

#[tokio::test(flavor = "multi_thread")]
async fn killed_before_anything_was_written_the_step_is_done_anew() {
    let killed = Killed::at("copy").await;
    let (item, folder) = killed.restarted().await;
    assert_eq!(item.state, ItemState::Done);
    assert_eq!(fs::read(folder.path().join("archive/a.csv")).unwrap(), b"one reading");
}

#[tokio::test(flavor = "multi_thread")]
async fn killed_in_mid_write_the_part_is_replaced_and_nothing_is_left_over() {
    let killed = Killed::at("copy").await;
    killed.staged(b"one re").await;
    let (item, folder) = killed.restarted().await;
    assert_eq!(item.state, ItemState::Done);
    assert_eq!(names(&folder, "archive"), ["a.csv"]);
    assert_eq!(fs::read(folder.path().join("archive/a.csv")).unwrap(), b"one reading");
}

#[tokio::test(flavor = "multi_thread")]
async fn killed_before_the_rename_the_staged_file_gets_its_name() {
    let killed = Killed::at("copy").await;
    let staged = killed.staged(b"one reading").await;
    killed.intended(&format!("archive:/{}", staged.file_name().unwrap().to_string_lossy()), &staged).await;
    let inode = fs::metadata(&staged).unwrap().ino();
    let (item, folder) = killed.restarted().await;
    assert_eq!(item.state, ItemState::Done);
    assert_eq!(names(&folder, "archive"), ["a.csv"]);
    assert_eq!(fs::metadata(folder.path().join("archive/a.csv")).unwrap().ino(), inode, "not a byte is sent twice");
}

#[tokio::test(flavor = "multi_thread")]
async fn killed_after_the_rename_the_file_counts_as_arrived() {
    let killed = Killed::at("copy").await;
    let staged = killed.staged(b"one reading").await;
    killed.intended(&format!("archive:/{}", staged.file_name().unwrap().to_string_lossy()), &staged).await;
    fs::rename(&staged, killed.path("archive/a.csv")).unwrap();
    let inode = fs::metadata(killed.path("archive/a.csv")).unwrap().ino();
    let (item, folder) = killed.restarted().await;
    assert_eq!(item.state, ItemState::Done);
    assert_eq!(fs::metadata(folder.path().join("archive/a.csv")).unwrap().ino(), inode);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_that_was_fetched_between_the_rename_and_the_restart_is_a_question_for_a_person() {
    let killed = Killed::at("copy").await;
    let staged = killed.staged(b"one reading").await;
    killed.intended(&format!("archive:/{}", staged.file_name().unwrap().to_string_lossy()), &staged).await;
    fs::remove_file(&staged).unwrap();
    let (item, folder) = killed.restarted().await;
    assert_eq!(item.state, ItemState::Held);
    assert!(item.why.unwrap().contains("it may have been fetched already"));
    assert!(names(&folder, "archive").is_empty(), "it is not sent a second time unasked");
    assert_eq!(names(&folder, "office"), ["a.csv"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_staged_file_that_somebody_changed_is_not_committed() {
    let killed = Killed::at("copy").await;
    let staged = killed.staged(b"one reading").await;
    killed.intended(&format!("archive:/{}", staged.file_name().unwrap().to_string_lossy()), &staged).await;
    fs::write(&staged, b"something else altogether").unwrap();
    let (item, folder) = killed.restarted().await;
    assert_eq!(item.state, ItemState::Done);
    assert_eq!(fs::read(folder.path().join("archive/a.csv")).unwrap(), b"one reading");
    assert_eq!(names(&folder, "archive"), ["a.csv"]);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_taken_name_is_not_replaced_by_a_restart() {
    let killed = Killed::at("copy").await;
    let staged = killed.staged(b"one reading").await;
    killed.intended(&format!("archive:/{}", staged.file_name().unwrap().to_string_lossy()), &staged).await;
    fs::write(killed.path("archive/a.csv"), b"somebody else's").unwrap();
    let (item, folder) = killed.restarted().await;
    assert_eq!(item.state, ItemState::Held);
    assert_eq!(fs::read(folder.path().join("archive/a.csv")).unwrap(), b"somebody else's");
}

#[tokio::test(flavor = "multi_thread")]
async fn killed_in_the_middle_of_a_move_the_file_is_moved_once() {
    for moved_before in [false, true] {
        let killed = Killed::at("move").await;
        let here = killed.path("office/a.csv");
        killed.intended("office:/a.csv", &here).await;
        if moved_before {
            fs::rename(&here, killed.path("archive/a.csv")).unwrap();
        }
        let (item, folder) = killed.restarted().await;
        assert_eq!(item.state, ItemState::Done, "{item:?}");
        assert_eq!((names(&folder, "office").len(), names(&folder, "archive")), (0, vec!["a.csv".to_owned()]));
    }
}
