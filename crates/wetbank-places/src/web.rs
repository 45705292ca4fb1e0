//! What all places on web servers share: one client, its certificate, its limits, its failures.

use std::{io, sync::Arc, time::Duration};

use jiff::Timestamp;
use reqwest::{Client, RequestBuilder, Response, StatusCode, header};
use tokio::sync::{OwnedSemaphorePermit, Semaphore};
use wetbank_core::{HostAddress, PlaceName, RelPath};

use crate::{PlaceError, PlaceErrorKind, place::Result, tls::Tls};

/// Reaching a server may take so long.
const CONNECT: Duration = Duration::from_secs(15);

/// A server that asks to wait longer is tried again later, like one that is busy.
const LONGEST_WAIT: Duration = Duration::from_secs(20);
/// How often a server is waited for before its "too many" counts.
const TRIES: usize = 3;

/// A web server as one place reaches it.
pub(crate) struct WebServer {
    pub name: PlaceName,
    /// For requests that are answered soon.
    pub client: Client,
    /// For those that are not: whoever sends one watches over it.
    pub patient: Client,
    /// How long the server may be silent while we wait for it.
    pub silence: Duration,
    url: String,
    tls: Tls,
    slots: Arc<Semaphore>,
}

impl WebServer {
    /// The server behind an address. It is reached only when it is used.
    pub fn new(name: PlaceName, url: &str, certificate: Option<&str>, connections: usize, silence: Duration) -> Self {
        let tls = Tls::new(certificate);
        let builder = || {
            Client::builder()
                .tls_backend_preconfigured((*tls.config).clone())
                .connect_timeout(CONNECT)
                .pool_max_idle_per_host(connections)
                // A redirect could lead a password or a file to another server.
                .redirect(reqwest::redirect::Policy::none())
                .http1_only()
        };
        let fits = "the options fit together";
        let (client, patient) = (builder().read_timeout(silence).build().expect(fits), builder().build().expect(fits));
        Self { name, client, patient, silence, url: url.to_owned(), tls, slots: Arc::new(Semaphore::new(connections)) }
    }

    /// Scheme, host and port, as they stand in the address.
    pub fn origin(&self) -> &str {
        let scheme = self.url.find("://").map_or(0, |at| at + 3);
        self.url[scheme..].find('/').map_or(self.url.as_str(), |at| &self.url[..scheme + at])
    }

    /// Host and port of the server.
    pub fn endpoint(&self) -> Option<(String, u16)> {
        endpoint(&self.url)
    }

    /// When the server's certificate ends, once it was seen.
    pub fn certificate_ends(&self) -> Option<Timestamp> {
        self.tls.end()
    }

    /// Waits until one more request may be made.
    pub async fn slot(&self) -> OwnedSemaphorePermit {
        self.slots.clone().acquire_owned().await.expect("the semaphore is never closed")
    }

    /// Secures a connection of its own; says how.
    pub async fn secure(&self) -> Result<String> {
        if !self.url.starts_with("https://") {
            return Ok("not secured: password and files can be read on the way".to_owned());
        }
        handshake(&self.name, &self.url, &self.tls).await?;
        Ok("TLS, the certificate is trusted".to_owned())
    }

    pub fn error(
        &self,
        kind: PlaceErrorKind,
        call: &'static str,
        path: &RelPath,
        detail: impl Into<String>,
    ) -> PlaceError {
        PlaceError { kind, place: self.name.clone(), call, path: path.clone(), detail: detail.into(), secret: None }
    }

    /// A request that did not come to an answer.
    pub fn broken(&self, call: &'static str, path: &RelPath, error: &reqwest::Error) -> PlaceError {
        if let Some(refused) = self.tls.refused(&self.name).filter(|_| error.is_connect()) {
            return refused;
        }
        let kind = if error.is_connect() { PlaceErrorKind::Unreachable } else { PlaceErrorKind::Interrupted };
        // The outer messages repeat the address; the cause is at the end of the chain.
        let mut cause: &dyn std::error::Error = error;
        while let Some(deeper) = cause.source() {
            cause = deeper;
        }
        let refused = cause.downcast_ref::<io::Error>().is_some_and(|e| e.kind() == io::ErrorKind::ConnectionRefused);
        let detail = if error.is_timeout() {
            "it did not answer in time".to_owned()
        } else if refused {
            format!("nothing listens at {}", self.origin())
        } else {
            Tls::told(cause)
        };
        self.error(kind, call, path, detail)
    }

