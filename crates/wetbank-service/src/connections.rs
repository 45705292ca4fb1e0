//! Taking connections: how many, how long they may be silent, and which of them give way.

use std::{
    collections::HashMap,
    convert::Infallible,
    net::IpAddr,
    pin::pin,
    sync::{
        Arc,
        atomic::{AtomicU64, AtomicUsize, Ordering::Relaxed},
    },
    time::{Duration, Instant},
};

use axum::{Router, body::Body, extract::Request};
use hyper::{body::Incoming, server::conn::http1, service::service_fn};
use hyper_util::rt::{TokioIo, TokioTimer};
use parking_lot::{Mutex, MutexGuard};
use tokio::{
    io::{AsyncRead, AsyncWrite},
    net::{TcpListener, TcpStream},
};
use tokio_util::{sync::CancellationToken, task::TaskTracker};
use tower_service::Service;
use wetbank_tls::Served;

use crate::seldom::Seldom;

/// The head of a request may take so long, and so long a connection may rest between two.
const HEAD: Duration = Duration::from_secs(10);
/// Connections at once, and of one address.
const MOST: usize = 512;
const OF_ONE_ADDRESS: usize = 256;
/// After the system refused a connection, for want of file descriptors say, it is asked again.
const PAUSE: Duration = Duration::from_millis(200);

/// Who is connected: perhaps a proxy.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Connected(pub IpAddr);

/// What a connection in private begins with (RFC 8446, section 5.1: a record of a handshake).
const HANDSHAKE: u8 = 22;

/// What is answered: in clear, or in private to who speaks TLS and otherwise to who does not know it yet.
#[derive(Debug, Clone)]
pub(crate) struct Answers {
    /// The answers.
    pub router: Router,
    /// How to speak in private, and what is answered to those who do not.
    pub private: Option<(Served, Router)>,
}

/// Raises the number of files that may be open to what the system allows. Of what there is, connections take a
/// quarter at most: files, watches and the journal need theirs.
pub(crate) fn most_connections() -> usize {
    use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
    let limit = getrlimit(Resource::Nofile);
    let _ = setrlimit(Resource::Nofile, Rlimit { current: limit.maximum, maximum: limit.maximum });
    let open = getrlimit(Resource::Nofile).current.unwrap_or(u64::MAX);
    usize::try_from(open / 4).unwrap_or(usize::MAX).clamp(16, MOST)
}

/// A connection that is open.
#[derive(Debug)]
struct Connection {
    address: IpAddr,
    since: Instant,
    /// Requests that were answered on it.
    answered: AtomicUsize,
    /// Requests that are being answered.
    busy: AtomicUsize,
    give_way: CancellationToken,
}

/// All that are open.
#[derive(Debug)]
struct Connections {
    most: usize,
    open: Mutex<HashMap<u64, Arc<Connection>>>,
    next: AtomicU64,
}

impl Connections {
    fn lock(&self) -> MutexGuard<'_, HashMap<u64, Arc<Connection>>> {
        self.open.lock()
    }

    /// Lets one more in. If there are too many, one on which nothing is done gives way: first one that never asked
    /// anything, then the oldest. Nothing if all are busy.
    fn admit(&self, address: IpAddr) -> Option<(u64, Arc<Connection>)> {
        let mut open = self.lock();
        let of_address = open.values().filter(|one| one.address == address).count();
        let is_crowded = of_address >= OF_ONE_ADDRESS.min(self.most);
        if is_crowded || open.len() >= self.most {
            let idle = open.iter().filter(|(_, one)| one.busy.load(Relaxed) == 0);
            let candidates = idle.filter(|(_, one)| !is_crowded || one.address == address);
            let (id, _) = candidates.min_by_key(|(_, one)| (one.answered.load(Relaxed) > 0, one.since))?;
            let id = *id;
            open.remove(&id)?.give_way.cancel();
        }
        let id = self.next.fetch_add(1, Relaxed);
        let connection = Arc::new(Connection {
            address,
            since: Instant::now(),
            answered: AtomicUsize::new(0),
            busy: AtomicUsize::new(0),
            give_way: CancellationToken::new(),
        });
        open.insert(id, connection.clone());
        Some((id, connection))
    }
}

/// A request that is being answered; also one that is given up counts no longer then.
struct Busy(Arc<Connection>);

impl Busy {
    fn on(connection: &Arc<Connection>) -> Self {
        connection.busy.fetch_add(1, Relaxed);
        Self(connection.clone())
    }
}

impl Drop for Busy {
    fn drop(&mut self) {
        self.0.busy.fetch_sub(1, Relaxed);
        self.0.answered.fetch_add(1, Relaxed);
    }
}

