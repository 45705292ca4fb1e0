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
    /// The file is a journal, but parts of it are not what was written there.
    #[error(
        "journal {path} is damaged: {what}. Nothing was changed. Keep a copy of the data folder as it is; then put \
         back the last backup of it, or have what can be read written into a new file with: \
         sqlite3 {path} .recover | sqlite3 recovered.db"
    )]
    Damaged {
        /// The file.
        path: PathBuf,
        /// What is wrong, in the words of the database.
        what: String,
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
