//! Proving that a place can be reached and written with the rights the service has.

use std::{
    net::SocketAddr,
    time::{Duration, Instant},
};

use bytes::Bytes;
use futures_util::StreamExt;
use tokio::net::TcpStream;
use wetbank_core::{RelPath, TEMPORARY_PREFIX};

use crate::{Collision, Depth, Place, PlaceError, PlaceErrorKind};

/// Finding and connecting to a host may each take so long.
const CONNECT: Duration = Duration::from_secs(15);

/// One step of a test, timed.
#[derive(Debug, Clone)]
pub struct ProbeStep {
    /// What was done.
    pub what: &'static str,
    /// How long it took.
    pub took: Duration,
    /// What was found, or why it failed.
    pub outcome: Result<String, PlaceError>,
}

/// Tests whether a place's server is there and secured, without signing in.
pub async fn probe_server(place: &dyn Place) -> Vec<ProbeStep> {
    let mut steps = Steps::default();
    server(place, &mut steps).await;
    steps.0
}

/// Tests a place step by step and stops at the first failure. With `write` a probe file is
/// written, renamed, read back and deleted in the root, and a probe folder made, listed and removed.
pub async fn probe(place: &dyn Place, write: bool) -> Vec<ProbeStep> {
    let mut steps = Steps::default();
    if server(place, &mut steps).await {
        sign_in_and_use(place, write, &mut steps).await;
    }
    steps.0
}

#[derive(Default)]
struct Steps(Vec<ProbeStep>);

impl Steps {
    /// Takes down a step; answers whether it went well.
    fn add(&mut self, what: &'static str, began: Instant, outcome: Result<String, PlaceError>) -> bool {
        let fine = outcome.is_ok();
        self.0.push(ProbeStep { what, took: began.elapsed(), outcome });
        fine
    }
}

async fn server(place: &dyn Place, steps: &mut Steps) -> bool {
    let Some((host, port)) = place.endpoint() else { return true };
    let began = Instant::now();
    let resolved = resolve(place, &host, port).await;
    let addresses = resolved.as_ref().cloned().unwrap_or_default();
    if !steps.add("find the host", began, resolved.map(|found| words(&found))) {
        return false;
    }
    let began = Instant::now();
    if !steps.add("connect", began, connect(place, &addresses).await) {
        return false;
    }
    let began = Instant::now();
    steps.add("secure", began, place.secure().await)
}

async fn sign_in_and_use(place: &dyn Place, write: bool, steps: &mut Steps) {
    let mut step = |what, began, outcome| steps.add(what, began, outcome);
    let began = Instant::now();
    let opens = if place.endpoint().is_some() { "sign in" } else { "open" };
    match place.reach().await {
        // The sign-in was well, the root is not.
        Err(error)
            if matches!(error.kind, PlaceErrorKind::NotFound | PlaceErrorKind::Denied)
                && error.path.is_root()
                && error.call == "reach"
                && place.endpoint().is_some() =>
        {
            step(opens, began, Ok("signed in".to_owned()));
            step("list", began, Err(PlaceError { call: "list", ..error }));
            return;
        }
        reached => {
            if !step(opens, began, reached) {
                return;
            }
        }
    }
    let began = Instant::now();
    let first = place.list(&RelPath::root(), Depth::One).next().await.transpose();
    let listed = first.map(|entry| match entry {
        Some(_) => "the root can be listed".to_owned(),
        None => "the root can be listed, it is empty".to_owned(),
    });
    // Nothing is ever written into a mailbox; whether it sends was seen when it was reached.
    if !step("list", began, listed) || !write || place.as_mailbox().is_some() {
        return;
    }
    let name = |end: &str| {
        let name = format!("{TEMPORARY_PREFIX}probe-{:08x}{end}", std::process::id());
        RelPath::root().join_name(name.as_bytes()).expect("a plain name")
    };
    let is_staged = place.capabilities().stages;
    let second = name(".done");
    let first = if is_staged { name(".part") } else { second.clone() };
    let began = Instant::now();
    let written = async {
        let mut staged = place.stage(&first, &second, None).await?;
        staged.write(Bytes::from_static(b"wetbank probe")).await?;
        staged.finish().await
    };
    let how =
        if is_staged { "" } else { " under its own name (staged = false): who looks there meanwhile sees half a file" };
    let written = written.await.map(|entry| format!("{} bytes written{how}", entry.fingerprint.size));
    if !step("write a probe file", began, written) {
        return;
    }
    let last = if is_staged {
        let began = Instant::now();
        let renamed = place.rename(&first, &second, Collision::Replace).await.map(|_| "renamed".to_owned());
        if step("rename it", began, renamed) { &second } else { &first }
    } else {
        &second
    };
    let began = Instant::now();
    step("read it back", began, read_back(place, last).await);
    let began = Instant::now();
    step("delete it", began, place.delete(last).await.map(|()| "deleted".to_owned()));
    let folder = name(".d");
    let began = Instant::now();
    if !step("make a probe folder", began, place.make_folder(&folder).await.map(|()| "made".to_owned())) {
        return;
    }
    let began = Instant::now();
    let listed = place.list(&folder, Depth::One).next().await.transpose();
    step("list the folder", began, listed.map(|_| "it can be listed".to_owned()));
    let began = Instant::now();
    step("remove the folder", began, place.remove_folder(&folder).await.map(|()| "removed".to_owned()));
}

