//! Conditions: what a file must be like, and how it compared.

use globset::{GlobBuilder, GlobMatcher};
use jiff::Timestamp;
use regex::{Regex, RegexBuilder};
use serde::{Deserialize, Serialize};
use std::time::Duration;

use crate::{ByteSize, FileFacts, RelPath, format_duration};

/// What of a file a test looks at.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Attribute {
    /// The file name with its extension.
    Name,
    /// The name without its last extension.
    Stem,
    /// The last extension, without the dot.
    Extension,
    /// The folder it lies in, from the place's root.
    Folder,
    /// The place it lies in.
    Place,
    /// Its size.
    Size,
    /// When it was last modified.
    Modified,
    /// How long ago it was last modified.
    Age,
}

impl Attribute {
    fn words(self) -> &'static str {
        match self {
            Self::Name => "name",
            Self::Stem => "stem",
            Self::Extension => "extension",
            Self::Folder => "folder",
            Self::Place => "place",
            Self::Size => "size",
            Self::Modified => "modified time",
            Self::Age => "age",
        }
    }
}

/// How a test compares.
#[derive(Debug, Clone)]
pub enum Operator {
    /// Equal to one of these texts.
    Is(Vec<String>),
    /// Equal to none of these texts.
    IsNot(Vec<String>),
    /// Begins with the text.
    StartsWith(String),
    /// Ends with the text.
    EndsWith(String),
    /// Holds the text.
    Contains(String),
    /// Matches the glob as a whole.
    Glob(Box<GlobMatcher>),
    /// The regular expression is found in it.
    Matches(Regex),
    /// For `folder`: it is this folder or one below it.
    Within(RelPath),
    /// Smaller than.
    SmallerThan(ByteSize),
    /// Larger than.
    LargerThan(ByteSize),
    /// Age under.
    YoungerThan(Duration),
    /// Age over.
    OlderThan(Duration),
    /// Modified before.
    Before(Timestamp),
    /// Modified after.
    After(Timestamp),
}

/// What a test looks at.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Subject {
    /// Something of the file.
    File(Attribute),
    /// Something known of the run, such as `run.cause`.
    Run(String),
}

impl Subject {
    fn words(&self) -> String {
        let known = match self {
            Self::File(attribute) => attribute.words(),
            Self::Run(word) => match word.as_str() {
                "run.cause" => "what started the run",
                "run.event" => "what happened to the file",
                "chain.rule" => "the rule before",
                "chain.event" => "what the rule before did",
                "chain.from" => "the place before",
                "chain.partner" => "the partner before",
                "account.name" => "the account",
                "account.partner" => "the account's partner",
                "account.event" => "what the account did",
                "account.address" => "the account's address",
                "account.visit" => "the account's visit",
                "mail.from" => "the sender",
                "mail.to" => "the receivers",
                "mail.subject" => "the letter's subject",
                "mail.date" => "the letter's date",
                word => {
                    return word
                        .strip_prefix("signal.")
                        .map_or_else(|| word.to_owned(), |field| format!("the signal's {field}"));
                }
            },
        };
        known.to_owned()
    }
}

/// One comparison.
#[derive(Debug, Clone)]
pub struct Test {
    /// What is compared.
    pub subject: Subject,
    /// With what.
    pub operator: Operator,
    /// Whether `A` and `a` differ.
    pub case_sensitive: bool,
}

/// Conditions nest.
#[derive(Debug, Clone)]
pub enum Condition {
    /// Every part holds; true when empty.
    All(Vec<Condition>),
    /// At least one part holds.
    Any(Vec<Condition>),
    /// No part holds.
    None(Vec<Condition>),
    /// One comparison.
    Test(Test),
}

/// How a condition came out for one file, part by part.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Verdict {
    /// What was asked, as in `name starts with "assay-"`.
    pub asked: String,
    /// What the file has, as in `readme.txt`; empty for a group.
    pub found: String,
    /// Whether it holds.
    pub holds: bool,
    /// The verdicts of a group's parts.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub parts: Vec<Verdict>,
}

impl Verdict {
    /// Why it is not for a file that did not meet it: the first comparison that failed.
    pub fn refusal(&self) -> String {
        fn failed(verdict: &Verdict) -> &Verdict {
            verdict.parts.iter().find(|part| !part.holds).map_or(verdict, failed)
        }
        let Self { asked, found, .. } = failed(self);
        let found = if found.is_empty() { String::new() } else { format!(", here it is {found}") };
        format!("it is for files where {asked}{found}")
    }
}

/// A compiled pattern of names.
pub type NamePattern = GlobMatcher;

/// A pattern of names, as a rule's `names` have it.
pub fn name_pattern(pattern: &str, case_sensitive: bool) -> Result<NamePattern, String> {
    glob(pattern, case_sensitive)
}

/// Builds a glob in which `*` stops at a slash and braces work.
pub(crate) fn glob(pattern: &str, case_sensitive: bool) -> Result<GlobMatcher, String> {
    GlobBuilder::new(pattern)
        .literal_separator(true)
        .case_insensitive(!case_sensitive)
        .build()
        .map(|glob| glob.compile_matcher())
        .map_err(|e| format!("{pattern:?} is no name pattern: {}", e.kind()))
}

/// Builds a regular expression with a bound on its compiled size.
pub(crate) fn regular_expression(pattern: &str, case_sensitive: bool) -> Result<Regex, String> {
    RegexBuilder::new(pattern)
        .case_insensitive(!case_sensitive)
        .size_limit(1 << 20)
        .build()
        .map_err(|e| format!("{pattern:?} is no regular expression: {e}"))
}

