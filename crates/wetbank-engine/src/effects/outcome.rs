//! What a step has in hand, and what came of it.

use std::{collections::BTreeMap, sync::Arc};

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use wetbank_core::{About, FilePath, Fingerprint, Name, Position, RelPath, TemplateError, twin::Choices};
use wetbank_crypt::CryptError;
use wetbank_journal::{Chained, JournalError, NewMail, NewPart, TwinNote, Work};
use wetbank_places::{PlaceError, PlaceErrorKind};

use super::aligned::Aligned;
use crate::{EngineError, moorings::Away};

/// The file in hand after a step, as the journal keeps it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Hand {
    /// Where it lies; nothing means in our own work folder.
    pub place: Option<Name>,
    /// Its path there.
    pub path: RelPath,
    /// Its name for people and templates.
    pub name: RelPath,
    /// Its state.
    pub fingerprint: Fingerprint,
    /// Where the file that came is now, and its state; nothing once it is gone.
    pub original: Option<(FilePath, Fingerprint)>,
    /// The step that failed, on whose failure path the item is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fault: Option<Fault>,
    /// The how-manieth file of the rule on its day it is, once somebody asked.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub count: Option<i64>,
    /// What a person is asked about a twin.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub asked: Option<Box<InQuestion>>,
    /// The mail that tells of a twin's passes.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub told: Option<Box<Told>>,
    /// The line of a twin's plan that it carries out.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub aligned: Option<Box<Aligned>>,
}

/// What somebody is told of a twin's passes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Told {
    /// The mail's subject.
    pub subject: String,
    /// Its text.
    pub text: String,
}

/// What a person is asked about a twin, and what is done if it is meant.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct InQuestion {
    /// Why.
    pub why: String,
    /// What can be done.
    pub remedy: String,
    /// How the pass is made that follows the answer.
    pub choices: Choices,
}

impl Hand {
    /// What an item has in hand, if anything was done with it.
    ///
    /// # Errors
    ///
    /// If what the journal has of it cannot be read.
    pub fn of(work: &Work) -> Result<Option<Self>, EngineError> {
        Self::read(work.hand.as_deref())
    }

    /// Reads what the journal keeps of a hand.
    ///
    /// # Errors
    ///
    /// If it cannot be read.
    pub fn read(text: Option<&str>) -> Result<Option<Self>, EngineError> {
        let read = text.map(serde_json::from_str).transpose();
        read.map_err(|error| EngineError::Broken(format!("what an item has in hand cannot be read: {error}")))
    }

    /// The hand as the journal keeps it.
    pub fn text(&self) -> Option<String> {
        Some(serde_json::to_string(self).expect("plain values serialise"))
    }

    /// What is in hand where there is no file: a name at most.
    pub fn empty(name: RelPath) -> Self {
        let fingerprint = Fingerprint { size: 0, modified: 0, inode: None, tag: None };
        Self {
            place: None,
            path: RelPath::root(),
            name,
            fingerprint,
            original: None,
            fault: None,
            count: None,
            asked: None,
            told: None,
            aligned: None,
        }
    }

    /// Whether there is a file.
    pub fn has_file(&self) -> bool {
        !self.path.is_root()
    }
}

/// A step that failed for good.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Fault {
    /// Its kind.
    pub step: String,
    /// Why it failed.
    pub why: String,
}

/// What happened to the file that began a run, as a run's `about` has it.
pub(crate) const EVENT: &str = "run.event";

/// The code of an attempt that took a file away: nothing is at its target any more.
pub const REMOVED: &str = "removed";

/// What is known of a run.
pub(crate) fn about_run(work: &Work) -> BTreeMap<String, String> {
    let mut about: BTreeMap<String, String> =
        work.about.as_deref().and_then(|text| serde_json::from_str(text).ok()).unwrap_or_default();
    about.insert("run.cause".to_owned(), work.cause.as_str().to_owned());
    about.entry(EVENT.to_owned()).or_insert_with(|| "new".to_owned());
    about
}

/// What is known of a run, and of the failure that an item comes from.
pub(crate) fn about(work: &Work, hand: &Hand) -> About {
    let mut about = about_run(work);
    if let Some(fault) = &hand.fault {
        about.insert("fault.step".to_owned(), fault.step.clone());
        about.insert("fault.why".to_owned(), fault.why.clone());
    }
    if let Some(count) = hand.count {
        about.insert("count".to_owned(), count.to_string());
    }
    Arc::new(about)
}

