use std::path::PathBuf;

use wetbank_core::{InvalidName, Problem, TemplateError, Unwritable};
use wetbank_crypt::{CryptError, KeyError, VaultError};
use wetbank_journal::JournalError;
use wetbank_places::{AgreementError, PlaceError};

use crate::Declined;

/// What the engine cannot do when asked.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum EngineError {
    /// The data folder cannot be used.
    #[error("data folder {path} cannot be used: {cause}")]
    Data {
        /// The folder.
        path: PathBuf,
        /// Why; told with it, so that nobody tells it twice.
        cause: std::io::Error,
    },
    /// Another service holds the data folder.
    #[error(
        "data folder {0} is in use by another wetbank service; stop that one, or give this one its own folder with --data"
    )]
    Locked(PathBuf),
    /// The journal failed.
    #[error(transparent)]
    Journal(#[from] JournalError),
    /// The vault failed.
    #[error(transparent)]
    Vault(#[from] VaultError),
    /// A place failed.
    #[error(transparent)]
    Place(#[from] PlaceError),
    /// A key cannot be used.
    #[error(transparent)]
    Key(#[from] KeyError),
    /// Encrypting or decrypting failed.
    #[error(transparent)]
    Crypt(#[from] CryptError),
    /// The book has mistakes.
    #[error("the book has {} mistake{}", .0.len(), if .0.len() == 1 { "" } else { "s" })]
    Book(Vec<Problem>),
    /// A template gave nothing usable.
    #[error(transparent)]
    Template(#[from] TemplateError),
    /// There is no such thing.
    #[error("there is no {kind} \"{name}\"")]
    Unknown {
        /// What kind of thing.
        kind: &'static str,
        /// Its name.
        name: String,
    },
    /// A name that nothing can have.
    #[error(transparent)]
    Name(#[from] InvalidName),
    /// As things stand it is not done.
    #[error(transparent)]
    Declined(#[from] Declined),
    /// Signing in to a drive by agreeing failed.
    #[error(transparent)]
    Agreement(#[from] AgreementError),
    /// A text of the book cannot be changed as it was asked for.
    #[error(transparent)]
    Unwritable(#[from] Unwritable),
    /// What was given cannot be read.
    #[error("{0}")]
    Unreadable(String),
    /// Something of our own broke off, or cannot be read any more.
    #[error("{0}")]
    Broken(String),
}

impl EngineError {
    pub(crate) fn unknown(kind: &'static str, name: impl ToString) -> Self {
        Self::Unknown { kind, name: name.to_string() }
    }
}
