use std::io;

/// Why an errand was not done.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ErrandError {
    /// Reading or writing a file of ours failed.
    #[error(transparent)]
    Io(#[from] io::Error),
    /// It cannot be reached, or is too busy; later it may work.
    #[error("{0}")]
    Away(String),
    /// It was reached and says no; only a person can change that.
    #[error("{0}")]
    Refused(String),
    /// The sign-in was refused.
    #[error("{0}")]
    SignIn(String),
    /// What it was given, or gave, is not what it should be.
    #[error("{0}")]
    Wrong(String),
    /// It is larger, or took longer, than it may.
    #[error("{0}")]
    TooMuch(String),
    /// It was told to stop.
    #[error("it was told to stop")]
    Stopped,
}

impl ErrandError {
    /// Whether trying again later may help without anybody doing something.
    pub fn is_retryable(&self) -> bool {
        matches!(self, Self::Io(_) | Self::Away(_))
    }
}
