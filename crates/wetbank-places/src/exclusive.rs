//! A few connections, each of which one user has at a time: on it one thing is done after the other.

use std::{
    future::Future,
    sync::Arc,
    time::{Duration, Instant},
};

use parking_lot::Mutex;
use tokio::sync::{OwnedSemaphorePermit, Semaphore};
use wetbank_core::PlaceName;

use crate::{PlaceErrorKind, place::Result};

/// A connection that rested longer is asked for a sign of life before it is used again.
const FRESH: Duration = Duration::from_secs(5);
/// A connection that rested longer is not used again.
const STALE: Duration = Duration::from_secs(60);
/// When one more connection is tried again after the server took no more.
const NARROWED: Duration = Duration::from_secs(600);

/// A connection on which one thing is done at a time.
pub(crate) trait Connection: Send + 'static {
    /// Asks for a sign of life; the answer is waited for, not for ever.
    fn is_alive(&mut self) -> impl Future<Output = bool> + Send;
}

/// Connections that rest, and how many there may be.
pub(crate) struct Pool<C> {
    name: PlaceName,
    most: usize,
    idle: Mutex<Vec<Resting<C>>>,
    slots: Arc<Semaphore>,
    narrowed: Mutex<Narrowed>,
    /// Every open connection holds one.
    open: Arc<()>,
}

struct Resting<C> {
    connection: C,
    since: Instant,
    open: Arc<()>,
}

/// How many connections fewer than the book allows, because the server took no more.
#[derive(Debug, Default)]
struct Narrowed {
    by: usize,
    since: Option<Instant>,
}

/// The use of a connection. It goes back to the pool only when it is said to be in order.
pub(crate) struct Lease<C> {
    connection: Option<(C, Arc<()>)>,
    pool: Arc<Pool<C>>,
    _slot: OwnedSemaphorePermit,
}

impl<C> std::fmt::Debug for Pool<C> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Pool").field("name", &self.name).field("most", &self.most).finish_non_exhaustive()
    }
}

impl<C> Lease<C> {
    /// The connection.
    pub fn get(&mut self) -> &mut C {
        &mut self.connection.as_mut().expect("taken only when it is given back").0
    }

    /// The same, only to look at.
    pub fn seen(&self) -> &C {
        &self.connection.as_ref().expect("taken only when it is given back").0
    }

    /// Gives the connection back: nothing is under way on it.
    pub fn give_back(mut self) {
        if let Some((connection, open)) = self.connection.take() {
            self.pool.idle.lock().push(Resting { connection, since: Instant::now(), open });
        }
    }
}

impl<C: Connection> Pool<C> {
    /// At most so many connections. None is opened until it is needed.
    pub fn new(name: PlaceName, most: usize) -> Self {
        let slots = Arc::new(Semaphore::new(most));
        Self { name, most, idle: Mutex::default(), slots, narrowed: Mutex::default(), open: Arc::default() }
    }

    /// A connection of one's own. If the server takes no more of them, one of ours is waited for.
    pub async fn lease<F>(self: &Arc<Self>, connect: impl Fn() -> F) -> Result<Lease<C>>
    where
        F: Future<Output = Result<C>>,
    {
        self.widen();
        loop {
            let slot = self.slots.clone().acquire_owned().await.expect("the semaphore is never closed");
            // Counted from now on: another one that is refused meanwhile waits for this one.
            let opening = self.open.clone();
            let connection = match self.rested().await {
                Some(connection) => connection,
                None => match connect().await {
                    Ok(connection) => (connection, opening),
                    Err(error) if error.kind == PlaceErrorKind::Busy && self.can_narrow() => {
                        slot.forget();
                        continue;
                    }
                    Err(error) => return Err(error),
                },
            };
            return Ok(Lease { connection: Some(connection), pool: self.clone(), _slot: slot });
        }
    }