impl Condition {
    /// Asks the condition of a file at a time and says how each part came out. All parts are
    /// asked, also when the outcome is already known, so that the answer is complete.
    pub fn ask(&self, file: &FileFacts, now: Timestamp) -> Verdict {
        let group = |asked: &str, parts: &[Condition], decide: fn(&[Verdict]) -> bool| {
            let parts: Vec<_> = parts.iter().map(|part| part.ask(file, now)).collect();
            Verdict { asked: asked.to_owned(), found: String::new(), holds: decide(&parts), parts }
        };
        match self {
            Self::All(parts) => group("all of", parts, |v| v.iter().all(|v| v.holds)),
            Self::Any(parts) => group("any of", parts, |v| v.iter().any(|v| v.holds)),
            Self::None(parts) => group("none of", parts, |v| !v.iter().any(|v| v.holds)),
            Self::Test(test) => test.ask(file, now),
        }
    }

    /// Shows everything that is looked at.
    pub fn each_subject(&self, show: &mut impl FnMut(&Subject)) {
        match self {
            Self::All(parts) | Self::Any(parts) | Self::None(parts) => {
                for part in parts {
                    part.each_subject(show);
                }
            }
            Self::Test(test) => show(&test.subject),
        }
    }

    /// The condition in words.
    pub fn words(&self) -> String {
        let list = |parts: &[Condition], joiner: &str| {
            parts
                .iter()
                .map(|part| match part {
                    Condition::Test(_) => part.words(),
                    group => format!("({})", group.words()),
                })
                .collect::<Vec<_>>()
                .join(joiner)
        };
        match self {
            Self::All(parts) => list(parts, " and "),
            Self::Any(parts) => list(parts, " or "),
            Self::None(parts) => format!("not {}", list(parts, " and not ")),
            Self::Test(test) => test.words(),
        }
    }
}

impl Test {
    fn ask(&self, file: &FileFacts, now: Timestamp) -> Verdict {
        // A file dated in the future has no age yet.
        let age = Duration::try_from(now.duration_since(file.modified)).unwrap_or_default();
        let attribute = match &self.subject {
            Subject::File(attribute) => *attribute,
            Subject::Run(word) => return self.verdict(file.about.get(word).cloned().unwrap_or_default(), file, age),
        };
        let found = match attribute {
            Attribute::Name => file.name(),
            Attribute::Stem => file.stem(),
            Attribute::Extension => file.extension(),
            Attribute::Folder => file.path.parent().to_string(),
            Attribute::Place => file.place.to_string(),
            Attribute::Size => ByteSize(file.size).to_string(),
            Attribute::Modified => file.modified.strftime("%F %T UTC").to_string(),
            Attribute::Age => format_duration(age),
        };
        self.verdict(found, file, age)
    }

    fn verdict(&self, found: String, file: &FileFacts, age: Duration) -> Verdict {
        let fold = |text: &str| if self.case_sensitive { text.to_owned() } else { text.to_lowercase() };
        let text = fold(&found);
        let holds = match &self.operator {
            Operator::Is(list) => list.iter().any(|one| fold(one) == text),
            Operator::IsNot(list) => !list.iter().any(|one| fold(one) == text),
            Operator::StartsWith(start) => text.starts_with(&fold(start)),
            Operator::EndsWith(end) => text.ends_with(&fold(end)),
            Operator::Contains(part) => text.contains(&fold(part)),
            Operator::Glob(glob) => glob.is_match(&found),
            Operator::Matches(regex) => regex.is_match(&found),
            Operator::Within(folder) => file.path.parent().below(folder).is_some(),
            Operator::SmallerThan(size) => file.size < size.0,
            Operator::LargerThan(size) => file.size > size.0,
            Operator::YoungerThan(limit) => age < *limit,
            Operator::OlderThan(limit) => age > *limit,
            Operator::Before(time) => file.modified < *time,
            Operator::After(time) => file.modified > *time,
        };
        Verdict { asked: self.words(), found, holds, parts: Vec::new() }
    }

    fn words(&self) -> String {
        let attribute = self.subject.words();
        let one_of = |list: &[String]| list.iter().map(|one| format!("\"{one}\"")).collect::<Vec<_>>().join(" or ");
        let compared = match &self.operator {
            Operator::Is(list) => format!("is {}", one_of(list)),
            Operator::IsNot(list) => format!("is not {}", one_of(list)),
            Operator::StartsWith(text) => format!("starts with \"{text}\""),
            Operator::EndsWith(text) => format!("ends with \"{text}\""),
            Operator::Contains(text) => format!("contains \"{text}\""),
            Operator::Glob(glob) => format!("is like {}", glob.glob().glob()),
            Operator::Matches(regex) => format!("matches /{regex}/"),
            Operator::Within(folder) => format!("is within \"{folder}\""),
            Operator::SmallerThan(size) => format!("under {size}"),
            Operator::LargerThan(size) => format!("over {size}"),
            Operator::YoungerThan(age) => format!("under {}", format_duration(*age)),
            Operator::OlderThan(age) => format!("over {}", format_duration(*age)),
            Operator::Before(time) => format!("before {time}"),
            Operator::After(time) => format!("after {time}"),
        };
        format!("{attribute} {compared}")
    }
}
