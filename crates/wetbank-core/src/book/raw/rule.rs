//! A rule: what starts it, which files it looks for, its branches.

use schemars::JsonSchema;
use serde::Deserialize;
use toml::Spanned;

use super::OfAccount;
use crate::{
    Attribute, Busy, ChainEvent, Missed, OnFault,
    shape::{Case, Nothing, OneOrMany, Text, holds},
    step::StepShape,
};

/// What is done with which files, and when.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "Rule")]
pub(crate) struct Rule {
    /// Its title for people; its name unless it is said.
    #[schemars(title = "Title")]
    pub title: Option<String>,
    /// Why it is there.
    #[serde(default)]
    #[schemars(title = "Why", extend("holds" = "lines"))]
    pub why: String,
    /// The group it belongs to: who may act or arrange in that group only may do so with it.
    #[schemars(title = "Group", extend("seldom" = true))]
    pub group: Option<Text<holds::GroupName>>,
    /// Whose clock counts for dates in names and for its schedule.
    #[schemars(title = "Time zone", extend("seldom" = true, "default" = "UTC"))]
    pub zone: Option<Text<holds::Zone>>,
    /// What starts it.
    #[schemars(title = "Starts", with = "Starts")]
    pub starts: Spanned<Starts>,
    /// Files to look for when no arriving file began the run; without it those that an arrival would be about.
    #[serde(default)]
    #[schemars(title = "Finds")]
    pub finds: Vec<Find>,
    /// What a held file means for the others of its run.
    #[schemars(title = "When a file is held", extend("seldom" = true, "default" = "wait"))]
    pub on_fault: Option<OnFault>,
    /// A run that takes longer is held.
    #[schemars(title = "Longest run", extend("seldom" = true))]
    pub limit: Option<Text<holds::Duration>>,
    /// A run that looks for files and would delete, move or replace more than this stops before its first action and asks.
    /// Without it a run that only deletes asks before more than 200 files, and others never do.
    #[schemars(title = "Brake", extend("seldom" = true))]
    pub brake: Option<RuleBrake>,
    /// When what failed is tried again; else as the place says where it failed.
    #[schemars(title = "Try again", extend("seldom" = true))]
    pub retry: Option<Retry>,
    /// Asked in order; the first whose condition holds takes the file.
    #[schemars(title = "Branches", with = "Vec<Branch>")]
    pub branch: Spanned<Vec<Branch>>,
}

/// How much a run that looks for files deletes, moves and replaces without asking.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct RuleBrake {
    /// Files that are deleted, moved away or replaced, together.
    #[schemars(title = "Files at most")]
    pub files: u64,
}

/// What starts a rule: one of these or several. A person can start every rule.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct Starts {
    /// A file is complete in a folder, changed there, or is gone.
    #[schemars(title = "A file comes")]
    pub arrival: Option<Arrival>,
    /// The clock.
    #[schemars(title = "By the clock", with = "Option<Schedule>")]
    pub schedule: Option<Spanned<Schedule>>,
    /// Another rule did something with a file.
    #[schemars(title = "After another rule")]
    pub chain: Option<Chain>,
    /// Another system calls `/signal/RULE` of the service.
    #[schemars(title = "Another system says so")]
    pub signal: Option<Signal>,
    /// A letter comes into a mailbox; the files attached to it are the run's.
    #[schemars(title = "A letter comes")]
    pub mail: Option<Letters>,
    /// An account of our own server did something.
    #[schemars(title = "A partner hands in")]
    pub account: Option<OfAccount>,
    /// Only people start it.
    #[schemars(title = "By hand only")]
    pub hand: Option<Nothing>,
}

/// Another system says so.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct Signal {
    /// The secret with which it proves what it says.
    #[schemars(title = "Secret")]
    pub secret: Text<holds::SecretName>,
}

/// A letter comes into a mailbox; its attachments are the files. When all of them are done, the letter is filed away.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct Letters {
    /// The mailbox.
    #[schemars(title = "Mailbox")]
    pub place: Text<holds::PlaceName>,
    /// Where in it letters come in.
    #[schemars(title = "Folder", extend("default" = "INBOX"))]
    pub folder: Option<Text<holds::Folder>>,
    /// Patterns of the attachments' names; every one if it is left out.
    #[serde(default)]
    #[schemars(title = "Named")]
    pub names: Vec<Text<holds::Pattern>>,
    /// Patterns of those that are left alone.
    #[serde(default)]
    #[schemars(title = "But not")]
    pub except: Vec<Text<holds::Pattern>>,
    /// What all that is taken out of a letter may have together.
    #[schemars(title = "At most", extend("seldom" = true, "default" = "1 GB"))]
    pub most: Option<Text<holds::Size>>,
    /// The folder of the mailbox where the letter goes at the end, made if it is not there; without it the letter stays.
    #[schemars(title = "File it in")]
    pub file_in: Option<Text<holds::Folder>>,
    /// How often the mailbox is looked through; unless it is said soon after something came, and ever more seldom while
    /// nothing comes.
    #[schemars(title = "Look every", extend("seldom" = true))]
    pub look_every: Option<Text<holds::Duration>>,
    /// Whether capitals count when names are compared.
    #[serde(default)]
    #[schemars(title = "Capitals", extend("seldom" = true))]
    pub case: Case,
}

