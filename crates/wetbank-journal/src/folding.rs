//! Folding what was written back into the file, beside the writer.
//!
//! What is committed stands in a file of its own first (SQLite's write-ahead log); from time to time it is brought into
//! the journal. That takes long where the journal is large and its pages are spread, so it is done on a connection of its
//! own, and hardly a commit waits for it. Beside a writer that writes without a pause no end is ever reached: of a log
//! that grows too long the writer folds the end, so that it begins anew.

use std::{sync::Arc, time::Duration};

use sqlx::{Connection, SqliteConnection};
use tokio::{sync::Notify, task::JoinHandle};
use tokio_util::sync::CancellationToken;

/// Pages that may wait to be folded: 1 MiB.
const PAGES: i64 = 250;
/// A log of more pages (4 MiB, as SQLite itself would have it) is folded by the writer, too.
pub(crate) const MOST: i64 = 1_000;
/// Commits of this time are folded together.
const PAUSE: Duration = Duration::from_millis(100);

/// What the writer tells of its commits.
#[derive(Debug, Clone, Default)]
pub(crate) struct Folding {
    committed: Arc<Notify>,
}

/// How much of the log there is, and how much of it is folded, in pages.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Log {
    pub pages: i64,
    pub folded: i64,
}

/// Asks for a checkpoint of a kind, as SQLite names them.
async fn checkpoint(connection: &mut SqliteConnection, kind: &str) -> Result<Log, sqlx::Error> {
    let asked = sqlx::AssertSqlSafe(format!("PRAGMA wal_checkpoint({kind})"));
    let (_, pages, folded) = sqlx::query_as::<_, (i64, i64, i64)>(asked).fetch_one(connection).await?;
    Ok(Log { pages, folded })
}

impl Folding {
    /// Something was committed.
    pub fn committed(&self) {
        self.committed.notify_one();
    }

    /// Folds all there is after a commit was refused: if the disk is full, the log cannot grow; folded to its end it
    /// begins anew and needs no more room.
    pub async fn refused(&self, connection: &mut SqliteConnection) {
        // What is not folded is not lost; the next commit says what is wrong with the disk.
        if let Err(error) = checkpoint(connection, "PASSIVE").await {
            tracing::debug!(%error, "what was written could not be folded into the journal");
        }
    }

    /// Folds beside the writer until it is closing.
    pub fn start(&self, mut connection: SqliteConnection, closing: CancellationToken) -> JoinHandle<()> {
        let folding = self.clone();
        tokio::spawn(async move {
            loop {
                tokio::select! {
                    biased;
                    () = closing.cancelled() => break,
                    () = folding.committed.notified() => {}
                }
                tokio::select! {
                    () = closing.cancelled() => break,
                    () = tokio::time::sleep(PAUSE) => {}
                }
                if let Err(error) = folding.fold(&mut connection).await {
                    tracing::debug!(%error, "what was written could not be folded into the journal");
                }
            }
            let _ = connection.close().await;
        })
    }

    async fn fold(&self, connection: &mut SqliteConnection) -> Result<(), sqlx::Error> {
        let log = checkpoint(connection, "NOOP").await?;
        if log.pages - log.folded < PAGES {
            return Ok(());
        }
        checkpoint(connection, "PASSIVE").await?;
        Ok(())
    }
}
