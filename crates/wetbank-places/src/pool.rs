//! A few connections, shared by all who use a place.

use std::{future::Future, ops::Deref, sync::Arc, time::Duration};

use tokio::{sync::Mutex, time::Instant};

use crate::place::Result;

/// Another connection is opened when the least busy one has this many users and requests in flight. (On two
/// cores, 2,000 small files went to OpenSSH half again as fast over two connections as over four.)
const BUSY: usize = 64;
/// Connections that nobody used for so long are closed.
const IDLE: Duration = Duration::from_secs(60);

/// A connection on which many requests may be in flight.
pub(crate) trait Connection: Send + Sync + 'static {
    /// It is gone.
    fn is_closed(&self) -> bool;

    /// Requests that wait for an answer.
    fn in_flight(&self) -> usize;

    /// Says goodbye.
    fn close(&self) -> impl Future<Output = ()> + Send;
}

#[derive(Debug)]
pub(crate) struct Pool<C> {
    most: usize,
    shared: Arc<Shared<C>>,
}

#[derive(Debug)]
struct Shared<C> {
    open: Mutex<Vec<Slot<C>>>,
}

#[derive(Debug)]
struct Slot<C> {
    connection: Arc<C>,
    used: Instant,
}

/// The use of a connection; it stays open as long as this lives.
#[derive(Debug)]
pub(crate) struct Lease<C>(Arc<C>);

impl<C> Clone for Lease<C> {
    fn clone(&self) -> Self {
        Self(self.0.clone())
    }
}

impl<C> Deref for Lease<C> {
    type Target = C;

    fn deref(&self) -> &C {
        &self.0
    }
}

impl<C: Connection> Pool<C> {
    /// A pool of at most so many connections. None is opened until it is needed.
    pub fn new(most: usize) -> Self {
        Self { most, shared: Arc::new(Shared { open: Mutex::new(Vec::new()) }) }
    }

    /// The least busy connection, or a new one while there may be more.
    pub async fn lease(&self, connect: impl Future<Output = Result<C>> + Send) -> Result<Lease<C>> {
        // Held while connecting, so that many who need the first connection share it.
        let mut open = self.shared.open.lock().await;
        open.retain(|slot| !slot.connection.is_closed());
        let count = open.len();
        let least = open.iter_mut().min_by_key(|slot| load(&slot.connection));
        match least {
            Some(slot) if load(&slot.connection) < BUSY || count >= self.most => {
                slot.used = Instant::now();
                Ok(Lease(slot.connection.clone()))
            }
            least => {
                match connect.await {
                    Ok(connection) => {
                        let connection = Arc::new(connection);
                        if open.is_empty() {
                            tokio::spawn(close_idle(Arc::downgrade(&self.shared)));
                        }
                        open.push(Slot { connection: connection.clone(), used: Instant::now() });
                        Ok(Lease(connection))
                    }
                    // A server that allows fewer connections than we would like still serves.
                    Err(error) => match least {
                        Some(slot) => Ok(Lease(slot.connection.clone())),
                        None => Err(error),
                    },
                }
            }
        }
    }
}

fn load<C: Connection>(connection: &Arc<C>) -> usize {
    connection.in_flight() + Arc::strong_count(connection)
}

/// Closes what nobody uses, until the pool is empty or gone.
async fn close_idle<C: Connection>(shared: std::sync::Weak<Shared<C>>) {
    loop {
        tokio::time::sleep(IDLE / 4).await;
        let Some(shared) = shared.upgrade() else { return };
        let mut open = shared.open.lock().await;
        let mut idle = Vec::new();
        open.retain(|slot| {
            let unused = Arc::strong_count(&slot.connection) == 1 && slot.used.elapsed() > IDLE;
            if unused {
                idle.push(slot.connection.clone());
            }
            !unused && !slot.connection.is_closed()
        });
        let is_empty = open.is_empty();
        drop(open);
        for connection in idle {
            connection.close().await;
        }
        if is_empty {
            return;
        }
    }
}