/// A file is complete in a folder, changed there, or is gone.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct Arrival {
    /// Where files come.
    #[schemars(title = "Place")]
    pub place: Text<holds::PlaceName>,
    /// The folder there; the root if it is left out.
    #[schemars(title = "Folder")]
    pub folder: Option<Text<holds::Folder>>,
    /// Patterns such as `*.csv` or `assay-{04,05}*`; every name if it is left out.
    #[serde(default)]
    #[schemars(title = "Named")]
    pub names: Vec<Text<holds::Pattern>>,
    /// Patterns of those that are left alone.
    #[serde(default)]
    #[schemars(title = "But not")]
    pub except: Vec<Text<holds::Pattern>>,
    /// Folders below it count too.
    #[serde(default)]
    #[schemars(title = "Folders below too")]
    pub below: bool,
    /// How long it must stay unchanged. Without it a file in a folder of this machine is complete when nobody has it open
    /// for writing any more, however long that takes; where nobody can tell that, when it stayed the same for 10 s.
    #[schemars(title = "Unchanged for")]
    pub settle: Option<Text<holds::Duration>>,
    /// The file beside it that says it is complete: `*.done` is `assay.csv.done` for `assay.csv`, `?.done` is `assay.done`.
    /// It must not be older than its file, and is taken for no file itself.
    #[schemars(title = "Marker", extend("seldom" = true))]
    pub marker: Option<Text>,
    /// How often a server or mounted share is looked through; unless it is said soon (5 s) after something came, and ever
    /// more seldom, up to every 2 min, while nothing comes. No server is listed for more than half of the time.
    #[schemars(title = "Look every", extend("seldom" = true))]
    pub look_every: Option<Text<holds::Duration>>,
    /// The rule takes files that it made itself.
    #[serde(default)]
    #[schemars(title = "Own results too", extend("seldom" = true))]
    pub own_results: bool,
    /// What happened to the file: `new`, `changed`, `gone`. One that is gone has a name and nothing else; what the rule
    /// itself takes away is not gone.
    #[schemars(title = "Of files that are", extend("seldom" = true, "default" = ["new", "changed"]))]
    pub of: Option<Vec<Of>>,
    /// Until when files wait for each other; then they are one run. 10,000 never wait for more.
    #[schemars(title = "Gather", extend("seldom" = true))]
    pub gather: Option<Gather>,
    /// Whether capitals count when names are compared.
    #[serde(default)]
    #[schemars(title = "Capitals", extend("seldom" = true))]
    pub case: Case,
}

/// What happened to a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub(crate) enum Of {
    /// It was not there before.
    New,
    /// It is otherwise than before.
    Changed,
    /// It is not there any more.
    Gone,
}

/// Until when files wait for each other: one of these.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) enum Gather {
    /// Until none came for so long, 3 s or more.
    Quiet(Text<holds::Duration>),
    /// Until there are so many.
    Count(#[schemars(with = "usize")] Spanned<usize>),
    /// Until this file is there; each state of it counts once.
    Marker(Text),
    /// Until there is one for each of these patterns.
    OneOfEach(Vec<Text<holds::Pattern>>),
}

/// Another rule did something with a file. It is on record together with what started it: no stop between the two loses
/// it or does it twice.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct Chain {
    /// What it did. After `moved` what was put there is the file; after `failed` the file that came is.
    #[schemars(title = "After it was")]
    pub after: Vec<ChainEvent>,
    /// Only these rules; every other one if it is left out.
    #[serde(default)]
    #[schemars(title = "By")]
    pub rules: Vec<Text<holds::RuleName>>,
    /// Only files that came from these places.
    #[serde(default)]
    #[schemars(title = "Coming from", extend("seldom" = true))]
    pub from: Vec<Text<holds::PlaceName>>,
    /// Only what went to these places.
    #[serde(default)]
    #[schemars(title = "To", extend("seldom" = true))]
    pub to: Vec<Text<holds::PlaceName>>,
    /// Only what went to these partners.
    #[serde(default)]
    #[schemars(title = "For", extend("seldom" = true))]
    pub partners: Vec<Text<holds::PartnerName>>,
}

