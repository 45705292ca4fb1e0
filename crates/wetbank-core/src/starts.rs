//! What starts a rule.

use std::time::Duration;

use globset::GlobMatcher;

use crate::{ByteSize, Marker, Name, OfAccount, PlaceName, RelPath, RuleName, Schedule, SecretName, Selection};

/// What starts a rule. Any of them may; a person can start every rule.
#[derive(Debug, Clone, Default)]
pub struct Starts {
    /// A file is complete in a folder.
    pub arrival: Option<Arrival>,
    /// The clock.
    pub schedule: Option<Schedule>,
    /// What another rule did with a file.
    pub chain: Option<Chain>,
    /// Another system.
    pub signal: Option<Signal>,
    /// An account of our own server.
    pub account: Option<OfAccount>,
}

/// The trigger: another system says so.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Signal {
    /// What proves that it comes from there.
    pub secret: SecretName,
}

/// The trigger: another rule did something with a file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Chain {
    /// What it did.
    pub after: Vec<ChainEvent>,
    /// Which rules; empty means every other one.
    pub rules: Vec<RuleName>,
    /// Where the file came from; empty means anywhere.
    pub from: Vec<PlaceName>,
    /// Where it was put; empty means anywhere.
    pub to: Vec<PlaceName>,
    /// To which partner it was delivered; empty means any or none.
    pub partners: Vec<Name>,
}

/// What a rule can do with a file that another rule wants to know.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum ChainEvent {
    /// It copied it; the copy goes on.
    Copied,
    /// It fetched it; the copy goes on.
    Fetched,
    /// It delivered it; what was delivered goes on.
    Delivered,
    /// It moved it.
    Moved,
    /// It was held; the file that came goes on.
    Held,
    /// A step failed and its failure path was taken; the file that came goes on.
    Failed,
}

impl ChainEvent {
    /// The word for it.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Copied => "copied",
            Self::Fetched => "fetched",
            Self::Delivered => "delivered",
            Self::Moved => "moved",
            Self::Held => "held",
            Self::Failed => "failed",
        }
    }
}

/// Something that a rule did with a file.
#[derive(Debug, Clone, Copy)]
pub struct Happened<'a> {
    /// What.
    pub event: ChainEvent,
    /// Which rule.
    pub rule: &'a RuleName,
    /// Where the file came from.
    pub from: &'a PlaceName,
    /// Where it was put.
    pub to: Option<&'a PlaceName>,
    /// To which partner it was delivered.
    pub partner: Option<&'a Name>,
}

impl Chain {
    /// Whether this starts the rule of that name.
    pub fn is_about(&self, own: &RuleName, happened: Happened<'_>) -> bool {
        fn has<T: PartialEq>(wanted: &[T], found: Option<&T>) -> bool {
            wanted.is_empty() || found.is_some_and(|found| wanted.contains(found))
        }
        self.after.contains(&happened.event)
            && happened.rule != own
            && has(&self.rules, Some(happened.rule))
            && has(&self.from, Some(happened.from))
            && has(&self.to, happened.to)
            && has(&self.partners, happened.partner)
    }
}

/// The trigger: a file is complete in a folder.
#[derive(Debug, Clone)]
pub struct Arrival {
    /// Which files.
    pub files: Selection,
    /// The watched folder.
    pub folder: RelPath,
    /// How long a file must stay unchanged.
    pub settle: Duration,
    /// The file beside it that says it is complete.
    pub marker: Option<Marker>,
    /// How often the folder is looked through where no events come.
    pub pace: LookPace,
    /// Whether the rule takes files that it made itself.
    pub own_results: bool,
    /// What it is about a file that starts the rule.
    pub of: Arrives,
    /// Until when files wait for each other, to be one run.
    pub gather: Option<Gather>,
    /// Set when what comes are letters, and the files are attached to them.
    pub letter: Option<Letter>,
}

/// What happened to a file that starts a rule.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Arrives {
    /// It was not there before.
    pub new: bool,
    /// It was there and is another one now.
    pub changed: bool,
    /// It is not there any more.
    pub gone: bool,
}

impl Default for Arrives {
    fn default() -> Self {
        Self { new: true, changed: true, gone: false }
    }
}

/// Until when files that came wait for each other.
#[derive(Debug, Clone)]
pub enum Gather {
    /// Until none came for so long.
    Quiet(Duration),
    /// Until there are so many.
    Count(usize),
    /// Until a file of this name is there, which is none of them; each state of it counts once.
    Marker(String),
    /// Until there is one for each of these patterns.
    Set(Vec<GlobMatcher>),
}

impl Gather {
    /// Whether these names are all that is waited for. `marked` says that the marker is there.
    pub fn is_complete<'n>(&self, names: impl Iterator<Item = &'n str> + Clone, quiet: Duration, marked: bool) -> bool {
        match self {
            Self::Quiet(time) => quiet >= *time,
            Self::Count(count) => names.count() >= *count,
            Self::Marker(_) => marked,
            Self::Set(patterns) => patterns.iter().all(|pattern| names.clone().any(|name| pattern.is_match(name))),
        }
    }
}

/// What of a letter is taken, and what becomes of it.
#[derive(Debug, Clone)]
pub struct Letter {
    /// Patterns of attachments' names; empty means every one.
    pub names: Vec<GlobMatcher>,
    /// Patterns of names left alone.
    pub except: Vec<GlobMatcher>,
    /// Bytes of all attachments together, at most.
    pub most: ByteSize,
    /// The folder of the mailbox where it is filed away at the end; it stays if there is none.
    pub file_in: Option<RelPath>,
}

impl Letter {
    /// Whether an attachment of this name is taken.
    pub fn takes(&self, name: &str) -> bool {
        let named = self.names.is_empty() || self.names.iter().any(|glob| glob.is_match(name));
        named && !self.except.iter().any(|glob| glob.is_match(name))
    }
}

/// How often a folder is looked through.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LookPace {
    /// After this time.
    Every(Duration),
    /// Soon after something came, and less and less often while nothing comes.
    Adaptive,
}
