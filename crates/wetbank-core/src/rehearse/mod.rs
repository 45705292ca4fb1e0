//! What a rule would do with a file, foreseen from the rule and the file alone: nothing is asked of a place, and
//! nothing is touched.

mod compare;
mod walk;

use serde::Serialize;

use crate::{Explanation, FilePath, IfExists};

pub use compare::{Elsewise, Kind as ElsewiseKind, elsewise};
pub use walk::rehearse;

/// A file's whole way, foreseen.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Rehearsal {
    /// Which branch takes it, and why.
    pub explanation: Explanation,
    /// The title of that branch.
    pub branch: Option<String>,
    /// What would be done, in order.
    pub steps: Vec<Foreseen>,
    /// What becomes of the file that came.
    pub end: End,
}

/// A step, foreseen.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Foreseen {
    /// The index of its branch.
    pub branch: usize,
    /// Its index there.
    pub step: usize,
    /// Its kind, as the book has it.
    pub kind: &'static str,
    /// The name of the file in hand.
    pub file: String,
    /// What is done, with everything filled in that is known.
    pub words: String,
    /// The name of the file that it makes.
    pub makes: Option<String>,
    /// What would be somewhere afterwards.
    pub comes: Option<Coming>,
    /// Why it is left out for this file.
    pub left_out: Option<String>,
    /// What of it only the run itself can tell.
    pub open: Option<String>,
}

/// Something that would be somewhere afterwards.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Coming {
    /// Where.
    pub at: FilePath,
    /// Whether it is a folder.
    pub is_folder: bool,
    /// What is done if the name is taken.
    pub exists: IfExists,
    /// Whether a name that is not possible there is changed into one that is.
    pub fits: bool,
}

/// What becomes of the file that came.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case", tag = "what")]
pub enum End {
    /// The rule leaves it alone.
    NotTaken {
        /// Why.
        why: String,
    },
    /// It waits for a person.
    Held {
        /// Why.
        why: String,
    },
    /// It stays where it is.
    Stays,
    /// It comes to lie elsewhere.
    Moved {
        /// Where.
        #[serde(serialize_with = "as_text")]
        to: FilePath,
    },
    /// It stays, and an empty file beside it says that it was seen to.
    Marked {
        /// That file.
        #[serde(serialize_with = "as_text")]
        with: FilePath,
    },
    /// It is there no more.
    Deleted,
    /// Only its content, or the run itself, tells.
    Open {
        /// Why.
        why: String,
    },
}

fn as_text<S: serde::Serializer>(file: &FilePath, serializer: S) -> Result<S::Ok, S::Error> {
    serializer.collect_str(file)
}

impl End {
    /// It in plain words.
    pub fn words(&self) -> String {
        match self {
            Self::NotTaken { why } => why.clone(),
            Self::Held { why } => format!("it waits for a person: {why}"),
            Self::Stays => "the original stays where it is".to_owned(),
            Self::Moved { to } => format!("the original goes to {to}"),
            Self::Marked { with } => format!("the original stays, and {with} says that it was seen to"),
            Self::Deleted => "the original is deleted".to_owned(),
            Self::Open { why } => why.clone(),
        }
    }
}

#[cfg(test)]
mod tests;
