use std::path::PathBuf;

/// What can go wrong with the journal.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum JournalError {
    /// The file cannot be opened or is no journal.
    #[error("journal {path} cannot be opened")]
    Open {
        /// The file.
        path: PathBuf,
        /// Why.
        #[source]
        source: sqlx::Error,
    },
    /// The journal was written by a newer version.
    #[error("journal cannot be brought up to date")]
    Migrate(#[from] sqlx::migrate::MigrateError),
    /// A statement failed; nothing of that write was kept.
    #[error("journal refused a statement")]
    Statement(#[from] sqlx::Error),
    /// The journal was closed.
    #[error("journal is closed")]
    Closed,
    /// The disk took no more; nothing of the last writes was kept.
    #[error("journal could not be written: {0}; free space on the disk that holds the data folder")]
    Commit(String),
}
