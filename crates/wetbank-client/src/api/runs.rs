//! What is told of runs, their files, and those that wait for a person.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{AttemptOutcome, Cause, ItemKind, ItemState, RunState, StepState};

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RunPage {
    pub runs: Vec<RunSummary>,
    /// Ask with `before` set to this for the next page.
    pub next: Option<i64>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RunSummary {
    pub id: i64,
    pub rule: String,
    pub title: String,
    pub cause: Cause,
    pub started: String,
    pub ended: Option<String>,
    pub state: RunState,
    pub items: i64,
    /// Its first file, or the folder where it looked for files.
    pub file: String,
    pub size: u64,
    pub why: Option<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Run {
    pub id: i64,
    pub rule: String,
    pub title: String,
    pub version: i64,
    pub cause: Cause,
    pub started: String,
    pub ended: Option<String>,
    pub state: RunState,
    /// Why it was left out, if it was.
    pub why: Option<String>,
    /// What is known of it besides: what a signal said, who wrote the letter, which rule was before.
    pub about: BTreeMap<String, String>,
    /// At most 200 items.
    pub items: Vec<Item>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Item {
    pub id: i64,
    pub kind: ItemKind,
    pub file: String,
    pub size: u64,
    pub state: ItemState,
    pub branch: Option<i64>,
    pub branch_title: Option<String>,
    /// The steps of its way.
    pub steps: Vec<ItemStep>,
    /// Where it is: the index of a step, -1 at its original, -2 at its end, -3 at the end of a failure path.
    pub step: i64,
    pub failures: i64,
    /// When the next attempt is due.
    pub due: Option<String>,
    pub why: Option<String>,
    pub taken: String,
    pub ended: Option<String>,
    pub attempts: Vec<Attempt>,
    pub hold: Option<Hold>,
}

/// A step on an item's way.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ItemStep {
    /// Its position, which attempts refer to: the index of a step, or -1 for the original.
    pub at: i64,
    pub kind: String,
    pub state: StepState,
    /// Whether it belongs to what is done when another step failed.
    pub on_failure: bool,
}

/// Which part of a run goes on.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct Retry {
    /// Only this item; without it, all that is held or waits.
    pub item: Option<i64>,
}

/// What became of what was not at its end in a run that was stopped.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct StoppedRun {
    /// So many files are held.
    pub held: usize,
    /// So many were at work and came to their end.
    pub ended: usize,
    /// So many are still at work: they are held at the next safe point, unless they end before.
    pub stopping: usize,
}

/// How much a call changed.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Affected {
    /// So many files.
    pub items: usize,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Attempt {
    pub id: i64,
    pub step: i64,
    pub kind: String,
    pub number: i64,
    pub began: String,
    pub ended: Option<String>,
    pub outcome: AttemptOutcome,
    /// Nothing is there any more: the file was taken away.
    pub removed: bool,
    /// Where its result is.
    pub target: Option<String>,
    pub size: Option<u64>,
    pub sha256: Option<String>,
    pub blake3: Option<String>,
    pub code: Option<String>,
    pub message: Option<String>,
    pub remedy: Option<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct HoldPage {
    pub holds: Vec<Hold>,
    /// Ask with `before` set to this for the next page.
    pub next: Option<i64>,
}

/// An item that waits for a person.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Hold {
    pub item: i64,
    pub run: i64,
    pub rule: String,
    pub title: String,
    pub file: String,
    pub size: u64,
    /// The kind of the step it stopped at.
    pub step: String,
    pub since: String,
    pub code: String,
    pub why: String,
    pub remedy: String,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Dismiss {
    pub why: String,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Traces {
    pub items: Vec<Traced>,
}

/// A file's way, from where it came to where it is.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Traced {
    pub item: i64,
    pub run: i64,
    pub rule: String,
    pub title: String,
    pub file: String,
    pub size: u64,
    pub state: ItemState,
    pub why: Option<String>,
    pub taken: String,
    pub ended: Option<String>,
    pub hops: Vec<Attempt>,
    /// What was made of it and goes on instead of it, or with others: parcels, parts.
    #[schema(no_recursion)]
    pub made: Vec<Traced>,
    /// More was made of it than is told.
    pub more: bool,
}
