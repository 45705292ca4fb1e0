use wetbank_engine::EngineError;
use wetbank_places::{PlaceError, PlaceErrorKind};

/// Why something is not done for a partner. The words say nothing of what is not theirs.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum Refusal {
    /// It is not there; what is not theirs is not there either.
    #[error("there is no such file or folder")]
    NotFound,
    /// It is theirs, and they may not do that.
    #[error("{0}")]
    Denied(&'static str),
    /// A name that nothing can have.
    #[error("no file can have this name")]
    BadName,
    /// The name is taken by something that is not replaced.
    #[error("{0}")]
    Taken(&'static str),
    /// There is no room.
    #[error("{0}")]
    Full(String),
    /// It cannot be done in this order, or at this time.
    #[error("{0}")]
    Unfit(&'static str),
    /// The account does not open any more.
    #[error("this account does not open any more")]
    Over,
    /// Where the files lie cannot be reached, or failed; the log says more.
    #[error("that cannot be done at this moment; try again later")]
    Failed,
}

impl From<PlaceError> for Refusal {
    fn from(error: PlaceError) -> Self {
        match error.kind {
            PlaceErrorKind::NotFound => Self::NotFound,
            PlaceErrorKind::BadName => Self::BadName,
            PlaceErrorKind::Exists => Self::Taken("something of this name is there already"),
            PlaceErrorKind::NoSpace => Self::Full("there is no room left".to_owned()),
            _ => {
                tracing::warn!(%error, "something could not be done for a partner");
                Self::Failed
            }
        }
    }
}

impl From<EngineError> for Refusal {
    fn from(error: EngineError) -> Self {
        match error {
            EngineError::Place(error) => error.into(),
            error => {
                tracing::error!(%error, "something could not be done for a partner");
                Self::Failed
            }
        }
    }
}
