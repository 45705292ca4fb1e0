//! The book: everything that is arranged, as TOML text.
//!
//! A book is one text or several. Reading one gives typed rules and places, or every problem
//! found, each with its file, line, key and remedy. The text of each section is kept as it was
//! written, with its comments, because the text is what people edit and compare.

mod accounts;
mod branches;
mod conditions;
mod databases;
mod differ;
mod draft;
mod limits;
mod mistakes;
mod partners;
pub(crate) mod raw;
mod read;
mod reference;
mod resolve;
mod rules;
mod schedules;
mod sections;
mod twins;
mod write;

use std::{collections::BTreeMap, sync::LazyLock};

pub use differ::{Difference, differences};
pub use draft::{Draft, DraftMistake};
pub use reference::book_reference;
use serde::Serialize;
pub use write::{Unwritable, secrets_named, section_group, section_text, section_value};

use crate::{Account, Calendar, Database, Limits, Name, Partner, PlaceName, PlaceSpec, Rule, RuleName, twin::Twin};

/// What a section of the book arranges.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum SectionKind {
    /// `[place.NAME]`
    Place,
    /// `[partner.NAME]`
    Partner,
    /// `[account.NAME]`
    Account,
    /// `[calendar.NAME]`
    Calendar,
    /// `[database.NAME]`
    Database,
    /// `[twin.NAME]`
    Twin,
    /// `[rule.NAME]`
    Rule,
}

impl SectionKind {
    /// Every kind, in the order of a book.
    pub const ALL: [Self; 7] =
        [Self::Place, Self::Partner, Self::Account, Self::Calendar, Self::Database, Self::Twin, Self::Rule];

    /// The word in the book.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Place => "place",
            Self::Partner => "partner",
            Self::Account => "account",
            Self::Calendar => "calendar",
            Self::Database => "database",
            Self::Twin => "twin",
            Self::Rule => "rule",
        }
    }
}

/// The text of one section, comments included.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Section {
    /// What it arranges.
    pub kind: SectionKind,
    /// The name after the dot.
    pub name: String,
    /// Its TOML, a readable book in itself.
    pub text: String,
}

/// A book that was read without a problem.
#[derive(Debug, Clone, Default)]
pub struct Book {
    /// Places by name, in the order written.
    pub places: Vec<(PlaceName, PlaceSpec)>,
    /// The limits of places that have any.
    pub limits: BTreeMap<PlaceName, Limits>,
    /// Rules, in the order they are asked.
    pub rules: Vec<Rule>,
    /// Partners.
    pub partners: Vec<Partner>,
    /// Accounts of our own server.
    pub accounts: Vec<Account>,
    /// Calendars.
    pub calendars: Vec<Calendar>,
    /// Databases.
    pub databases: Vec<Database>,
    /// Twins, in the order written.
    pub twins: Vec<Twin>,
    /// The sections' texts, in the order written.
    pub sections: Vec<Section>,
}

/// Something in a book that cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Problem {
    /// The file it stands in.
    pub file: String,
    /// The line, counted from 1.
    pub line: usize,
    /// The section or key it is about, as in `rule.assay-results`.
    pub key: String,
    /// What is wrong, and what would be right.
    pub message: String,
    /// The same for programs.
    pub amiss: Amiss,
}

/// What kind of mistake it is.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Amiss {
    /// Something that cannot be meant.
    #[default]
    Meaning,
    /// A key that there is not.
    Key {
        /// As it is written.
        written: String,
        /// The one that is probably meant.
        nearest: Option<String>,
    },
    /// A name, or a word of a choice, that there is not.
    Name {
        /// What it would be the name of, as in `place`; empty for a word of a choice.
        of: String,
        /// As it is written.
        written: String,
        /// The one that is probably meant.
        nearest: Option<String>,
    },
    /// Something that is needed is not there.
    Missing,
}

impl std::fmt::Display for Problem {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}:{}: ", self.file, self.line)?;
        if !self.key.is_empty() {
            write!(f, "{}: ", self.key)?;
        }
        f.write_str(&self.message)
    }
}

/// What is there besides a book that is read in parts.
#[derive(Debug, Clone, Default)]
pub struct Known {
    /// Places.
    pub places: Vec<PlaceName>,
    /// Partners; one of the same name in the book counts instead.
    pub partners: Vec<Partner>,
    /// Accounts.
    pub accounts: Vec<Name>,
    /// Calendars; one of the same name in the book counts instead.
    pub calendars: Vec<Calendar>,
    /// Databases.
    pub databases: Vec<Name>,
    /// Twins.
    pub twins: Vec<Name>,
    /// Rules.
    pub rules: Vec<RuleName>,
}

/// Reads a book from named texts.
///
/// # Errors
///
/// Every mistake that it has, in the order in which they stand.
pub fn parse_book(files: &[(String, String)], known: &Known) -> Result<Book, Vec<Problem>> {
    mistakes::or_all(files, known)
}

/// Reads it as far as it can be read: of each section the first mistake.
fn parse_once(files: &[(String, String)], known: &Known) -> Result<Book, Vec<Problem>> {
    let mut problems = Vec::new();
    let mut parsed = Vec::new();
    let mut sections: Vec<Section> = Vec::new();
    for (file, text) in files {
        parsed.push((file, text, read::read(file, text, &mut problems)));
        if let Ok(more) = sections::split(text) {
            for section in more {
                if sections.iter().any(|s| s.kind == section.kind && s.name == section.name) {
                    problems.push(Problem {
                        file: file.clone(),
                        line: 1,
                        key: format!("{}.{}", section.kind.as_str(), section.name),
                        message: "is arranged in another file of this book too; keep one".to_owned(),
                        amiss: Amiss::Meaning,
                    });
                }
                sections.push(section);
            }
        }
    }
    let book = resolve::resolve(&parsed, known, &mut problems);
    if problems.is_empty() { Ok(Book { sections, ..book }) } else { Err(problems) }
}

/// The JSON Schema of the book.
pub fn book_schema() -> serde_json::Value {
    schema().clone()
}

/// The same, made once.
fn schema() -> &'static serde_json::Value {
    static SCHEMA: LazyLock<serde_json::Value> = LazyLock::new(|| schemars::schema_for!(raw::BookSchema).to_value());
    &SCHEMA
}

fn line_of(text: &str, at: usize) -> usize {
    text.as_bytes()[..at.min(text.len())].iter().filter(|&&b| b == b'\n').count() + 1
}

/// The section that a byte of the text stands in, for messages: the last header above it.
fn section_at(text: &str, at: usize) -> String {
    let mut key = String::new();
    let mut offset = 0;
    for line in text.split_inclusive('\n') {
        if offset > at {
            break;
        }
        let trimmed = line.trim();
        if trimmed.starts_with('[') && trimmed.ends_with(']') {
            key = trimmed.trim_matches(['[', ']']).trim().to_owned();
        }
        offset += line.len();
    }
    key
}

/// The known word that a wrong one is probably meant to be. Words that share less than half are no help.
pub(crate) fn nearest<'a>(wrong: &str, known: impl Iterator<Item = &'a str>) -> Option<&'a str> {
    known
        .map(|right| (strsim::damerau_levenshtein(right, wrong), right))
        .min()
        .filter(|(distance, right)| *distance <= 4 && distance * 2 < right.len())
        .map(|(_, right)| right)
}

#[cfg(test)]
mod tests;
