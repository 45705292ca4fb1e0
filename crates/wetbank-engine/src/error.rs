use std::path::PathBuf;

use wetbank_core::{Problem, TemplateError};
use wetbank_crypt::{CryptError, KeyError, VaultError};
use wetbank_journal::JournalError;
use wetbank_places::PlaceError;

/// What the engine cannot do when asked.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum EngineError {
    /// The data folder cannot be used.
    #[error("data folder {path} cannot be used: {source}")]
    Data {
        /// The folder.
        path: PathBuf,
        /// Why.
        source: std::io::Error,
    },
    /// Another service holds the data folder.
    #[error(
        "data folder {0} is in use by another wetbank service; stop that one, or give this one its own folder with --data"
    )]
    Locked(PathBuf),
    /// The journal failed.
    #[error("{0}")]
    Journal(#[from] JournalError),
    /// The vault failed.
    #[error("{0}")]
    Vault(#[from] VaultError),
    /// A place failed.
    #[error("{0}")]
    Place(#[from] PlaceError),
    /// A key cannot be used.
    #[error("{0}")]
    Key(#[from] KeyError),
    /// Encrypting or decrypting failed.
    #[error("{0}")]
    Crypt(#[from] CryptError),
    /// The book has mistakes.
    #[error("the book has {} mistake{}", .0.len(), if .0.len() == 1 { "" } else { "s" })]
    Book(Vec<Problem>),
    /// A template gave nothing usable.
    #[error("{0}")]
    Template(#[from] TemplateError),
    /// There is no such thing.
    #[error("there is no {kind} \"{name}\"")]
    Unknown {
        /// What kind of thing.
        kind: &'static str,
        /// Its name.
        name: String,
    },
    /// It cannot be done now.
    #[error("{0}")]
    NotNow(String),
}

impl EngineError {
    pub(crate) fn unknown(kind: &'static str, name: impl ToString) -> Self {
        Self::Unknown { kind, name: name.to_string() }
    }
}