/// By the clock of the rule's time zone: one of `every`, `at` and `cron`.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct Schedule {
    /// Again and again, counted from the start of the day, as in `15 min`; from 1 s to a day.
    #[schemars(title = "Every")]
    pub every: Option<Text<holds::Duration>>,
    /// At a time of day, or several: `07:30`.
    #[schemars(title = "At", with = "Option<OneOrMany>", extend("holds" = "time-of-day"))]
    pub at: Option<Spanned<OneOrMany>>,
    /// Five fields: `*/10 8-18 * * mon-fri`.
    #[schemars(title = "Cron expression", extend("seldom" = true))]
    pub cron: Option<Text>,
    /// Days of the week (`mon`, `thu`), or one of `working-days`, `first-working-day`, `last-working-day` (of a month),
    /// `first-day`, `last-day`; every day if it is left out.
    #[schemars(title = "On", with = "Option<OneOrMany>")]
    pub on: Option<Spanned<OneOrMany>>,
    /// Only from this time of a day.
    #[schemars(title = "From", extend("seldom" = true))]
    pub from: Option<Text<holds::TimeOfDay>>,
    /// Only until this time of a day.
    #[schemars(title = "Until", extend("seldom" = true))]
    pub until: Option<Text<holds::TimeOfDay>>,
    /// Whose working days count; Monday to Friday if it is left out.
    #[schemars(title = "Calendar", extend("seldom" = true))]
    pub calendar: Option<Text<holds::CalendarName>>,
    /// What becomes of firings that nobody was there for, more than a minute late.
    #[schemars(title = "What was missed", extend("seldom" = true, "default" = "once"))]
    pub missed: Option<Missed>,
    /// What a firing does while the run before goes on.
    #[schemars(title = "While the run before goes on", extend("seldom" = true, "default" = "wait"))]
    pub busy: Option<Busy>,
}

/// Files to look for when a run starts.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct Find {
    /// Where they are looked for.
    #[schemars(title = "Place")]
    pub place: Text<holds::PlaceName>,
    /// The folder there; the root if it is left out.
    #[schemars(title = "Folder")]
    pub folder: Option<Text<holds::FolderTemplate>>,
    /// Patterns, which take placeholders: `bulletin-{{ now | date('%G-W%V') }}.pdf`; every name if it is left out.
    #[serde(default)]
    #[schemars(title = "Named")]
    pub names: Vec<Text<holds::PatternTemplate>>,
    /// Patterns of those that are left alone.
    #[serde(default)]
    #[schemars(title = "But not", extend("seldom" = true))]
    pub except: Vec<Text<holds::Pattern>>,
    /// Folders below it count too.
    #[serde(default)]
    #[schemars(title = "Folders below too")]
    pub below: bool,
    /// Only files that the rule did not take in this state before.
    #[serde(default)]
    #[schemars(title = "Only what is new", extend("seldom" = true))]
    pub only_new: bool,
    /// So many must be there, or the search is held: released, it looks again. What it found goes its way meanwhile.
    #[serde(default)]
    #[schemars(title = "At least", extend("seldom" = true))]
    pub least: usize,
    /// Whether capitals count when names are compared.
    #[serde(default)]
    #[schemars(title = "Capitals", extend("seldom" = true))]
    pub case: Case,
}

/// Days that an office works.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "Calendar")]
pub(crate) struct Calendar {
    /// Its title for people; its name unless it is said.
    #[schemars(title = "Title")]
    pub title: Option<String>,
    /// The days of a week on which it works.
    #[schemars(title = "Working days", extend("default" = ["mon", "tue", "wed", "thu", "fri"]))]
    pub week: Option<Vec<Text<holds::Weekday>>>,
    /// Days off: `2026-12-25`, or the first and last of several, `2026-12-28..2027-01-01`.
    #[serde(default)]
    #[schemars(title = "Days off")]
    pub off: Vec<Text<holds::Day>>,
}

/// When what failed is tried again: after `first`, then each time after twice as long, up to `longest`.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct Retry {
    /// So many attempts in all; then the file is held.
    #[schemars(title = "Attempts", extend("default" = 6))]
    pub attempts: Option<u32>,
    /// The first pause.
    #[schemars(title = "First after", extend("default" = "2s"))]
    pub first: Option<Text<holds::Duration>>,
    /// The longest pause.
    #[schemars(title = "At most after", extend("default" = "5 min"))]
    pub longest: Option<Text<holds::Duration>>,
}

