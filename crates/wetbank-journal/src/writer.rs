//! One task, one connection, group commit.

use std::{
    sync::Arc,
    time::{Duration, Instant},
};

use jiff::Timestamp;
use parking_lot::RwLock;

use sqlx::{Connection, SqliteConnection};
use tokio::sync::{Mutex, mpsc, oneshot};
use tokio::task::JoinHandle;

use crate::{AttemptStart, Intention, JournalError, Progress, bulk, folding::Folding};

/// Writes that may wait. A full queue makes writers wait, which is the back-pressure we want.
const QUEUE: usize = 4096;
/// Writes in one transaction: enough to spread the cost of a sync thinly, few enough that the
/// first of them does not wait for long.
const BATCH: usize = 512;
/// A commit that takes longer is told to whoever looks for such.
const SLOW: Duration = Duration::from_millis(50);

type BoxFuture<'c, T> = std::pin::Pin<Box<dyn Future<Output = T> + Send + 'c>>;

/// Tells the caller how its write ended, after the commit.
type Acknowledge = Box<dyn FnOnce(Result<(), JournalError>) + Send>;

/// Statements on the connection, and who waits for them.
type Statements = Box<dyn for<'c> FnOnce(&'c mut SqliteConnection) -> BoxFuture<'c, (bool, Acknowledge)> + Send>;

/// The writes of a step at work. Those that wait together are written by the same statements:
/// an item never has two of them waiting, so their order among each other means nothing.
pub(crate) enum Step {
    Start(AttemptStart),
    Intend(Intention),
    Record(Box<Progress>),
}

enum Write {
    Step(Box<Step>, oneshot::Sender<Result<(), JournalError>>),
    Other(Statements),
}

/// Why the journal cannot be written.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Trouble {
    /// Since when it refuses.
    pub since: Timestamp,
    /// What it said last.
    pub why: String,
}

/// Whether it is refused now.
type Standing = Arc<RwLock<Option<Trouble>>>;

#[derive(Debug, Clone)]
pub(crate) struct Writer {
    standing: Standing,
    queue: mpsc::Sender<Write>,
    task: Arc<Mutex<Option<JoinHandle<()>>>>,
    folding: Arc<Mutex<Option<JoinHandle<()>>>>,
    unfolding: tokio_util::sync::CancellationToken,
    closing: tokio_util::sync::CancellationToken,
}

impl Writer {
    /// Writes on one connection, and folds what was written back into the file on the other.
    pub(crate) fn start(connection: SqliteConnection, beside: SqliteConnection) -> Self {
        let (queue, writes) = mpsc::channel(QUEUE);
        let closing = tokio_util::sync::CancellationToken::new();
        let standing = Standing::default();
        let folding = Folding::default();
        // Ended first: two connections that close at once each leave the log to the other.
        let unfolding = closing.child_token();
        let beside = folding.start(beside, unfolding.clone());
        let task = tokio::spawn(run(connection, writes, closing.clone(), standing.clone(), folding));
        let (task, folding) = (Arc::new(Mutex::new(Some(task))), Arc::new(Mutex::new(Some(beside))));
        Self { standing, queue, task, folding, unfolding, closing }
    }

    /// Queues a write and waits until it is committed. If a statement fails, nothing of the whole
    /// transaction is kept, and everybody in it is told so: a savepoint for each write would
    /// cost every good one half its time again, to spare others a failure that never comes
    /// from what they wrote.
    pub(crate) async fn write<T, F>(&self, statements: F) -> Result<T, JournalError>
    where
        T: Send + 'static,
        F: for<'c> FnOnce(&'c mut SqliteConnection) -> BoxFuture<'c, Result<T, sqlx::Error>> + Send + 'static,
    {
        let (reply, answer) = oneshot::channel();
        let write: Statements = Box::new(move |connection| {
            Box::pin(async move {
                let result = statements(connection).await;
                let fine = result.is_ok();
                let acknowledge: Acknowledge = Box::new(move |committed| {
                    let _ = reply.send(match (committed, result) {
                        (Err(error), _) => Err(error),
                        (Ok(()), result) => result.map_err(JournalError::from),
                    });
                });
                (fine, acknowledge)
            })
        });
        self.queue.send(Write::Other(write)).await.map_err(|_| JournalError::Closed)?;
        answer.await.map_err(|_| JournalError::Closed)?
    }

    /// Queues a step's write and waits until it is committed.
    pub(crate) async fn step(&self, step: Step) -> Result<(), JournalError> {
        let (reply, answer) = oneshot::channel();
        self.queue.send(Write::Step(Box::new(step), reply)).await.map_err(|_| JournalError::Closed)?;
        answer.await.map_err(|_| JournalError::Closed)?
    }

    /// Why what was written last was refused, if it was.
    pub(crate) fn trouble(&self) -> Option<Trouble> {
        self.standing.read().clone()
    }

    pub(crate) async fn close(&self) {
        self.unfolding.cancel();
        if let Some(folding) = self.folding.lock().await.take() {
            let _ = folding.await;
        }
        // Who closes last folds all that is left.
        self.closing.cancel();
        if let Some(task) = self.task.lock().await.take() {
            let _ = task.await;
        }
    }
}

