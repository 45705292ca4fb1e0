use std::{
    path::Path,
    sync::{Arc, atomic::AtomicI64},
    time::Duration,
};

use sqlx::{
    ConnectOptions, SqlitePool,
    sqlite::{SqliteConnectOptions, SqliteJournalMode, SqlitePoolOptions, SqliteSynchronous},
};

use crate::{JournalError, writer::Writer};

/// Readers at once. Reads are short; more would only compete for the two or four cores.
const READERS: u32 = 4;

/// A handle on the journal; clones share it.
#[derive(Debug, Clone)]
pub struct Journal {
    pub(crate) read: SqlitePool,
    pub(crate) writer: Writer,
    pub(crate) ids: Arc<Ids>,
}

/// The next numbers to give out. Numbers only grow, so they tell the order of time.
#[derive(Debug, Default)]
pub(crate) struct Ids {
    pub run: AtomicI64,
    pub item: AtomicI64,
    pub attempt: AtomicI64,
}

impl Journal {
    /// Opens `journal.db` in a folder, creating and migrating it as needed.
    pub async fn open(folder: &Path) -> Result<Self, JournalError> {
        let path = folder.join("journal.db");
        let failed = |source| JournalError::Open { path: path.clone(), source };
        let options = SqliteConnectOptions::new()
            .filename(&path)
            .create_if_missing(true)
            .journal_mode(SqliteJournalMode::Wal)
            .synchronous(SqliteSynchronous::Full)
            .foreign_keys(true)
            .busy_timeout(Duration::from_secs(5))
            .statement_cache_capacity(200)
            .pragma("journal_size_limit", "67108864")
            .disable_statement_logging();
        let mut connection = options.connect().await.map_err(failed)?;
        sqlx::migrate!("./migrations").run(&mut connection).await?;
        let ids = sqlx::query_file!("queries/max_ids.sql").fetch_one(&mut connection).await?;
        let read = SqlitePoolOptions::new()
            .max_connections(READERS)
            .min_connections(0)
            .connect_lazy_with(options.read_only(true));
        Ok(Self {
            read,
            writer: Writer::start(connection),
            ids: Arc::new(Ids {
                run: AtomicI64::new(ids.run + 1),
                item: AtomicI64::new(ids.item + 1),
                attempt: AtomicI64::new(ids.attempt + 1),
            }),
        })
    }

    /// Commits what is queued and closes the file.
    pub async fn close(&self) {
        self.writer.close().await;
        self.read.close().await;
    }
}