/// What is about to be committed, as the journal keeps it.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Intent {
    /// The file that gets its final name.
    pub from: FilePath,
    /// Its final name.
    pub to: FilePath,
    /// Its state, which the rename keeps.
    pub fingerprint: Fingerprint,
    /// Whether a taken name may be replaced.
    pub replace: bool,
    /// A file to remove after the commit, in this state: the source of a move.
    pub then_remove: Option<(FilePath, Fingerprint)>,
    /// What the hand holds afterwards.
    pub hand: Hand,
}

/// A step that did what it should.
#[derive(Debug)]
pub(crate) struct StepDone {
    /// Its attempt, once one was journalled.
    pub attempt: Option<i64>,
    /// What the hand holds now.
    pub hand: Hand,
    /// Said about it, as in "it was there already".
    pub note: Option<String>,
    /// The same for programs.
    pub code: Option<&'static str>,
    /// Whether nothing had to be done.
    pub skipped: bool,
    /// The size of its result.
    pub size: Option<u64>,
    /// A new name the file got, for trace.
    pub also_named: Option<String>,
    /// The path of the original is free again.
    pub freed: bool,
    /// Why nothing was done and the item ends here.
    pub left: Option<String>,
    /// The branch that goes on with the file.
    pub branch: Option<usize>,
    /// Files that go on instead of it.
    pub parts: Vec<NewPart>,
    /// The file that was put somewhere, and its state there.
    pub put: Option<(FilePath, Fingerprint)>,
    /// What starts other rules.
    pub chained: Vec<Chained>,
    /// A mail that is to be sent.
    pub mail: Option<NewMail>,
    /// What is known of a twin from now on.
    pub noted: Option<(Name, Vec<TwinNote>)>,
}

impl StepDone {
    /// The step did what it should, and this is in hand now.
    pub fn with(hand: Hand) -> Self {
        Self {
            attempt: None,
            hand,
            note: None,
            code: None,
            skipped: false,
            size: None,
            also_named: None,
            freed: false,
            left: None,
            branch: None,
            parts: Vec::new(),
            put: None,
            chained: Vec::new(),
            mail: None,
            noted: None,
        }
    }

    /// Nothing had to be done, and why; the hand is as it was.
    pub fn nothing(hand: &Hand, note: &str) -> Self {
        Self { note: Some(note.to_owned()), skipped: true, ..Self::with(hand.clone()) }
    }
}

/// Why a step did not do what it should.
#[derive(Debug)]
pub(crate) struct StepFailure {
    /// Its attempt, if that is on record.
    pub attempt: Option<i64>,
    pub kind: FailureKind,
    /// It may have had its effect all the same: somebody has to look before it is done again.
    pub unclear: bool,
}

impl StepFailure {
    /// It failed before anything was begun.
    pub fn before(kind: FailureKind) -> Self {
        Self { attempt: None, kind, unclear: false }
    }
}

/// An attempt at a step, as far as it is on record.
#[derive(Debug, Default)]
pub(crate) struct Attempt {
    pub(super) id: Option<i64>,
    /// What it is about to commit is on record.
    pub(super) intends: bool,
}

impl Attempt {
    /// How the attempt failed.
    pub(super) fn failed(&self, kind: FailureKind) -> StepFailure {
        StepFailure { attempt: self.id, unclear: self.intends && !kind.is_an_answer(), kind }
    }
}

#[derive(Debug)]
pub(crate) enum FailureKind {
    /// It may work later by itself.
    Passing { code: String, why: String, remedy: String },
    /// A place is paused until then; this is no failure of the item.
    Paused { until: Timestamp, why: String },
    /// A person has to do something.
    Lasting { code: String, why: String, remedy: String },
    /// A place failed; what follows depends on how.
    Place(Box<PlaceError>),
    /// The journal could not be written; nothing is known to be recorded.
    Journal(String),
    /// The item is told to stop: with the service, or by a person.
    Stopping,
}

impl FailureKind {
    /// A thread that did the work broke off in a way that nobody foresaw.
    pub fn fault(error: tokio::task::JoinError) -> Self {
        Self::broke_off("the work", &error.to_string())
    }

    /// Something of ours broke off in a way that nobody foresaw.
    pub fn broke_off(what: &str, said: &str) -> Self {
        Self::Lasting {
            code: "fault".to_owned(),
            why: format!("a fault in Wetbank itself broke {what} off: {said}"),
            remedy: "Report this fault with the log. Release to try again, or dismiss.".to_owned(),
        }
    }