    /// A connection that rests and still lives.
    async fn rested(&self) -> Option<(C, Arc<()>)> {
        loop {
            let Resting { mut connection, since, open } = {
                let mut idle = self.idle.lock();
                idle.retain(|resting| resting.since.elapsed() < STALE);
                idle.pop()?
            };
            if since.elapsed() < FRESH || connection.is_alive().await {
                return Some((connection, open));
            }
        }
    }

    /// Takes down that the server takes fewer connections than the book allows; not if none of them is open: then
    /// others use it up.
    fn can_narrow(&self) -> bool {
        let mut narrowed = self.narrowed.lock();
        // The pool's own, and that of the one that was refused.
        if Arc::strong_count(&self.open) <= 2 || narrowed.by + 1 >= self.most {
            return false;
        }
        narrowed.by += 1;
        narrowed.since = Some(Instant::now());
        let connections = self.most - narrowed.by;
        tracing::info!(place = %self.name, connections, "the server takes no more connections than these");
        true
    }

    /// Allows one more again, some time after the server took none.
    fn widen(&self) {
        let mut narrowed = self.narrowed.lock();
        if narrowed.by > 0 && narrowed.since.is_none_or(|since| since.elapsed() > NARROWED) {
            narrowed.by -= 1;
            narrowed.since = Some(Instant::now());
            self.slots.add_permits(1);
        }
    }
}

#[cfg(test)]
mod tests {
    use std::sync::atomic::{AtomicUsize, Ordering::Relaxed};

    use wetbank_core::{Name, RelPath};

    use super::*;
    use crate::PlaceError;

    /// A connection that counts how many are open, and may be dead.
    struct Counted(Arc<AtomicUsize>, bool);

    impl Connection for Counted {
        async fn is_alive(&mut self) -> bool {
            self.1
        }
    }

    impl Drop for Counted {
        fn drop(&mut self) {
            self.0.fetch_sub(1, Relaxed);
        }
    }

    fn pool(most: usize) -> Arc<Pool<Counted>> {
        Arc::new(Pool::new(Name::new("server").unwrap(), most))
    }

    fn busy() -> PlaceError {
        PlaceError {
            kind: PlaceErrorKind::Busy,
            place: Name::new("server").unwrap(),
            call: "reach",
            path: RelPath::root(),
            detail: "too many connections".to_owned(),
            secret: None,
        }
    }

    #[tokio::test]
    async fn a_connection_that_was_given_back_is_used_again_and_one_that_was_not_is_closed() {
        let (open, pool) = (Arc::new(AtomicUsize::new(0)), pool(4));
        let connect = || async {
            open.fetch_add(1, Relaxed);
            Ok(Counted(open.clone(), true))
        };
        pool.lease(connect).await.unwrap().give_back();
        pool.lease(connect).await.unwrap().give_back();
        assert_eq!(open.load(Relaxed), 1);
        drop(pool.lease(connect).await.unwrap());
        assert_eq!(open.load(Relaxed), 0, "what may be in disorder is not used again");
    }

    #[tokio::test]
    async fn of_a_server_that_takes_fewer_connections_one_of_ours_is_waited_for() {
        let (open, pool) = (Arc::new(AtomicUsize::new(0)), pool(4));
        let connect = || async {
            if open.load(Relaxed) >= 2 {
                return Err(busy());
            }
            open.fetch_add(1, Relaxed);
            Ok(Counted(open.clone(), true))
        };
        let (first, _second) = (pool.lease(connect).await.unwrap(), pool.lease(connect).await.unwrap());
        let waiting = tokio::time::timeout(Duration::from_millis(50), pool.lease(connect)).await;
        assert!(waiting.is_err(), "it waits");
        first.give_back();
        let third = tokio::time::timeout(Duration::from_secs(5), pool.lease(connect)).await;
        assert!(third.is_ok_and(|lease| lease.is_ok()), "it got the one that was given back");
    }

    #[tokio::test]
    async fn a_server_that_takes_none_at_all_is_told_as_busy() {
        let pool = pool(4);
        let error = pool.lease(|| async { Err(busy()) }).await.err().expect("none is open");
        assert_eq!(error.kind, PlaceErrorKind::Busy);
    }
}