/// What is done with files for which something holds.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct Branch {
    /// Its title; its condition in words unless it is said.
    #[schemars(title = "Title")]
    pub title: Option<String>,
    /// What must hold; a branch without it takes every file and comes last.
    #[serde(rename = "if")]
    #[schemars(title = "If", with = "Option<Condition>")]
    pub condition: Option<Spanned<Condition>>,
    /// What is done, one after the other.
    #[schemars(title = "Steps", with = "Vec<StepShape>")]
    pub steps: Vec<Spanned<StepShape>>,
    /// What becomes of the original, once every delivery is verified.
    #[schemars(title = "The original", extend("default" = "stays"))]
    pub original: Option<Original>,
}

/// What becomes of the original.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum Original {
    /// It stays where it is.
    Stays,
    /// It is deleted.
    Delete,
    /// It is set aside in this folder below the watched one, or with a leading slash below the place's root; what lies
    /// there the rule never takes.
    MoveTo(Text<holds::FolderTemplate>),
    /// It stays, and an empty file of this name beside it says that it was seen to.
    Mark(Text<holds::NameTemplate>),
}

/// A group (`all`, `any`, `none`) or one test: what is asked (`file`, `run`, `chain`, `signal`, `mail` or `account`) and one
/// comparison.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct Condition {
    /// All of these hold.
    #[schemars(title = "All of", with = "Option<Vec<Condition>>")]
    pub all: Option<Vec<Spanned<Condition>>>,
    /// One of these holds.
    #[schemars(title = "Any of", with = "Option<Vec<Condition>>")]
    pub any: Option<Vec<Spanned<Condition>>>,
    /// None of these holds.
    #[schemars(title = "None of", with = "Option<Vec<Condition>>")]
    pub none: Option<Vec<Spanned<Condition>>>,
    /// What of the file.
    #[schemars(title = "Of the file", with = "Option<Attribute>")]
    pub file: Option<Spanned<Attribute>>,
    /// What of the run: `cause` (`arrival`, `hand`, `schedule`, `chain`, `signal`, `mail`,
    /// `account`) or `event` (`new`, `changed`,
    /// `gone`).
    #[schemars(title = "Of the run")]
    pub run: Option<Text>,
    /// What of the other rule: `rule`, `event`, `from` or `partner`.
    #[schemars(title = "Of the other rule")]
    pub chain: Option<Text>,
    /// Which field of the signal, as in `item.status`.
    #[schemars(title = "Of the signal")]
    pub signal: Option<Text>,
    /// What of the letter: `from`, `to`, `subject` or `date`.
    #[schemars(title = "Of the letter")]
    pub mail: Option<Text>,
    /// What of the account: `name`, `partner`, `event`, `address` or `visit`.
    #[schemars(title = "Of the account")]
    pub account: Option<Text>,
    /// It is this, or one of these.
    #[schemars(title = "is")]
    pub is: Option<OneOrMany>,
    /// It is not this, and none of these.
    #[schemars(title = "is not")]
    pub is_not: Option<OneOrMany>,
    /// It starts with this.
    #[schemars(title = "starts with")]
    pub starts_with: Option<Text>,
    /// It ends with this.
    #[schemars(title = "ends with")]
    pub ends_with: Option<Text>,
    /// It contains this.
    #[schemars(title = "contains")]
    pub contains: Option<Text>,
    /// It is like this pattern.
    #[schemars(title = "is like")]
    pub like: Option<Text<holds::Pattern>>,
    /// This regular expression is found in it.
    #[schemars(title = "matches")]
    pub matches: Option<Text>,
    /// The folder is this one or below it.
    #[schemars(title = "is within")]
    pub within: Option<Text<holds::Folder>>,
    /// The size or age is less, as in `200 MB` or `1h 30m`.
    #[schemars(title = "is under")]
    pub under: Option<Text>,
    /// The size or age is more, as in `4 KiB` or `2 days`.
    #[schemars(title = "is over")]
    pub over: Option<Text>,
    /// The time is before this one, as in `2026-03-14` or `2026-03-14T06:00:00Z`.
    #[schemars(title = "is before")]
    pub before: Option<Text>,
    /// The time is after this one.
    #[schemars(title = "is after")]
    pub after: Option<Text>,
    /// Whether capitals count when texts are compared.
    #[serde(default)]
    #[schemars(title = "Capitals")]
    pub case: Case,
}
