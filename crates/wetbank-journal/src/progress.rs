//! What happens to items: attempts, intentions, ends, holds.

use std::sync::atomic::Ordering::Relaxed;

use jiff::Timestamp;
use wetbank_core::{FilePath, ItemState, Name, Position};

use crate::{GoingAttempt, Journal, JournalError, NewMail, TwinNote, bulk, records, writer::Step};

/// The start of an attempt at a step.
#[derive(Debug, Clone)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct AttemptStart {
    pub id: i64,
    pub item: i64,
    /// The branch that it is on from now on.
    pub branch: Option<usize>,
    pub position: Position,
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
    /// Not taken of what stays in our own work folder.
    pub sha256: Option<String>,
    /// Not taken where no byte travelled.
    pub blake3: Option<String>,
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
    pub(crate) fn as_str(self) -> &'static str {
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
    /// It failed, but may have had its effect: what it was about to commit stays on record.
    pub unclear: bool,
}

/// Where an item stands now.
#[derive(Debug, Clone)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct ItemChange {
    pub item: i64,
    pub run: i64,
    pub state: ItemState,
    pub branch: Option<usize>,
    pub position: Position,
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
    /// An attempt that had ended unclear, now that somebody looked what became of it.
    pub settled: Option<i64>,
    /// Where the item stands.
    pub change: ItemChange,
    /// Set when it waits for a person.
    pub hold: Option<NewHold>,
    /// The original is gone from here: the rule would take a new file of that name.
    pub forget: Option<(Name, FilePath)>,
    /// What starts other rules.
    pub chained: Vec<Chained>,
    /// A mail that is to be sent.
    pub mail: Option<NewMail>,
    /// What is known of a twin from now on.
    pub noted: Option<(Name, Vec<TwinNote>)>,
}

/// A file on which another rule is started.
#[derive(Debug, Clone)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct Chained {
    /// The rule to start.
    pub rule: Name,
    pub version: i64,
    pub file: FilePath,
    pub fingerprint: String,
    pub size: u64,
    /// How many rules the file came through.
    pub depth: u32,
    /// What is known of it, as a JSON object of texts.
    pub about: String,
}

impl Progress {
    /// Only where an item stands now.
    pub fn change(change: ItemChange) -> Self {
        let (end, settled, hold, forget, mail, noted) = (None, None, None, None, None, None);
        Self { end, settled, change, hold, forget, chained: Vec::new(), mail, noted }
    }
}

impl Journal {
    /// A number for an attempt that is about to start.
    pub fn next_attempt(&self) -> i64 {
        self.ids.attempt.fetch_add(1, Relaxed)
    }

    /// Records that an attempt starts.
    pub async fn start_attempt(&self, start: AttemptStart) -> Result<(), JournalError> {
        self.writer.step(Step::Start(start)).await
    }

    /// Records what is about to be committed.
    pub async fn intend(&self, intention: Intention) -> Result<(), JournalError> {
        self.writer.step(Step::Intend(intention)).await
    }

    /// Records a file of ours that no attempt staged, such as a moved one.
    pub async fn note_output(&self, output: Output) -> Result<(), JournalError> {
        self.writer
            .write(move |connection| {
                Box::pin(async move { bulk::put_outputs(connection, std::iter::once(&output)).await })
            })
            .await
    }

    /// Records the end of an attempt and where the item stands, together.
    pub async fn record(&self, progress: Progress) -> Result<(), JournalError> {
        self.writer.step(Step::Record(Box::new(progress))).await
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
                    bulk::record(connection, &[Progress::change(change)]).await?;
                    Ok(true)
                })
            })
            .await
    }

    /// The last attempt of an item, if nobody knows what became of it.
    pub async fn going_attempt(&self, item: i64) -> Result<Option<GoingAttempt>, JournalError> {
        let row = sqlx::query_file!("queries/attempt_going.sql", item).fetch_optional(&self.read).await?;
        let Some(row) = row else { return Ok(None) };
        let target = match (&row.place, &row.path) {
            (Some(place), Some(path)) => Some(records::file(place, path)?),
            _ => None,
        };
        Ok(Some(GoingAttempt {
            id: row.id,
            position: records::position(Some(0), row.step),
            has_ended: row.outcome != "going",
            kind: row.kind,
            target,
            intent: row.intent,
            size: row.size.map(i64::cast_unsigned),
            sha256: row.sha256,
            blake3: row.blake3,
        }))
    }
}
