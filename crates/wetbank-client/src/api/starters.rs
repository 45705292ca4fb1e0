//! Ready arrangements with a few questions.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

/// A ready arrangement.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Starter {
    pub name: String,
    /// What it does, in a few words.
    pub title: String,
    /// What it does, in a sentence or two.
    pub about: String,
    pub want: Want,
    /// Its questions, three at most.
    pub ask: Vec<StarterQuestion>,
}

/// What somebody wants to do.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, ToSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Want {
    /// Encrypt, decrypt, check.
    Protect,
    /// Bring files to others.
    Deliver,
    /// Get files from others, or keep a copy.
    Collect,
    /// Sort and move.
    Tidy,
    /// Many files as one, and one as many.
    Pack,
    /// Letters, mails, other systems.
    Tell,
    /// Tables and databases.
    Data,
}

/// A question of a starter.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct StarterQuestion {
    /// The answer's name; of a `folder` there are two, `KEY.place` and `KEY.folder`.
    pub key: String,
    pub label: String,
    /// What the answer is, in the words of the book's schema; empty for any text.
    pub holds: String,
    /// An answer that is often right.
    pub usual: String,
}

/// Answers to the questions of a starter.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct StarterAnswers {
    /// The name of the rule that it becomes; that of the starter if it is left out.
    #[serde(default)]
    pub name: Option<String>,
    pub answers: BTreeMap<String, String>,
}
