//! Sections of the book that are still being made.

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use utoipa::ToSchema;

use super::{Branch, Difference, ExplainedRule};

/// A section as it is now: its name and value, or its text.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct ProposedDraft {
    /// Its name, with a value.
    #[serde(default)]
    pub name: Option<String>,
    /// Its keys, each with what the book has behind it.
    #[serde(default)]
    #[schema(value_type = Option<Object>)]
    pub value: Option<Map<String, Value>>,
    /// With a value: the text so far. What is the same in it keeps its bytes and its comments.
    #[serde(default)]
    pub old: Option<String>,
    /// Its text, in place of a name and a value.
    #[serde(default)]
    pub text: Option<String>,
    /// A file with which a rule is tried.
    #[serde(default)]
    pub sample: Option<SampleFile>,
}

/// A file as it was seen in a listing, or as somebody imagines it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct SampleFile {
    /// As in `office:/assays/out/assay-0412.csv`.
    pub file: String,
    /// Bytes.
    pub size: u64,
    /// When it was changed.
    pub modified: String,
}

/// What a section would be, and everything that is wrong with it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Draft {
    /// Its name; empty if its text cannot be read.
    pub name: String,
    pub text: String,
    /// Its keys, each with what the book has behind it.
    #[schema(value_type = Object)]
    pub value: Map<String, Value>,
    /// Every mistake, in the order of the text; without one it can be put in force.
    pub mistakes: Vec<DraftMistake>,
    /// The version in force of the section of this name, if there is one.
    pub version: Option<i64>,
    /// How it differs from what is in force, in words.
    pub differences: Vec<Difference>,
    /// A rule in one sentence, if nothing is wrong with it.
    pub sentence: Option<String>,
    /// The same piece by piece, each with the part of the rule that it tells.
    pub phrases: Vec<DraftPhrase>,
    /// A rule's next firings by the clock.
    pub firings: Vec<String>,
    /// A rule's branches, with no files yet.
    pub branches: Vec<Branch>,
    /// What placeholders can stand for in a rule.
    pub known: Vec<KnownValue>,
    /// A rule's texts with placeholders, filled in for the file it is tried with.
    pub samples: Vec<DraftSample>,
    /// What a rule without mistakes thinks of that file.
    pub tried: Option<ExplainedRule>,
}

/// What a placeholder can stand for.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct KnownValue {
    /// As in `file.stem`.
    pub word: String,
    /// As people call it.
    pub title: String,
    /// Of what it is, as in "The file".
    pub group: String,
    /// Where in the rule it is known.
    pub known: KnownWhere,
    /// Whether it is a time, which takes a pattern.
    pub is_time: bool,
    /// What it stands for, for the file the rule is tried with; nothing without one, or if only a run knows it.
    pub value: Option<String>,
}

/// Where in a rule a placeholder stands for something.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum KnownWhere {
    /// Anywhere.
    Anywhere,
    /// Where there is a file: not while files are looked for.
    OfFiles,
    /// In a rule that letters start.
    OfLetters,
    /// In a rule that another one started.
    OfChains,
    /// In a rule that accounts start.
    OfAccounts,
    /// In the steps that follow a failure.
    InFailures,
    /// In a mail.
    InMails,
    /// In a program's arguments.
    InPrograms,
}

/// A text with placeholders, filled in.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DraftSample {
    /// Where in the value it stands (RFC 6901).
    pub pointer: String,
    /// What it becomes; nothing if only a run knows it.
    pub text: Option<String>,
}

/// Something in a draft that cannot be used.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DraftMistake {
    /// Where in the value it stands (RFC 6901), as in `/branch/0/steps/1/copy/to`; empty for all of it.
    pub pointer: String,
    /// The line of the text, counted from 1.
    pub line: usize,
    /// What is wrong, and what would be right.
    pub message: String,
    /// The word that there is not.
    pub written: Option<String>,
    /// The one that is probably meant.
    pub nearest: Option<String>,
}

/// A piece of a rule's sentence.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct DraftPhrase {
    pub text: String,
    /// The part of the value that it tells (RFC 6901), as in `/branch/0/steps/1`; nothing for what only joins.
    pub pointer: Option<String>,
}
