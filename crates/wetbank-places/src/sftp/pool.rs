//! A few connections, shared by all who use the place.

use std::{ops::Deref, sync::Arc, time::Duration};

use tokio::{sync::Mutex, time::Instant};
use wetbank_core::{PlaceName, SftpSpec};
use wetbank_sftp::Client;

use super::connect::{Connection, SftpCredentials};
use crate::PlaceError;

/// Another connection is opened when the least busy one has this many requests in flight.
const BUSY: usize = 24;
/// Connections that nobody used for so long are closed.
const IDLE: Duration = Duration::from_secs(60);

#[derive(Debug)]
pub(super) struct Pool {
    name: PlaceName,
    spec: SftpSpec,
    credentials: SftpCredentials,
    shared: Arc<Shared>,
}

#[derive(Debug, Default)]
struct Shared {
    open: Mutex<Vec<Slot>>,
}

#[derive(Debug)]
struct Slot {
    connection: Arc<Connection>,
    used: Instant,
}

/// The use of a connection; it stays open as long as this lives.
#[derive(Debug, Clone)]
pub(super) struct Lease(Arc<Connection>);

impl Deref for Lease {
    type Target = Client;

    fn deref(&self) -> &Client {
        &self.0.client
    }
}

impl Pool {
    pub fn new(name: PlaceName, spec: SftpSpec, credentials: SftpCredentials) -> Self {
        Self { name, spec, credentials, shared: Arc::default() }
    }

    /// The least busy connection, or a new one while there may be more.
    pub async fn lease(&self) -> Result<Lease, PlaceError> {
        // Held while connecting, so that many who need the first connection share it.
        let mut open = self.shared.open.lock().await;
        open.retain(|slot| !slot.connection.is_closed());
        let count = open.len();
        let least = open.iter_mut().min_by_key(|slot| load(&slot.connection));
        match least {
            Some(slot) if load(&slot.connection) < BUSY || count >= self.spec.connections => {
                slot.used = Instant::now();
                Ok(Lease(slot.connection.clone()))
            }
            least => {
                match Connection::open(&self.name, &self.spec, &self.credentials).await {
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

fn load(connection: &Arc<Connection>) -> usize {
    connection.client.in_flight() + Arc::strong_count(connection)
}

/// Closes what nobody uses, until the pool is empty or gone.
async fn close_idle(shared: std::sync::Weak<Shared>) {
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