    /// Why, for the log.
    pub fn said(&self) -> String {
        match self {
            Self::Passing { why, .. } | Self::Paused { why, .. } | Self::Lasting { why, .. } | Self::Journal(why) => {
                why.clone()
            }
            Self::Place(error) => error.to_string(),
            Self::Stopping => "the service is stopping".to_owned(),
        }
    }

    /// Whether it may be over by itself.
    pub fn may_pass(&self) -> bool {
        match self {
            Self::Passing { .. } | Self::Paused { .. } | Self::Journal(_) | Self::Stopping => true,
            Self::Place(error) => error.is_retryable(),
            Self::Lasting { .. } => false,
        }
    }

    /// Whether it tells for sure that what was intended did not happen. A connection that broke off before
    /// the answer tells nothing.
    fn is_an_answer(&self) -> bool {
        use PlaceErrorKind::{BadName, Denied, Exists, NoSpace, NotFound, Unsupported};
        match self {
            Self::Place(error) => {
                matches!(error.kind, BadName | Denied | Exists | NoSpace | NotFound | Unsupported)
            }
            Self::Passing { .. } | Self::Lasting { .. } => true,
            Self::Paused { .. } | Self::Journal(_) | Self::Stopping => false,
        }
    }
}

impl From<PlaceError> for FailureKind {
    fn from(error: PlaceError) -> Self {
        Self::Place(Box::new(error))
    }
}

impl From<JournalError> for FailureKind {
    fn from(error: JournalError) -> Self {
        Self::Journal(error.to_string())
    }
}

impl From<TemplateError> for FailureKind {
    fn from(error: TemplateError) -> Self {
        Self::Lasting {
            code: "template".to_owned(),
            why: error.to_string(),
            remedy: "Correct the template in the rule, then release.".to_owned(),
        }
    }
}

impl From<CryptError> for FailureKind {
    fn from(error: CryptError) -> Self {
        let why = error.to_string();
        let (code, remedy) = match &error {
            CryptError::Unfit { .. } => ("key-unfit", "Import the new key under the same name, then release."),
            CryptError::NoKey(_) => {
                ("no-key", "Import the key (or set the passphrase) this file was encrypted to, then release.")
            }
            CryptError::WrongPassphrase => ("passphrase", "Set the right passphrase for this step, then release."),
            CryptError::NoMessage | CryptError::NotEncrypted(_) => (
                "not-encrypted",
                "Ask the sender to encrypt it; or let the rule decrypt only what is encrypted (if = …), then release.",
            ),
            CryptError::Damaged => ("damaged", "Ask the sender to send the file again; then dismiss this one."),
            CryptError::Signature(_) => (
                "signature",
                "Ask the sender whether the file is theirs; do not use it before. Then dismiss it, or change the rule and release.",
            ),
            CryptError::Io(_) => {
                return Self::Passing {
                    code: "work-folder".to_owned(),
                    why: format!("cannot write the work folder: {why}"),
                    remedy: "Free space on the disk that holds Wetbank's data folder.".to_owned(),
                };
            }
            _ => ("crypt", "Check the keys that the rule names, then release."),
        };
        Self::Lasting { code: code.to_owned(), why, remedy: remedy.to_owned() }
    }
}

impl From<EngineError> for FailureKind {
    fn from(error: EngineError) -> Self {
        match error {
            EngineError::Place(e) => e.into(),
            EngineError::Crypt(e) => e.into(),
            EngineError::Journal(e) => e.into(),
            other => Self::Lasting {
                code: "set-up".to_owned(),
                why: other.to_string(),
                remedy: "Mend that, then release.".to_owned(),
            },
        }
    }
}

impl From<Away> for FailureKind {
    fn from(away: Away) -> Self {
        match away {
            Away::Paused(until, error) => Self::Paused { until, why: error.to_string() },
            Away::Unusable(error) => error.into(),
        }
    }
}

/// What happened to a file that is not there any more, as a run's `about` has it.
pub(crate) const GONE: &str = "gone";

/// What an effect comes to.
pub(super) type Effect<T> = Result<T, FailureKind>;

/// A position in the name of what is made there.
pub(super) fn at(position: Position) -> String {
    position.step().map_or_else(|| "original".to_owned(), |step| step.to_string())
}
