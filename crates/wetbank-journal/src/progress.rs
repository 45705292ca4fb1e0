//! What happens to items: attempts, intentions, ends, holds.

use std::sync::atomic::Ordering::Relaxed;

use jiff::Timestamp;
use sqlx::SqliteConnection;
use wetbank_core::{FilePath, ItemState, Name};

use crate::{GoingAttempt, Journal, JournalError, records};

/// The start of an attempt at a step.
#[derive(Debug, Clone)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct AttemptStart {
    pub id: i64,
    pub item: i64,
    pub branch: usize,
    pub step: usize,
    pub kind: &'static str,
    pub number: u32,
    pub began: Timestamp,
    /// Where the result will go; its temporary file bears the attempt's number.
    pub target: Option<FilePath>,
    /// What the step is about to do, if that needs no more preparation.
    pub intent: Option<String>,
}

/// What is about to be committed. Written before the commit, so that a restart can tell.
#[derive(Debug, Clone)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct Intention {
    pub attempt: i64,
    pub intent: String,
    pub target: FilePath,
    pub size: u64,
    pub sha256: String,
    pub blake3: String,
    /// Set when the target is in a place, not in our own work folder.
    pub output: Option<Output>,
}

/// A file that we write into a place.
#[derive(Debug, Clone)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct Output {
    pub file: FilePath,
    pub fingerprint: String,
    pub rule: Name,
    pub item: i64,
    pub depth: u32,
}

/// How an attempt ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Outcome {
    /// It did what it should.
    Done,
    /// It did not.
    Failed,
    /// There was nothing to do.
    Skipped,
}

impl Outcome {
    fn as_str(self) -> &'static str {
        match self {
            Self::Done => "done",
            Self::Failed => "failed",
            Self::Skipped => "skipped",
        }
    }
}

/// The end of an attempt.
#[derive(Debug, Clone)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct AttemptEnd {
    pub id: i64,
    pub ended: Timestamp,
    pub outcome: Outcome,
    pub size: Option<u64>,
    pub code: Option<String>,
    pub message: Option<String>,
    pub remedy: Option<String>,
    /// A name under which trace should find the item besides its first one.
    pub also_named: Option<String>,
}

/// Where an item stands now.
#[derive(Debug, Clone)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct ItemChange {
    pub item: i64,
    pub run: i64,
    pub state: ItemState,
    pub branch: Option<usize>,
    pub step: usize,
    pub hand: Option<String>,
    pub failures: u32,
    pub due: Option<Timestamp>,
    pub why: Option<String>,
    pub at: Timestamp,
}

/// Why an item waits for a person.
#[derive(Debug, Clone)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct NewHold {
    pub code: String,
    pub why: String,
    pub remedy: String,
}

/// What is recorded together after a step.
#[derive(Debug, Clone)]
pub struct Progress {
    /// The attempt that ended.
    pub end: Option<AttemptEnd>,
    /// Where the item stands.
    pub change: ItemChange,
    /// Set when it waits for a person.
    pub hold: Option<NewHold>,
    /// The original is gone from here: the rule would take a new file of that name.
    pub forget: Option<(Name, FilePath)>,
}

impl Journal {
    /// A number for an attempt that is about to start.
    pub fn next_attempt(&self) -> i64 {
        self.ids.attempt.fetch_add(1, Relaxed)
    }

