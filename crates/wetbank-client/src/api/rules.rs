//! What is told of rules, of what starts them, and of what they say of a file.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::{RunState, Warning};

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RuleSummary {
    pub name: String,
    pub title: String,
    /// The whole rule in plain words.
    pub sentence: String,
    pub why: String,
    pub on: bool,
    pub version: i64,
    /// Where its files come from first.
    pub place: String,
    pub folder: String,
    /// When its schedule fires next.
    pub next: Option<String>,
    pub last: Option<LastRun>,
    /// Runs of the last fourteen days, oldest first.
    pub days: Vec<DayRuns>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct LastRun {
    pub run: i64,
    pub started: String,
    pub state: RunState,
}

#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct DayRuns {
    /// The day.
    pub day: String,
    pub done: i64,
    pub held: i64,
    pub other: i64,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Rule {
    #[serde(flatten)]
    pub summary: RuleSummary,
    pub text: String,
    pub changed: String,
    /// What starts it, in words.
    pub starts: String,
    /// Names it is about; empty for every name.
    pub names: Vec<String>,
    /// How long a file that comes must stay unchanged; nothing if it does not start by arrivals.
    pub settle: Option<String>,
    pub below: bool,
    /// The next firings of its schedule.
    pub firings: Vec<String>,
    /// How another system starts it, if one may.
    pub signal: Option<SignalHelp>,
    /// What keeps it from seeing its files now.
    pub troubles: Vec<Warning>,
    pub branches: Vec<Branch>,
    pub versions: Vec<Version>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Branch {
    pub title: String,
    /// Its condition in words; nothing for the default.
    pub condition: Option<String>,
    pub steps: Vec<Step>,
    /// What becomes of the original.
    pub original: String,
    /// Today's files.
    pub done: i64,
    pub held: i64,
    pub open: i64,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Step {
    pub kind: String,
    /// What it does, in words.
    pub words: String,
    /// The same without the verb.
    pub rest: String,
    /// The place it puts files to.
    pub place: Option<String>,
    pub folder: Option<String>,
    /// For which files it is, in words; nothing for all.
    pub condition: Option<String>,
    /// What is done when it failed for good, in words; nothing: the file is held.
    pub on_failure: Vec<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Version {
    pub version: i64,
    pub at: String,
    pub who: String,
    pub text: Option<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Switch {
    pub on: bool,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct RunFile {
    /// `PLACE:/PATH`; without it the rule looks for its files itself.
    pub file: Option<String>,
    /// Without a file: also those that the rule took before.
    #[serde(default)]
    pub all: bool,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Started {
    pub run: i64,
    /// The chosen file's item.
    pub item: Option<i64>,
}

/// A firing of a schedule that is to come.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Firing {
    pub rule: String,
    pub title: String,
    pub at: String,
}

/// Which days an office works.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Calendar {
    pub name: String,
    pub title: String,
    /// The weekdays that are worked: `mon`, `tue`, …
    pub week: Vec<String>,
    pub off: Vec<DaySpan>,
    /// Rules that use it.
    pub rules: Vec<String>,
}

/// Days, the first and the last.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DaySpan {
    pub first: String,
    pub last: String,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct CalendarFile {
    /// The calendar file's content.
    pub text: String,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ImportedDays {
    /// Days off that are new.
    pub added: usize,
    /// Events that were left out, each with the reason.
    pub left_out: Vec<String>,
}

/// How another system starts a rule.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SignalHelp {
    /// The address that is called.
    pub address: String,
    /// The commands that make the call, to be copied.
    pub commands: String,
}

/// In which order rules are asked: every rule, each once.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[serde(deny_unknown_fields)]
pub struct RuleOrder {
    pub rules: Vec<String>,
}

/// What rules say of a file.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Explained {
    pub file: String,
    /// Whether the file is there.
    pub found: bool,
    pub size: Option<u64>,
    pub modified: Option<String>,
    /// When a watcher saw it in this state first.
    pub seen: Option<String>,
    /// Why nobody can look at it.
    pub away: Option<String>,
    pub rules: Vec<ExplainedRule>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ExplainedRule {
    pub rule: String,
    pub title: String,
    /// The trigger's tests.
    pub trigger: Vec<Verdict>,
    /// The branches that were asked.
    pub branches: Vec<BranchVerdict>,
    pub taken: bool,
    pub outcome: String,
    /// It looks for no files itself: it takes what another rule, or a signal, hands it.
    #[serde(default)]
    pub handed: bool,
    /// What else decides, each in a sentence, as in "the rule took this very file before".
    #[serde(default)]
    pub notes: Vec<String>,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct BranchVerdict {
    pub title: String,
    pub verdict: Verdict,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
#[schema(no_recursion)]
pub struct Verdict {
    /// What was asked.
    pub asked: String,
    /// What the file has.
    pub found: String,
    pub holds: bool,
    #[serde(default)]
    pub parts: Vec<Verdict>,
}