    /// Sends a request. A server that says how long to wait is waited for, if that is not long, and
    /// asked again.
    pub async fn send(&self, call: &'static str, path: &RelPath, request: RequestBuilder) -> Result<Response> {
        let mut request = request;
        for _ in 0..TRIES {
            // A body that comes as a stream cannot be sent again.
            let again = request.try_clone();
            let response = request.send().await.map_err(|e| self.broken(call, path, &e))?;
            match (again, told_to_wait(&response)) {
                (Some(again), Some(wait)) if wait <= LONGEST_WAIT => {
                    tokio::time::sleep(wait).await;
                    request = again;
                }
                _ => return Ok(response),
            }
        }
        request.send().await.map_err(|e| self.broken(call, path, &e))
    }

    /// The whole of an answer that is not to be longer than `most` bytes.
    pub async fn text(&self, call: &'static str, path: &RelPath, mut answer: Response, most: usize) -> Result<String> {
        let mut text = Vec::new();
        while let Some(chunk) = answer.chunk().await.map_err(|e| self.broken(call, path, &e))? {
            if text.len() + chunk.len() > most {
                return Err(self.error(PlaceErrorKind::Other, call, path, "its answer is longer than any honest one"));
            }
            text.extend_from_slice(&chunk);
        }
        Ok(String::from_utf8_lossy(&text).into_owned())
    }
}

/// How long to wait, if an answer says so in seconds (RFC 9110, section 10.2.3; RFC 6585).
fn told_to_wait(response: &Response) -> Option<Duration> {
    let is_busy = matches!(response.status(), StatusCode::TOO_MANY_REQUESTS | StatusCode::SERVICE_UNAVAILABLE);
    let wait = response.headers().get(header::RETRY_AFTER).filter(|_| is_busy)?;
    wait.to_str().ok()?.trim().parse().ok().map(Duration::from_secs)
}

/// Host and port of an address.
fn endpoint(url: &str) -> Option<(String, u16)> {
    let (scheme, rest) = url.split_once("://")?;
    let address = HostAddress::parse(rest.split('/').next()?).ok()?;
    Some((address.host, address.port.unwrap_or(if scheme == "http" { 80 } else { 443 })))
}

async fn handshake(place: &PlaceName, url: &str, tls: &Tls) -> Result<()> {
    let fail = |detail: String| PlaceError {
        kind: PlaceErrorKind::Unreachable,
        place: place.clone(),
        call: "reach",
        path: RelPath::root(),
        detail,
        secret: None,
    };
    let (host, port) = endpoint(url).ok_or_else(|| fail(format!("{url} is no address")))?;
    let connect = async {
        let stream = tokio::net::TcpStream::connect((host.as_str(), port)).await?;
        tls.connect(&host, stream).await.map(drop)
    };
    match tokio::time::timeout(CONNECT, connect).await {
        Ok(Ok(())) => Ok(()),
        Ok(Err(error)) => Err(tls.refused(place).unwrap_or_else(|| fail(Tls::told(&error)))),
        Err(_) => Err(fail(format!("{host}:{port} did not answer within {} s", CONNECT.as_secs()))),
    }
}

/// The certificate that a server shows; nothing without TLS.
pub(crate) async fn shown_certificate(place: &PlaceName, url: &str) -> Result<Option<String>> {
    if !url.starts_with("https://") {
        return Ok(None);
    }
    let tls = Tls::only_looking();
    match handshake(place, url, &tls).await {
        Err(error) if error.kind != PlaceErrorKind::Certificate => Err(error),
        _ => Ok(tls.shown()),
    }
}