    /// Records that an attempt starts.
    pub async fn start_attempt(&self, start: AttemptStart) -> Result<(), JournalError> {
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let (step, branch) = (start.step as i64, start.branch as i64);
                    let began = start.began.as_millisecond();
                    let place = start.target.as_ref().map(|t| t.place.as_str());
                    let path = start.target.as_ref().map(|t| t.path.as_bytes());
                    sqlx::query_file!(
                        "queries/attempt_start.sql",
                        start.id,
                        start.item,
                        step,
                        start.kind,
                        start.number,
                        began,
                        place,
                        path,
                        start.intent
                    )
                    .execute(&mut *connection)
                    .await?;
                    sqlx::query_file!("queries/item_working.sql", start.item, branch, step)
                        .execute(&mut *connection)
                        .await?;
                    Ok(())
                })
            })
            .await
    }

    /// Records what is about to be committed.
    pub async fn intend(&self, intention: Intention) -> Result<(), JournalError> {
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let Intention { attempt, intent, target, size, sha256, blake3, output } = intention;
                    let (place, path) = (target.place.as_str(), target.path.as_bytes());
                    let size = size.cast_signed();
                    sqlx::query_file!("queries/attempt_intend.sql", attempt, intent, place, path, size, sha256, blake3)
                        .execute(&mut *connection)
                        .await?;
                    if let Some(output) = output {
                        put_output(connection, &output).await?;
                    }
                    Ok(())
                })
            })
            .await
    }

    /// Records a file of ours that no attempt staged, such as a moved one.
    pub async fn note_output(&self, output: Output) -> Result<(), JournalError> {
        self.writer.write(move |connection| Box::pin(async move { put_output(connection, &output).await })).await
    }

    /// Records the end of an attempt and where the item stands, together.
    pub async fn record(&self, progress: Progress) -> Result<(), JournalError> {
        self.writer.write(move |connection| Box::pin(async move { apply(connection, progress).await })).await
    }

    /// Brings a held item to another state, if it is still held: queued to be worked on again
    /// from the step given, or skipped. Answers whether it was held.
    pub async fn end_hold(&self, change: ItemChange, version: i64) -> Result<bool, JournalError> {
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let state = sqlx::query_file_scalar!("queries/item_state.sql", change.item)
                        .fetch_optional(&mut *connection)
                        .await?;
                    if state.as_deref() != Some(ItemState::Held.as_str()) {
                        return Ok(false);
                    }
                    sqlx::query_file!("queries/run_version.sql", change.run, version).execute(&mut *connection).await?;
                    sqlx::query_file!("queries/hold_remove.sql", change.item).execute(&mut *connection).await?;
                    apply(connection, Progress { end: None, change, hold: None, forget: None }).await?;
                    Ok(true)
                })
            })
            .await
    }

    /// The attempt of an item that a stop cut short.
    pub async fn going_attempt(&self, item: i64) -> Result<Option<GoingAttempt>, JournalError> {
        let row = sqlx::query_file!("queries/attempt_going.sql", item).fetch_optional(&self.read).await?;
        let Some(row) = row else { return Ok(None) };
        let target = match (&row.place, &row.path) {
            (Some(place), Some(path)) => Some(records::file(place, path)?),
            _ => None,
        };
        Ok(Some(GoingAttempt {
            id: row.id,
            step: usize::try_from(row.step).unwrap_or(0),
            kind: row.kind,
            target,
            intent: row.intent,
            size: row.size.map(i64::cast_unsigned),
            sha256: row.sha256,
            blake3: row.blake3,
        }))
    }
}

async fn put_output(connection: &mut SqliteConnection, output: &Output) -> Result<(), sqlx::Error> {
    let (place, path) = (output.file.place.as_str(), output.file.path.as_bytes());
    let (rule, fingerprint) = (output.rule.as_str(), output.fingerprint.as_str());
    sqlx::query_file!("queries/output_put.sql", place, path, fingerprint, rule, output.item, output.depth)
        .execute(connection)
        .await?;
    Ok(())
}

async fn apply(connection: &mut SqliteConnection, progress: Progress) -> Result<(), sqlx::Error> {
    let Progress { end, change, hold, forget } = progress;
    if let Some(end) = end {
        let (ended, outcome) = (end.ended.as_millisecond(), end.outcome.as_str());
        let size = end.size.map(u64::cast_signed);
        sqlx::query_file!("queries/attempt_end.sql", end.id, ended, outcome, end.code, end.message, end.remedy, size)
            .execute(&mut *connection)
            .await?;
        if let Some(name) = end.also_named {
            let rowid = end.id * 2 + 1;
            sqlx::query_file!("queries/name_put.sql", rowid, name).execute(&mut *connection).await?;
        }
    }
    let now = change.at.as_millisecond();
    let state = change.state.as_str();
    let (step, branch) = (change.step as i64, change.branch.map(|b| b as i64));
    let due = change.due.map(|due| due.as_millisecond());
    let ended = matches!(change.state, ItemState::Done | ItemState::Skipped).then_some(now);
    sqlx::query_file!(
        "queries/item_change.sql",
        change.item,
        state,
        step,
        change.hand,
        change.failures,
        due,
        change.why,
        ended,
        branch
    )
    .execute(&mut *connection)
    .await?;
    if let Some(hold) = hold {
        sqlx::query_file!("queries/hold_put.sql", change.item, now, hold.code, hold.why, hold.remedy)
            .execute(&mut *connection)
            .await?;
    }
    if let Some((rule, file)) = forget {
        let (rule, place, path) = (rule.as_str(), file.place.as_str(), file.path.as_bytes());
        sqlx::query_file!("queries/sighting_forget.sql", place, path, rule, now, now).execute(&mut *connection).await?;
    }
    if change.state.is_at_rest() || change.state == ItemState::Queued {
        sqlx::query_file!("queries/run_settle.sql", change.run, now).execute(&mut *connection).await?;
    }
    Ok(())
}