fn unreachable(place: &dyn Place, call: &'static str, detail: String) -> PlaceError {
    let (kind, path) = (PlaceErrorKind::Unreachable, RelPath::root());
    PlaceError { kind, place: place.name().clone(), call, path, detail, secret: None }
}

fn words(addresses: &[SocketAddr]) -> String {
    addresses.iter().map(|address| address.ip().to_string()).collect::<Vec<_>>().join(", ")
}

async fn resolve(place: &dyn Place, host: &str, port: u16) -> Result<Vec<SocketAddr>, PlaceError> {
    let found = tokio::time::timeout(CONNECT, tokio::net::lookup_host((host, port))).await;
    let found: Vec<SocketAddr> = match found {
        Ok(Ok(found)) => found.collect(),
        Ok(Err(error)) => {
            let detail = format!("no address is known for the host {host} ({error}); check its spelling");
            return Err(unreachable(place, "find the host of", detail));
        }
        Err(_) => {
            let detail = format!("asking for the address of {host} took over {} s", CONNECT.as_secs());
            return Err(unreachable(place, "find the host of", detail));
        }
    };
    Ok(found)
}

async fn connect(place: &dyn Place, addresses: &[SocketAddr]) -> Result<String, PlaceError> {
    match tokio::time::timeout(CONNECT, TcpStream::connect(addresses)).await {
        Ok(Ok(stream)) => {
            Ok(stream.peer_addr().map_or_else(|_| "connected".to_owned(), |a| format!("connected to {a}")))
        }
        Ok(Err(error)) => {
            let port = addresses.first().map_or(0, SocketAddr::port);
            let detail = match error.kind() {
                std::io::ErrorKind::ConnectionRefused => {
                    format!("nothing listens on port {port} of {}", words(addresses))
                }
                _ => format!("{}: {error}", words(addresses)),
            };
            Err(unreachable(place, "connect to", detail))
        }
        Err(_) => {
            let detail = format!(
                "{} did not answer within {} s; a firewall may be in between",
                words(addresses),
                CONNECT.as_secs()
            );
            Err(unreachable(place, "connect to", detail))
        }
    }
}

async fn read_back(place: &dyn Place, path: &RelPath) -> Result<String, PlaceError> {
    let mut stream = place.read(path, 0).await?;
    let mut content = Vec::new();
    while let Some(chunk) = stream.next().await {
        content.extend_from_slice(&chunk?);
    }
    if content == b"wetbank probe" {
        return Ok("the same content".to_owned());
    }
    Err(PlaceError {
        kind: PlaceErrorKind::Other,
        place: place.name().clone(),
        call: "read back",
        path: path.clone(),
        detail: "the content differs from what was written".to_owned(),
        secret: None,
    })
}
