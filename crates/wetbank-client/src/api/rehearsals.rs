use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{ExplainedRule, ProposedDraft};

/// Which rule is rehearsed, over which files. Nothing is touched, written or sent.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct AskRehearsal {
    /// The name of a rule in force.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub rule: Option<String>,
    /// With it: one of its versions, in place of the one in force.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub version: Option<i64>,
    /// In place of a rule in force: one that is still being made.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub draft: Option<ProposedDraft>,
    /// Whether it is compared with the version in force.
    #[serde(default)]
    pub compare: bool,
    /// In place of that: the version with which it is compared.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub against: Option<i64>,
    pub over: RehearsedOver,
    /// Which files are told one by one.
    #[serde(default)]
    pub only: RehearsedOnly,
    /// Only those that came on this day, as in `2026-03-14`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub day: Option<String>,
    /// So many of them are left out at the beginning.
    #[serde(default)]
    pub from: usize,
    /// So many at most; 50 if it is not said, 500 at most.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub most: Option<usize>,
}

/// Over which files.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum RehearsedOver {
    /// What lies where the rule looks.
    #[default]
    Here,
    /// One file, as `PLACE:/PATH`.
    File(String),
    /// An arrival on record.
    Arrival(i64),
    /// What came in so many days.
    Days(u32),
}

/// Which files are told one by one.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum RehearsedOnly {
    /// Every one.
    #[default]
    All,
    /// Those that would go otherwise.
    Differing,
    /// Those that go as before.
    Same,
    /// Those that would wait for a person.
    ToAPerson,
    /// Those that would come to lie elsewhere.
    Elsewhere,
    /// Those with which other things would be done.
    Otherwise,
    /// Those that stay lying today and would be taken.
    NewlyTaken,
    /// Those that are taken today and would stay lying.
    NoLongerTaken,
}

/// What came of a rehearsal.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Rehearsal {
    pub rule: String,
    pub title: String,
    /// The version with which it was compared.
    pub against: Option<i64>,
    /// It in one sentence: `17 of 2,340 files would go otherwise`.
    pub headline: String,
    /// Files.
    pub files: usize,
    /// Those that would go otherwise, by how.
    pub differing: Vec<RehearsedKind>,
    /// By the day on which they came, in the rule's time zone.
    pub days: Vec<RehearsedDay>,
    /// By where they go, most first.
    pub ways: Vec<RehearsedWay>,
    /// Files that would wait for a person, because a file of this rehearsal before them gets the same name.
    pub same_names: usize,
    /// Files of which are told one by one; of these `shown` holds a page.
    pub asked_for: usize,
    pub shown: Vec<RehearsedFile>,
    /// The record of what came goes back to here.
    pub on_record_since: Option<String>,
    /// What was not looked at, and why.
    pub left: Vec<String>,
    /// Milliseconds that it took.
    pub took: u64,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RehearsedKind {
    pub kind: RehearsedOnly,
    pub files: usize,
    /// `11 would wait for a person`.
    pub words: String,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RehearsedDay {
    pub day: String,
    pub files: usize,
    pub differing: usize,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RehearsedWay {
    /// The branch; nothing for files that none takes.
    pub branch: Option<String>,
    /// The places they come to.
    pub places: Vec<String>,
    /// Whether they wait for a person.
    pub held: bool,
    pub files: usize,
}

/// A file of a rehearsal.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RehearsedFile {
    /// Its number on record, if it came from there.
    pub arrival: Option<i64>,
    pub file: String,
    pub size: u64,
    /// When it came; now for one that lies there.
    pub came: String,
    /// What the version that it is compared with does.
    pub before: Option<Foreseen>,
    /// What the rule does.
    pub after: Foreseen,
    /// In which way that differs.
    pub kind: Option<RehearsedOnly>,
    /// What decides the difference.
    pub why: Option<String>,
}

/// A file's way, foreseen.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Foreseen {
    /// The branch that takes it.
    pub branch: Option<String>,
    /// Why, comparison by comparison.
    pub explained: ExplainedRule,
    pub steps: Vec<ForeseenStep>,
    /// What becomes of the file that came, in words.
    pub end: String,
    /// Whether it waits for a person.
    pub held: bool,
}

/// A step, foreseen.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ForeseenStep {
    /// The index of its branch.
    pub branch: usize,
    /// Its index there.
    pub step: usize,
    pub kind: String,
    /// The name of the file in hand.
    pub file: String,
    /// What is done, with names filled in.
    pub words: String,
    /// The name of the file that it makes.
    pub makes: Option<String>,
    /// Where something would lie afterwards.
    pub comes_to: Option<String>,
    /// What a look there found, and what would be done about it.
    pub found: Option<String>,
    /// Why it is left out for this file.
    pub left_out: Option<String>,
    /// What only the run itself can tell.
    pub open: Option<String>,
}

/// A file that came, taken or not.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Arrival {
    pub id: i64,
    pub file: String,
    pub size: u64,
    pub modified: String,
    /// When it was seen in this state first.
    pub seen: String,
}

/// How much of what came stays on record.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct KeepArrivals {
    /// Days, from 1 to 3,650.
    pub days: u32,
    /// Files, from 1 to 5,000,000.
    pub most: u32,
}

/// The record of what came.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ArrivalsKept {
    /// Days for which an arrival stays on record.
    pub days: u32,
    /// Arrivals that stay on record at most.
    pub most: u32,
    /// Arrivals on record.
    pub count: u64,
    /// When the oldest of them came.
    pub since: Option<String>,
}
