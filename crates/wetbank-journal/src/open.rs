use std::{
    path::Path,
    sync::{Arc, atomic::AtomicI64},
    time::{Duration, Instant},
};

use sqlx::{
    AssertSqlSafe, ConnectOptions, SqliteConnection, SqlitePool,
    sqlite::{SqliteAutoVacuum, SqliteConnectOptions, SqliteJournalMode, SqlitePoolOptions, SqliteSynchronous},
};

use crate::{JournalError, Trouble, folding::MOST, threes::Threes, writer::Writer};

/// What the writer keeps of the file in memory, as SQLite says it: 32 MiB. It writes into many indexes, each at
/// another place of the file.
const WRITER_CACHE: &str = "-32768";
/// Readers at once. Reads are short; more would only compete for the two or four cores.
const READERS: u32 = 4;

/// The check at the start takes this long at most: about a gigabyte.
const CHECKED_FOR: Duration = Duration::from_secs(5);
/// Between two looks at the clock, in steps of SQLite's machine.
const STEPS: i32 = 10_000;
/// SQLite's numbers for a query that was stopped, and for a file that is damaged.
const INTERRUPTED: &str = "9";
const CORRUPT: &str = "11";

/// A handle on the journal; clones share it.
#[derive(Debug, Clone)]
pub struct Journal {
    pub(crate) read: SqlitePool,
    pub(crate) writer: Writer,
    pub(crate) ids: Arc<Ids>,
    pub(crate) threes: Arc<Threes>,
}

/// The next numbers to give out. Numbers only grow, so they tell the order of time.
#[derive(Debug, Default)]
pub(crate) struct Ids {
    pub run: AtomicI64,
    pub item: AtomicI64,
    pub attempt: AtomicI64,
}

/// Looks whether the file is what was written, as far as it can be read in a few seconds: a damaged page is to be
/// found before work depends on it.
async fn check(connection: &mut SqliteConnection, path: &Path) -> Result<(), JournalError> {
    let failed = |source| JournalError::Open { path: path.to_owned(), source };
    let damaged = |what: String| JournalError::Damaged { path: path.to_owned(), what };
    let began = Instant::now();
    connection.lock_handle().await.map_err(failed)?.set_progress_handler(STEPS, move || began.elapsed() < CHECKED_FOR);
    let found = sqlx::query_scalar::<_, String>("PRAGMA quick_check(3)").fetch_all(&mut *connection).await;
    connection.lock_handle().await.map_err(failed)?.remove_progress_handler();
    match found {
        Ok(lines) if lines == ["ok"] => Ok(()),
        Ok(lines) => Err(damaged(lines.join("; "))),
        Err(sqlx::Error::Database(error)) => match error.code().as_deref() {
            Some(INTERRUPTED) => {
                tracing::info!("the journal is so large that only the beginning of it was checked");
                Ok(())
            }
            Some(CORRUPT) => Err(damaged(error.message().to_owned())),
            _ => Err(failed(sqlx::Error::Database(error))),
        },
        Err(error) => Err(failed(error)),
    }
}

/// A file of an earlier version does not give room back to the disk until it was written anew, once. If there
/// is no room for that, it stays as it is.
async fn shrinkable(connection: &mut SqliteConnection) {
    let kind = sqlx::query_scalar::<_, i64>("PRAGMA auto_vacuum").fetch_one(&mut *connection).await;
    if !matches!(kind, Ok(0)) {
        return;
    }
    tracing::info!("the journal is written anew, once, so that it can give room back to the disk");
    let written = sqlx::raw_sql("PRAGMA auto_vacuum = INCREMENTAL; VACUUM").execute(connection).await;
    if let Err(error) = written {
        tracing::warn!(%error, "the journal could not be written anew; it works, but does not get smaller");
    }
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
        let writing = options.clone().pragma("cache_size", WRITER_CACHE);
        // Said of a file that is there it would be a write, before anybody knows whether the file is well.
        let first = match path.exists() {
            true => writing.clone(),
            false => writing.clone().auto_vacuum(SqliteAutoVacuum::Incremental),
        };
        let mut connection = first.connect().await.map_err(|error| match error {
            sqlx::Error::Database(error) if error.code().as_deref() == Some(CORRUPT) => {
                JournalError::Damaged { path: path.clone(), what: error.message().to_owned() }
            }
            error => failed(error),
        })?;
        check(&mut connection, &path).await?;
        sqlx::migrate!("./migrations").run(&mut connection).await?;
        shrinkable(&mut connection).await;
        let ids = sqlx::query_file!("queries/max_ids.sql").fetch_one(&mut connection).await?;
        let most = AssertSqlSafe(format!("PRAGMA wal_autocheckpoint = {MOST}"));
        sqlx::raw_sql(most).execute(&mut connection).await?;
        let folder = options.clone().connect().await.map_err(failed)?;
        let read = SqlitePoolOptions::new()
            .max_connections(READERS)
            .min_connections(0)
            .connect_lazy_with(options.read_only(true));
        Ok(Self {
            read,
            writer: Writer::start(connection, folder),
            ids: Arc::new(Ids {
                run: AtomicI64::new(ids.run + 1),
                item: AtomicI64::new(ids.item + 1),
                attempt: AtomicI64::new(ids.attempt + 1),
            }),
            threes: Arc::default(),
        })
    }

    /// How many secrets and secret keys are sealed in it.
    pub async fn sealed(&self) -> Result<i64, JournalError> {
        Ok(sqlx::query_file_scalar!("queries/sealed.sql").fetch_one(&self.read).await?)
    }

    /// Why the journal cannot be written now, if what was written last was refused.
    pub fn trouble(&self) -> Option<Trouble> {
        self.writer.trouble()
    }

    /// Commits what is queued and closes the file.
    pub async fn close(&self) {
        // Whoever closes last folds what was written into the file, and readers cannot.
        self.read.close().await;
        self.writer.close().await;
    }
}
