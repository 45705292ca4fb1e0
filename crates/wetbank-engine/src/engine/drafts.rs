//! Sections of the book that are still being made: nothing of them is kept or put in force.

use serde_json::{Map, Value};
use wetbank_core::{Amiss, Difference, Draft, DraftMistake, Known, SectionKind, Unwritable, parse_book, section_value};

use super::{
    Engine,
    book::{CHECKING, beyond},
    sections::differ,
};
use crate::{Declined, EngineError, guarded::Guarded};

/// A section as somebody has it in hand.
#[derive(Debug, Clone)]
pub enum Proposed {
    /// Its text.
    Text(String),
    /// Its value.
    Value {
        /// Its name.
        name: String,
        /// Its keys, each with what the book has behind it.
        value: Map<String, Value>,
        /// The text so far: what is the same in it keeps its bytes.
        old: Option<String>,
    },
}

/// What a section would be.
#[derive(Debug)]
pub struct Drafted {
    /// Its name; empty if its text cannot be read.
    pub name: String,
    /// Its value.
    pub value: Map<String, Value>,
    /// Its text, what is wrong with it, and what it arranges.
    pub draft: Draft,
    /// The version in force, if there is one.
    pub version: Option<i64>,
    /// How it differs from that.
    pub differences: Vec<Difference>,
}

impl Drafted {
    fn new(name: String, value: Map<String, Value>, draft: Draft) -> Self {
        Self { name, value, draft, version: None, differences: Vec::new() }
    }
}

/// What is wrong with a text that is no section of this kind.
fn unreadable(text: String, error: &Unwritable) -> Drafted {
    let problems = parse_book(&[("draft".to_owned(), text.clone())], &Known::default()).err().unwrap_or_default();
    let mistake = |line, message| DraftMistake { pointer: String::new(), line, message, amiss: Amiss::Meaning };
    let mistakes = match error {
        Unwritable::Text(_) if !problems.is_empty() => {
            problems.into_iter().map(|problem| mistake(problem.line, problem.message)).collect()
        }
        other => vec![mistake(1, other.to_string())],
    };
    Drafted::new(String::new(), Map::new(), Draft { text, mistakes, book: None })
}

fn drafted(kind: SectionKind, proposed: Proposed, known: &Known, guarded: &Guarded) -> Result<Drafted, EngineError> {
    let (name, value, old) = match proposed {
        Proposed::Value { name, value, old } => (name, value, old),
        Proposed::Text(text) => match section_value(kind, &text) {
            Ok((name, value)) => (name, value, Some(text)),
            Err(error) => return Ok(unreadable(text, &error)),
        },
    };
    let mut draft = Draft::of(kind, &name, old.as_deref(), &value, known)?;
    let beyond = draft.book.as_ref().map(|book| beyond(book, known, guarded)).unwrap_or_default();
    for (_, message) in beyond {
        draft.mistakes.push(DraftMistake { pointer: String::new(), line: 1, message, amiss: Amiss::Meaning });
        draft.book = None;
    }
    Ok(Drafted::new(name, value, draft))
}

impl Engine {
    /// Reads a section of the book that is still being made. What is in force counts as known; nothing is changed.
    pub async fn draft(&self, kind: SectionKind, proposed: Proposed) -> Result<Drafted, EngineError> {
        let (known, guarded) = (self.core.arranged.now().known(), self.core.effects.guarded.clone());
        // Whatever is in it must not keep others waiting.
        let reading = tokio::task::spawn_blocking(move || drafted(kind, proposed, &known, &guarded));
        let mut drafted = match tokio::time::timeout(CHECKING, reading).await {
            Ok(Ok(drafted)) => drafted?,
            Ok(Err(error)) => return Err(EngineError::Broken(format!("the draft cannot be read: {error}"))),
            Err(_) => return Err(Declined::BookTooSlow(CHECKING.as_secs()).into()),
        };
        if let Some((text, version)) = self.core.journal.section(kind.as_str(), &drafted.name).await? {
            drafted.differences = differ(kind, Some(&text), &drafted.draft.text);
            drafted.version = Some(version);
        }
        Ok(drafted)
    }
}