async fn run(
    mut connection: SqliteConnection,
    mut writes: mpsc::Receiver<Write>,
    closing: tokio_util::sync::CancellationToken,
    standing: Standing,
    folding: Folding,
) {
    let mut batch = Vec::with_capacity(BATCH);
    loop {
        // recv_many is cancel-safe: nothing received is lost when the other arm wins.
        let received = tokio::select! {
            biased;
            received = writes.recv_many(&mut batch, BATCH) => received,
            () = closing.cancelled() => 0,
        };
        if received == 0 {
            break;
        }
        let mut waiting = Vec::with_capacity(batch.len());
        let (began, writes) = (Instant::now(), batch.len());
        let outcome = transaction(&mut connection, batch.drain(..), &mut waiting).await;
        if began.elapsed() > SLOW {
            tracing::debug!(millis = began.elapsed().as_millis(), writes, "a slow commit");
        }
        if outcome.is_err() {
            // A failed commit leaves the transaction open; nothing of it may linger.
            let _ = sqlx::raw_sql("ROLLBACK").execute(&mut connection).await;
            folding.refused(&mut connection).await;
        }
        stand(&standing, &outcome);
        for acknowledge in waiting {
            acknowledge(outcome.as_ref().copied().map_err(|e| JournalError::Commit(e.to_string())));
        }
        folding.committed();
    }
    let _ = connection.close().await;
}

/// Takes note of how a commit ended; what changes is said once.
fn stand(standing: &Standing, outcome: &Result<(), sqlx::Error>) {
    let mut now = standing.write();
    match outcome {
        Ok(()) => {
            if let Some(trouble) = now.take() {
                tracing::info!(since = %trouble.since, "the journal can be written again");
            }
        }
        Err(error) => {
            let why = error.to_string();
            if now.is_none() {
                tracing::error!(why, "the journal cannot be written; what is to be recorded waits for it");
            }
            let since = now.as_ref().map_or_else(Timestamp::now, |trouble| trouble.since);
            *now = Some(Trouble { since, why });
        }
    }
}

async fn transaction(
    connection: &mut SqliteConnection,
    writes: impl Iterator<Item = Write>,
    waiting: &mut Vec<Acknowledge>,
) -> Result<(), sqlx::Error> {
    let (mut starts, mut intentions, mut progress, mut others) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
    for write in writes {
        let reply = match write {
            Write::Other(statements) => {
                others.push(statements);
                continue;
            }
            Write::Step(step, reply) => {
                match *step {
                    Step::Start(start) => starts.push(start),
                    Step::Intend(intention) => intentions.push(intention),
                    Step::Record(record) => progress.push(*record),
                }
                reply
            }
        };
        waiting.push(Box::new(move |committed| {
            let _ = reply.send(committed);
        }));
    }
    sqlx::raw_sql("BEGIN IMMEDIATE").execute(&mut *connection).await?;
    bulk::start(connection, &starts).await?;
    bulk::intend(connection, &intentions).await?;
    bulk::record(connection, &progress).await?;
    let mut failed = false;
    for statements in others {
        let (fine, acknowledge) = statements(connection).await;
        waiting.push(acknowledge);
        failed |= !fine;
    }
    if failed {
        return Err(sqlx::Error::Protocol("a write of the same transaction failed".to_owned()));
    }
    sqlx::raw_sql("COMMIT").execute(&mut *connection).await?;
    Ok(())
}
