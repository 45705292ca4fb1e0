//! Sections of the book that are still being made.

use serde::{Deserialize, Serialize};
use serde_json::{Map, Value};
use utoipa::ToSchema;

use super::Branch;

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
    /// A rule in one sentence, if nothing is wrong with it.
    pub sentence: Option<String>,
    /// A rule's next firings by the clock.
    pub firings: Vec<String>,
    /// A rule's branches, with no files yet.
    pub branches: Vec<Branch>,
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
