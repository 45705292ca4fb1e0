//! Rows as callers see them.

use jiff::Timestamp;
use wetbank_core::{Cause, FilePath, ItemKind, ItemState, Name, Position, RelPath};

/// A point in time as kept: milliseconds since 1970.
pub(crate) fn time(millis: i64) -> Timestamp {
    Timestamp::from_millisecond(millis).unwrap_or(Timestamp::UNIX_EPOCH)
}

/// A path that was checked before it was written.
pub(crate) fn path(bytes: &[u8]) -> RelPath {
    RelPath::from_bytes(bytes).unwrap_or_else(|_| RelPath::root())
}

pub(crate) fn file(place: &str, bytes: &[u8]) -> Result<FilePath, sqlx::Error> {
    let place = Name::new(place).map_err(|e| sqlx::Error::Decode(Box::new(e)))?;
    Ok(FilePath { place, path: path(bytes) })
}

pub(crate) fn state(word: &str) -> ItemState {
    // The table's CHECK admits only these words.
    ItemState::parse(word).unwrap_or(ItemState::Held)
}

pub(crate) fn kind(word: &str) -> ItemKind {
    ItemKind::parse(word).unwrap_or(ItemKind::File)
}

/// Where an item is, by its branch and the number that stands for it.
pub(crate) fn position(branch: Option<i64>, code: i64) -> Position {
    Position::from_code(branch.and_then(|branch| usize::try_from(branch).ok()), code)
}

/// One section of the book.
#[derive(Debug, Clone)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct SectionRecord {
    pub kind: String,
    pub name: String,
    pub text: String,
    pub position: i64,
    pub version: i64,
    pub is_on: bool,
    pub changed: Timestamp,
}

/// One earlier text of a section.
#[derive(Debug, Clone)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct VersionRecord {
    pub version: i64,
    pub text: Option<String>,
    pub at: Timestamp,
    pub who: String,
    pub note: Option<String>,
}

/// An OpenPGP key, its secret part sealed.
#[derive(Debug, Clone)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct KeyRecord {
    pub name: String,
    pub fingerprint: String,
    pub certificate: String,
    pub sealed: Option<Vec<u8>>,
    pub changed: Timestamp,
}

/// An item as the runner needs it: plain, complete, serialisable.
#[derive(Debug, Clone, PartialEq, Eq, serde::Serialize, serde::Deserialize)]
pub struct Work {
    /// The item's number.
    pub item: i64,
    /// Its run.
    pub run: i64,
    /// The rule that took it.
    pub rule: Name,
    /// The rule's version then.
    pub version: i64,
    /// What it is.
    pub kind: ItemKind,
    /// The file that came.
    pub file: FilePath,
    /// The state it came in.
    pub fingerprint: String,
    /// Its size in bytes.
    pub size: u64,
    /// Where it stands.
    pub state: ItemState,
    /// The branch that took it, once decided.
    pub branch: Option<usize>,
    /// Where it is on its way.
    pub position: Position,
    /// The file in hand after the last step, as the engine wrote it.
    pub hand: Option<String>,
    /// Failed attempts of the step.
    pub failures: u32,
    /// When the next attempt is due.
    pub due: Option<Timestamp>,
    /// How many rules it came through before.
    pub depth: u32,
    /// When it was taken in.
    pub taken: Timestamp,
    /// When its run began.
    pub started: Timestamp,
    /// What started the run.
    pub cause: Cause,
    /// What is known of the run besides, as a JSON object of texts.
    pub about: Option<String>,
    /// Of its last attempt nobody knows what became.
    pub unclear: bool,
}

/// An attempt of which nobody knows what became: a stop cut it short, or its answer was lost.
#[derive(Debug, Clone)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct GoingAttempt {
    pub id: i64,
    pub position: Position,
    pub kind: String,
    pub target: Option<FilePath>,
    pub intent: Option<String>,
    /// Its end was recorded: it failed, but may have had its effect all the same.
    pub has_ended: bool,
    pub size: Option<u64>,
    pub sha256: Option<String>,
    pub blake3: Option<String>,
}

/// Which runs are asked for.
#[derive(Debug, Clone, Default)]
pub struct RunFilter {
    /// Only runs of this rule.
    pub rule: Option<String>,
    /// Only runs in this state.
    pub state: Option<String>,
    /// Only runs older than this one.
    pub before: Option<i64>,
    /// At most so many.
    pub limit: u32,
}

/// A run in a list.
#[derive(Debug, Clone)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct RunSummary {
    pub id: i64,
    pub rule: String,
    pub cause: String,
    pub started: Timestamp,
    pub ended: Option<Timestamp>,
    pub state: String,
    /// Its files.
    pub items: i64,
    /// The first of them, or the folder where it looked for files.
    pub first_path: Option<RelPath>,
    pub first_size: u64,
    pub why: Option<String>,
}

/// A run by itself.
#[derive(Debug, Clone)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct RunRecord {
    pub id: i64,
    pub rule: String,
    pub version: i64,
    pub cause: String,
    pub about: Option<String>,
    pub why: Option<String>,
    pub started: Timestamp,
    pub ended: Option<Timestamp>,
    pub state: String,
}

/// An item of a run.
#[derive(Debug, Clone)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct ItemRecord {
    pub id: i64,
    pub kind: ItemKind,
    pub file: FilePath,
    pub size: u64,
    pub state: ItemState,
    pub branch: Option<i64>,
    pub position: Position,
    pub failures: i64,
    pub due: Option<Timestamp>,
    pub why: Option<String>,
    pub taken: Timestamp,
    pub ended: Option<Timestamp>,
}

/// One attempt at a step.
#[derive(Debug, Clone)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct AttemptRecord {
    pub id: i64,
    pub position: Position,
    pub kind: String,
    pub number: i64,
    pub began: Timestamp,
    pub ended: Option<Timestamp>,
    pub outcome: String,
    pub target: Option<FilePath>,
    pub size: Option<u64>,
    pub sha256: Option<String>,
    pub blake3: Option<String>,
    pub code: Option<String>,
    pub message: Option<String>,
    pub remedy: Option<String>,
}

/// An item that waits for a person.
#[derive(Debug, Clone)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct HoldRecord {
    pub item: i64,
    pub run: i64,
    pub rule: String,
    /// The version of the rule that it follows.
    pub version: i64,
    pub kind: ItemKind,
    pub file: FilePath,
    pub size: u64,
    pub branch: Option<i64>,
    pub position: Position,
    pub since: Timestamp,
    pub code: String,
    pub why: String,
    pub remedy: String,
}

/// An item found by name or checksum.
#[derive(Debug, Clone)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct TraceRecord {
    pub item: i64,
    pub run: i64,
    pub rule: String,
    pub kind: ItemKind,
    pub file: FilePath,
    pub size: u64,
    pub state: ItemState,
    pub why: Option<String>,
    pub taken: Timestamp,
    pub ended: Option<Timestamp>,
}

/// How many items are in a state.
#[derive(Debug, Clone)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct Count {
    pub group: i64,
    pub state: String,
    pub count: i64,
}

/// How many items ended in an hour.
#[derive(Debug, Clone)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct HourCount {
    pub hour: i64,
    pub state: String,
    pub count: i64,
    pub bytes: i64,
}