/// Answers requests until told to stop, and then those that have begun.
pub(crate) async fn serve(listener: TcpListener, answers: Answers, stop: CancellationToken) {
    let connections =
        Arc::new(Connections { most: most_connections(), open: Mutex::default(), next: AtomicU64::new(0) });
    let (tracker, refused, failed) = (TaskTracker::new(), Seldom::default(), Seldom::default());
    loop {
        let accepted = tokio::select! {
            accepted = listener.accept() => accepted,
            () = stop.cancelled() => break,
        };
        let (stream, peer) = match accepted {
            Ok(accepted) => accepted,
            Err(error) => {
                if let Some(times) = failed.now() {
                    tracing::warn!(%error, times, "a connection could not be taken");
                }
                tokio::time::sleep(PAUSE).await;
                continue;
            }
        };
        match connections.admit(peer.ip()) {
            Some((id, connection)) => {
                let (connections, answers, stop) = (connections.clone(), answers.clone(), stop.clone());
                tracker.spawn(async move {
                    begin(stream, answers, &connection, stop).await;
                    connections.lock().remove(&id);
                });
            }
            None => {
                if let Some(times) = refused.now() {
                    tracing::warn!(address = %peer.ip(), times, "a connection was refused: too many are busy");
                }
            }
        }
    }
    tracker.close();
    tracker.wait().await;
}

/// Agrees on how to speak, and answers.
async fn begin(stream: TcpStream, answers: Answers, connection: &Arc<Connection>, stop: CancellationToken) {
    let _ = stream.set_nodelay(true);
    let Answers { router, private } = answers;
    let Some((served, unaware)) = private else { return answer(stream, router, connection, stop).await };
    let agreeing = async {
        let mut first = [0];
        if stream.peek(&mut first).await? == 1 && first[0] != HANDSHAKE {
            return Ok(Err(stream));
        }
        served.acceptor().accept(stream).await.map(Ok)
    };
    let agreed = tokio::select! {
        agreed = tokio::time::timeout(HEAD, agreeing) => agreed,
        () = connection.give_way.cancelled() => return,
        () = stop.cancelled() => return,
    };
    match agreed {
        Ok(Ok(Ok(private))) => answer(private, router, connection, stop).await,
        Ok(Ok(Err(clear))) => answer(clear, unaware, connection, stop).await,
        // Its peer knows why.
        Ok(Err(_)) | Err(_) => {}
    }
}

async fn answer<S>(stream: S, router: Router, connection: &Arc<Connection>, stop: CancellationToken)
where
    S: AsyncRead + AsyncWrite + Unpin,
{
    let service = service_fn(|request: Request<Incoming>| {
        let (mut router, busy, peer) = (router.clone(), Busy::on(connection), Connected(connection.address));
        async move {
            let mut request = request.map(Body::new);
            request.extensions_mut().insert(peer);
            let answer: Result<_, Infallible> = router.call(request).await;
            drop(busy);
            answer
        }
    });
    let mut builder = http1::Builder::new();
    builder.timer(TokioTimer::new()).header_read_timeout(HEAD);
    let mut serving = pin!(builder.serve_connection(TokioIo::new(stream), service));
    let mut is_stopping = false;
    loop {
        tokio::select! {
            // How it ended, its peer knows.
            _ = serving.as_mut() => return,
            () = connection.give_way.cancelled() => return,
            () = stop.cancelled(), if !is_stopping => {
                is_stopping = true;
                serving.as_mut().graceful_shutdown();
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use std::net::Ipv4Addr;

    use super::*;

    fn of(most: usize) -> Connections {
        Connections { most, open: Mutex::default(), next: AtomicU64::new(0) }
    }

    #[test]
    fn one_that_never_asked_anything_gives_way_before_one_that_did() {
        let (all, here) = (of(3), IpAddr::V4(Ipv4Addr::LOCALHOST));
        let (_, console) = all.admit(here).unwrap();
        drop(Busy::on(&console));
        let (_, silent) = all.admit(here).unwrap();
        let (_, asking) = all.admit(here).unwrap();
        let asks = Busy::on(&asking);
        let (_, next) = all.admit(here).unwrap();
        assert!(silent.give_way.is_cancelled() && !console.give_way.is_cancelled() && !asking.give_way.is_cancelled());
        let _also = Busy::on(&next);
        all.admit(here).unwrap();
        assert!(console.give_way.is_cancelled(), "it rests");
        drop(asks);
    }

    #[test]
    fn all_are_busy_and_nobody_gives_way() {
        let (all, here) = (of(2), IpAddr::V4(Ipv4Addr::LOCALHOST));
        let busy: Vec<_> = (0..2).map(|_| Busy::on(&all.admit(here).unwrap().1)).collect();
        assert!(all.admit(here).is_none());
        drop(busy);
        assert!(all.admit(here).is_some());
    }
}
