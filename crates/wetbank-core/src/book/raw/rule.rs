//! A rule: what starts it, which files it looks for, its branches.

use schemars::JsonSchema;
use serde::Deserialize;
use toml::Spanned;

use super::{Nothing, Original, Step, Text};
use crate::{Attribute, Busy, ChainEvent, Missed, OnFault};

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(in crate::book) struct Rule {
    pub title: Option<String>,
    #[serde(default)]
    pub why: String,
    pub zone: Option<Text>,
    #[schemars(with = "Starts")]
    pub starts: Spanned<Starts>,
    #[serde(default)]
    pub finds: Vec<Find>,
    pub on_fault: Option<OnFault>,
    pub limit: Option<Text>,
    pub retry: Option<Retry>,
    #[schemars(with = "Vec<Branch>")]
    pub branch: Spanned<Vec<Branch>>,
}

/// What starts a rule: one of these or several. A person can start every rule.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(in crate::book) struct Starts {
    pub arrival: Option<Arrival>,
    #[schemars(with = "Option<Schedule>")]
    pub schedule: Option<Spanned<Schedule>>,
    pub chain: Option<Chain>,
    pub signal: Option<Signal>,
    pub mail: Option<Letters>,
    pub hand: Option<Nothing>,
}

/// Another system says so.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(in crate::book) struct Signal {
    pub secret: Text,
}

/// A letter comes into a mailbox; its attachments are the files.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(in crate::book) struct Letters {
    pub place: Text,
    pub folder: Option<Text>,
    #[serde(default)]
    pub names: Vec<Text>,
    #[serde(default)]
    pub except: Vec<Text>,
    pub most: Option<Text>,
    pub file_in: Option<Text>,
    pub look_every: Option<Text>,
    #[serde(default)]
    pub case: Case,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(in crate::book) struct Arrival {
    pub place: Text,
    pub folder: Option<Text>,
    #[serde(default)]
    pub names: Vec<Text>,
    #[serde(default)]
    pub except: Vec<Text>,
    #[serde(default)]
    pub below: bool,
    pub settle: Option<Text>,
    pub marker: Option<Text>,
    pub look_every: Option<Text>,
    #[serde(default)]
    pub own_results: bool,
    pub of: Option<Vec<Of>>,
    pub gather: Option<Gather>,
    #[serde(default)]
    pub case: Case,
}

/// What happened to a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub(in crate::book) enum Of {
    New,
    Changed,
    Gone,
}

/// Until when files wait for each other: one of these.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(in crate::book) enum Gather {
    Quiet(Text),
    Count(#[schemars(with = "usize")] Spanned<usize>),
    Marker(Text),
    OneOfEach(Vec<Text>),
}

/// What another rule did with a file.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(in crate::book) struct Chain {
    pub after: Vec<ChainEvent>,
    #[serde(default)]
    pub rules: Vec<Text>,
    #[serde(default)]
    pub from: Vec<Text>,
    #[serde(default)]
    pub to: Vec<Text>,
    #[serde(default)]
    pub partners: Vec<Text>,
}

/// Times: one of `every`, `at` and `cron`.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(in crate::book) struct Schedule {
    pub every: Option<Text>,
    #[schemars(with = "Option<OneOrMany>")]
    pub at: Option<Spanned<OneOrMany>>,
    pub cron: Option<Text>,
    #[schemars(with = "Option<OneOrMany>")]
    pub on: Option<Spanned<OneOrMany>>,
    pub from: Option<Text>,
    pub until: Option<Text>,
    pub calendar: Option<Text>,
    pub missed: Option<Missed>,
    pub busy: Option<Busy>,
}

/// Files to look for when a run starts.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(in crate::book) struct Find {
    pub place: Text,
    pub folder: Option<Text>,
    #[serde(default)]
    pub names: Vec<Text>,
    #[serde(default)]
    pub except: Vec<Text>,
    #[serde(default)]
    pub below: bool,
    #[serde(default)]
    pub only_new: bool,
    #[serde(default)]
    pub least: usize,
    #[serde(default)]
    pub case: Case,
}

/// Days that an office works.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(in crate::book) struct Calendar {
    pub title: Option<String>,
    pub week: Option<Vec<Text>>,
    #[serde(default)]
    pub off: Vec<Text>,
}

/// One text or several, each with the position of all.
pub(in crate::book) fn texts(list: &Spanned<OneOrMany>) -> Vec<Text> {
    list.as_ref().clone().into_list().into_iter().map(|one| Text(Spanned::new(list.span(), one))).collect()
}

#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(in crate::book) struct Retry {
    pub attempts: Option<u32>,
    pub first: Option<Text>,
    pub longest: Option<Text>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(in crate::book) struct Branch {
    pub title: Option<String>,
    #[serde(rename = "if")]
    pub condition: Option<Condition>,
    #[schemars(with = "Vec<Step>")]
    pub steps: Vec<Spanned<Step>>,
    pub original: Option<Original>,
}

/// A group (`all`, `any`, `none`) or one test (`file` and one comparison).
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(in crate::book) struct Condition {
    #[schemars(with = "Option<Vec<Condition>>")]
    pub all: Option<Vec<Condition>>,
    #[schemars(with = "Option<Vec<Condition>>")]
    pub any: Option<Vec<Condition>>,
    #[schemars(with = "Option<Vec<Condition>>")]
    pub none: Option<Vec<Condition>>,
    #[schemars(with = "Option<Attribute>")]
    pub file: Option<Spanned<Attribute>>,
    pub run: Option<Text>,
    pub chain: Option<Text>,
    pub signal: Option<Text>,
    pub mail: Option<Text>,
    pub is: Option<OneOrMany>,
    pub is_not: Option<OneOrMany>,
    pub starts_with: Option<Text>,
    pub ends_with: Option<Text>,
    pub contains: Option<Text>,
    pub like: Option<Text>,
    pub matches: Option<Text>,
    pub within: Option<Text>,
    pub under: Option<Text>,
    pub over: Option<Text>,
    pub before: Option<Text>,
    pub after: Option<Text>,
    #[serde(default)]
    pub case: Case,
}

#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(untagged)]
pub(in crate::book) enum OneOrMany {
    One(String),
    Many(Vec<String>),
}

impl OneOrMany {
    pub fn into_list(self) -> Vec<String> {
        match self {
            Self::One(one) => vec![one],
            Self::Many(many) => many,
        }
    }
}

#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub(in crate::book) enum Case {
    #[default]
    Exact,
    Ignore,
}
