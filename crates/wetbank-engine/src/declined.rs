//! What the engine does not do although it was asked rightly: as things stand it cannot, or must not.

use wetbank_core::{FilePath, Name, RelPath, Stuck};

/// Why something is not done as things stand. Each cause has its own word for programs ([`Declined::code`]).
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
#[allow(missing_docs, reason = "the sentence above each says what its fields are")]
pub enum Declined {
    #[error("there is a place \"{0}\" already; change its text in the book, or choose another name")]
    PlaceThere(Name),
    #[error(
        "there is a secret \"{0}\" already, which another place may need; remove it with wetbank secret remove {0}, or \
         choose another name"
    )]
    SecretThere(String),
    #[error("the password or key is empty; nothing was added")]
    SecretEmpty,
    #[error("secret \"{0}\" is not set; set it with: wetbank secret set {0}")]
    SecretNotSet(String),
    #[error("the {kind} \"{name}\" needs the secret \"{secret}\"; change the {kind} first")]
    SecretNeeded { secret: String, kind: String, name: String },
    #[error(
        "the name \"{name}\" belongs to another key ({fingerprint}); remove that one first, or choose another name"
    )]
    OtherKey { name: String, fingerprint: String },
    #[error("the key \"{0}\" has no secret part here")]
    NoSecretPart(String),
    #[error("there is no place in what was typed")]
    NothingTyped,
    #[error("database \"{name}\" is not used: {why}")]
    DatabaseUnused { name: Name, why: String },
    #[error("no signal starts the rule \"{0}\"; add starts = {{ signal = {{ secret = \"…\" }} }}")]
    NoSignal(Name),
    #[error("nobody signs in to the place \"{0}\" by agreeing; its password is set with: wetbank secret set")]
    NoAgreement(String),
    #[error("nobody is asked to sign in any more; begin again on the place's page")]
    NobodyAsked,
    #[error("this rule looks for no files itself, another rule hands them on; choose a file, or give it finds = [ … ]")]
    LooksForNone,
    #[error("{file} is {what}; no rule takes it")]
    NoFile { file: FilePath, what: &'static str },
    #[error("somebody has {0} open for writing; begin again when it is closed")]
    OpenForWriting(FilePath),
    #[error("the rule does not take {file}: {outcome}")]
    NotTaken { file: FilePath, outcome: String },
    #[error("{0} is where these files are")]
    SamePlace(FilePath),
    #[error("{path} does not lie in {folder}")]
    Outside { path: RelPath, folder: RelPath },
    #[error("checking the book took longer than {0} s; apply it in parts")]
    BookTooSlow(u64),
    #[error(
        "item {item} began with version {version} of the rule \"{rule}\", which cannot be read: {problem}. Put back what \
         it names and release then; or dismiss it, and run the rule on the file anew"
    )]
    OldRule { item: i64, version: i64, rule: Name, problem: String },
    #[error("the rule \"{rule}\" is no longer in the book; put it back and release then, or dismiss item {item}")]
    RuleGone { rule: Name, item: i64 },
    #[error(transparent)]
    NoWay(#[from] Stuck),
    #[error("nothing of run {0} is going on")]
    NothingGoing(i64),
    #[error("{0} is held or waits; to work on a file once more: wetbank rule run RULE --file PLACE:/PATH")]
    NothingWaits(String),
    #[error("item {item} is not held, it is {state}")]
    NotHeld { item: i64, state: &'static str },
    #[error("the text is of {kind} \"{written}\", not of {kind} \"{asked}\"; add it under its own name")]
    OtherSection { kind: &'static str, asked: String, written: String },
    #[error(
        "{kind} \"{name}\" was {} meanwhile by {who}; look at what is in force now, then put yours in force again",
        if now.is_some() { "changed" } else { "removed" }
    )]
    ChangedMeanwhile { kind: &'static str, name: String, who: String, now: Option<(String, i64)> },
    #[error("{kind} \"{name}\" was never otherwise")]
    NothingBefore { kind: &'static str, name: String },
    #[error("these are not all rules, each once: somebody added or removed one meanwhile; look again, then order them")]
    OtherRules,
    #[error("the rule is not finished: {0}")]
    UnfinishedDraft(String),
    #[error("this rule looks in no folder: another rule, a letter or a program hands it its files")]
    LooksNowhere,
    #[error("what came is kept on record for 1 to 3,650 days, and from 1 to 5,000,000 files")]
    KeepsTooMuch,
    #[error("{0} and {1} are one folder on this machine, or one lies in the other; a twin needs two beside each other")]
    Nested(FilePath, FilePath),
    #[error(
        "{here} is {root} itself, mounted there: each pass would find one folder more in it; unmount it, or leave it out \
         (except)"
    )]
    Looped {
        /// Where it was found.
        here: FilePath,
        /// The twin's own folder that it is.
        root: FilePath,
    },
    #[error("there is no mail {0} that waits or was refused")]
    NoMail(i64),
}

impl Declined {
    /// The cause in a word that stays the same.
    pub fn code(&self) -> &'static str {
        match self {
            Self::PlaceThere(_) | Self::SecretThere(_) => "there-already",
            Self::SecretEmpty => "empty-secret",
            Self::SecretNotSet(_) => "no-secret",
            Self::SecretNeeded { .. } => "needed",
            Self::OtherKey { .. } => "other-key",
            Self::NoSecretPart(_) => "no-secret-part",
            Self::NothingTyped => "text",
            Self::DatabaseUnused { .. } => "database",
            Self::NoSignal(_) => "no-signal",
            Self::NoAgreement(_) | Self::NobodyAsked => "no-agreement",
            Self::LooksForNone => "looks-for-none",
            Self::NoFile { .. } => "no-file",
            Self::OpenForWriting(_) => "open",
            Self::NotTaken { .. } => "not-taken",
            Self::SamePlace(_) | Self::Outside { .. } => "elsewhere",
            Self::BookTooSlow(_) => "too-slow",
            Self::OldRule { .. } => "old-rule",
            Self::RuleGone { .. } => "no-rule",
            Self::NoWay(_) => "no-branch",
            Self::NothingGoing(_) | Self::NothingWaits(_) => "nothing",
            Self::NotHeld { .. } => "not-held",
            Self::OtherSection { .. } => "other-section",
            Self::ChangedMeanwhile { .. } => "changed-meanwhile",
            Self::NothingBefore { .. } => "nothing-before",
            Self::OtherRules => "other-rules",
            Self::UnfinishedDraft(_) => "unfinished",
            Self::LooksNowhere => "looks-nowhere",
            Self::KeepsTooMuch => "bounds",
            Self::Nested(..) => "nested",
            Self::Looped { .. } => "looped",
            Self::NoMail(_) => "no-mail",
        }
    }
}
