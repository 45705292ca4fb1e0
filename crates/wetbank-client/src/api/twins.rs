//! Twins: two folders that are kept alike.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::ChangedLine;

/// How the two sides of a twin stand.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum TwinState {
    /// Both sides were alike after the last pass.
    Alike,
    /// A pass goes on.
    Going,
    /// Something waits for a person: a question, a pass that was stopped, or a file that is held.
    Asks,
    /// Something could not be done yet; a further pass sees to it.
    Waits,
    /// The last pass could not be made.
    Failed,
    /// There was no pass yet.
    New,
}

/// Two folders that are kept alike.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Twin {
    pub name: String,
    pub title: String,
    pub why: String,
    /// What it does, in words.
    pub sentence: String,
    /// The near folder, as `PLACE:/PATH`.
    pub near: String,
    /// The far folder.
    pub far: String,
    /// `add`, `update`, `exact` or `both`.
    pub way: String,
    /// Passes are made by themselves, if it says when.
    pub on: bool,
    /// So many days what a side loses is kept there.
    pub keep_days: u32,
    pub state: TwinState,
    /// The state in words.
    pub words: String,
    /// Since when it is so.
    pub since: Option<String>,
    /// What a person is asked.
    pub question: Option<TwinQuestion>,
    /// When its schedule fires next.
    pub next: Option<String>,
    /// The last passes, newest first. Passes that came to the same are one.
    pub passes: Vec<TwinPass>,
    /// Its text in the book.
    pub text: String,
}

/// What a person is asked about a twin; it is a held item.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TwinQuestion {
    pub item: i64,
    pub why: String,
}

/// A pass of a twin.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TwinPass {
    pub id: i64,
    pub began: String,
    pub ended: Option<String>,
    /// The run that carried it out; none where nothing was to be done.
    pub run: Option<i64>,
    /// What was planned, in words.
    pub words: String,
    /// Why it was not begun, or broke off.
    pub why: Option<String>,
    pub near_files: u64,
    pub far_files: u64,
}

/// What a person decided about a plan.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(default)]
pub struct TwinChoices {
    /// Answers by path on the near side: `near`, `far` or `both`.
    pub answers: BTreeMap<String, String>,
    /// Paths on the near side that are left out this time, with all below them.
    pub without: Vec<String>,
    /// Nothing is done but what is answered.
    pub only_answered: bool,
    /// What stopped the pass was seen, and is meant.
    pub allow: Option<TwinStop>,
}

/// Why a pass is not begun without asking.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TwinStop {
    /// `too-much`, `other` (another folder than last time) or `empty`.
    pub kind: String,
    /// `near` or `far`.
    pub side: String,
    #[serde(default)]
    pub deleted: u64,
    #[serde(default)]
    pub replaced: u64,
    /// Files there are, or were after the last pass.
    #[serde(default)]
    pub of: u64,
    /// So many are deleted or replaced without asking.
    #[serde(default)]
    pub most: u64,
    #[serde(default)]
    pub words: String,
}

/// What a pass would do.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TwinComparison {
    /// When both sides were looked at.
    pub at: String,
    /// Both sides meet for the first time: nothing is deleted or replaced.
    pub first: bool,
    pub stop: Option<TwinStop>,
    pub near_files: u64,
    pub far_files: u64,
    /// What it comes to, in words.
    pub words: String,
    /// Lines of the plan there are.
    pub all: u64,
    /// The first lines of the plan; what is alike is not in it.
    pub lines: Vec<TwinLine>,
}

/// What would be done about one path.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TwinLine {
    /// Its path on the near side, below the twin's folder; of what is not there the path that it gets.
    pub near: String,
    /// The same of the far side.
    pub far: String,
    pub folder: bool,
    /// `make`, `replace`, `delete`, `rename`, `make-folder`, `remove-folder`, `keep-both`, `ask`, `join`, `forget` or `leave`.
    pub does: String,
    /// The side on which it is done.
    pub on: Option<String>,
    /// What is done, in words.
    pub words: String,
    /// Why.
    pub why: String,
    /// Only if the contents of both sides turn out to differ.
    pub if_differs: bool,
    /// The file on the near side.
    pub here: Option<TwinFile>,
    /// The file on the far side.
    pub there: Option<TwinFile>,
    /// How it can be answered, if a person is asked.
    pub answers: Vec<String>,
}

/// A file of one side.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TwinFile {
    pub size: u64,
    /// When it was changed, as its place tells.
    pub modified: Option<String>,
}

/// A pass that is wanted.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(default)]
pub struct RunTwin {
    pub choices: TwinChoices,
    /// The answer does not wait for the end of the pass.
    pub at_once: bool,
}

/// What a pass came to.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TwinPassed {
    /// The pass; none if its end was not waited for.
    pub pass: Option<i64>,
    pub run: Option<i64>,
    pub first: bool,
    pub words: String,
    pub stop: Option<TwinStop>,
    /// Files that changed meanwhile: a further pass sees to them.
    pub left: u64,
    /// Files that wait for a person.
    pub held: u64,
    /// What a person is asked.
    pub asked: u64,
}

/// A file that a side lost and keeps.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
pub struct TwinKept {
    /// `near` or `far`.
    pub side: String,
    /// The day on which it was lost.
    pub day: String,
    /// Its path until then.
    pub path: String,
    pub size: u64,
    pub modified: Option<String>,
}

/// What the sides of a twin keep.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TwinKeeps {
    pub kept: Vec<TwinKept>,
    /// There is more.
    pub more: bool,
}

/// What is wanted back.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RestoreTwin {
    /// `near` or `far`.
    pub side: String,
    /// The day on which it was lost.
    pub day: String,
    /// Paths, each of a file or of a folder with all below; all of the day if there are none.
    #[serde(default)]
    pub paths: Vec<String>,
}

/// Both versions of a text, line by line.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct TwinTexts {
    /// Whose the near one is, where its place tells that.
    pub near_owner: Option<String>,
    pub far_owner: Option<String>,
    /// Why they cannot be shown so.
    pub why_not: Option<String>,
    pub lines: Vec<ChangedLine>,
}
