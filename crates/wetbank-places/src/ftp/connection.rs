//! Connections to an FTP server: reaching, securing, signing in, sharing a few of them.

use std::{
    io,
    sync::{Arc, Mutex, PoisonError},
    time::{Duration, Instant},
};

use secrecy::{ExposeSecret, SecretString};
use suppaftp::{
    Encoding, FtpError, FtpResult, Mode, Status,
    tokio::{AsyncRustlsConnector, AsyncRustlsFtpStream},
    types::FileType,
};
use tokio::{
    net::TcpStream,
    sync::{OwnedSemaphorePermit, Semaphore},
    time::timeout,
};
use wetbank_core::{FtpSecurity, FtpSpec, PlaceName, RelPath};

use super::listing::{to_bytes, to_text};
use crate::{PlaceError, PlaceErrorKind, tls::Tls};

/// Reaching, securing and signing in may each take so long.
const CONNECT: Duration = Duration::from_secs(15);
/// A connection that rested longer is asked for a sign of life before it is used again.
const FRESH: Duration = Duration::from_secs(5);
/// A connection that rested longer is not used again: servers close them after a few minutes.
const STALE: Duration = Duration::from_secs(60);

/// Every byte one character, so that no name is changed on its way.
#[derive(Debug)]
struct Bytes;

impl Encoding for Bytes {
    fn decode(&self, bytes: &[u8]) -> String {
        to_text(bytes)
    }

    fn encode(&self, text: &str) -> io::Result<Vec<u8>> {
        Ok(to_bytes(text))
    }
}

/// The certificate that a server shows; nothing without TLS.
pub(super) async fn shown_certificate(place: &PlaceName, spec: &FtpSpec) -> Result<Option<String>, PlaceError> {
    if spec.security == FtpSecurity::None {
        return Ok(None);
    }
    let mut pool = Pool::new(place.clone(), spec.clone(), SecretString::from(""));
    pool.tls = Tls::only_looking();
    match pool.secure().await {
        Err(error) if error.kind != PlaceErrorKind::Certificate => Err(error),
        _ => Ok(pool.tls.shown()),
    }
}

/// A connection that is signed in.
pub(super) struct Connection {
    pub stream: AsyncRustlsFtpStream,
    /// Whether the server lists in the machine's form.
    pub has_facts: bool,
    /// How long the server may be silent.
    pub silence: Duration,
    rested: Instant,
}

#[derive(Debug)]
pub(super) struct Pool {
    name: PlaceName,
    spec: FtpSpec,
    password: SecretString,
    tls: Tls,
    idle: Mutex<Vec<Connection>>,
    slots: Arc<Semaphore>,
}

impl std::fmt::Debug for Connection {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Connection")
    }
}

/// The use of a connection. It goes back to the pool only when it is said to be in order.
pub(super) struct Lease {
    connection: Option<Connection>,
    pool: Arc<Pool>,
    _slot: OwnedSemaphorePermit,
}

impl Lease {
    pub fn get(&mut self) -> &mut Connection {
        self.connection.as_mut().expect("taken only when it is given back")
    }

    /// Gives the connection back: nothing is under way on it.
    pub fn give_back(mut self) {
        if let Some(mut connection) = self.connection.take() {
            connection.rested = Instant::now();
            self.pool.idle.lock().unwrap_or_else(PoisonError::into_inner).push(connection);
        }
    }
}

/// Waits for an answer, not for ever.
///
/// The library does not flush a command. A runtime that makes a busy task wait in that moment would
/// leave it in the buffer of the encryption, and everybody would wait for the other: so it may not.
pub(super) async fn answered<T>(silence: Duration, call: impl Future<Output = FtpResult<T>>) -> FtpResult<T> {
    match timeout(silence, tokio::task::unconstrained(call)).await {
        Ok(result) => result,
        Err(_) => Err(FtpError::ConnectionError(io::Error::new(
            io::ErrorKind::TimedOut,
            format!("the server did not answer for {} s", silence.as_secs()),
        ))),
    }
}

impl Pool {
    pub fn new(name: PlaceName, spec: FtpSpec, password: SecretString) -> Self {
        let tls = Tls::new(spec.certificate.as_deref());
        let slots = Arc::new(Semaphore::new(spec.connections));
        Self { name, spec, password, tls, idle: Mutex::default(), slots }
    }

    /// A connection of one's own.
    pub async fn lease(self: &Arc<Self>) -> Result<Lease, PlaceError> {
        let slot = self.slots.clone().acquire_owned().await.expect("the semaphore is never closed");
        let lease = |connection| Lease { connection: Some(connection), pool: self.clone(), _slot: slot };
        loop {
            let resting = {
                let mut idle = self.idle.lock().unwrap_or_else(PoisonError::into_inner);
                idle.retain(|connection| connection.rested.elapsed() < STALE);
                idle.pop()
            };
            let Some(mut connection) = resting else { break };
            if connection.rested.elapsed() < FRESH
                || answered(connection.silence, connection.stream.noop()).await.is_ok()
            {
                return Ok(lease(connection));
            }
        }
        Ok(lease(self.open().await?))
    }

    fn fail(&self, kind: PlaceErrorKind, call: &'static str, detail: String) -> PlaceError {
        PlaceError { kind, place: self.name.clone(), call, path: RelPath::root(), detail }
    }

    fn address(&self) -> String {
        format!("{}:{}", self.spec.host, self.spec.port)
    }

    fn late(&self) -> PlaceError {
        let detail = format!("{} did not answer within {} s", self.address(), CONNECT.as_secs());
        self.fail(PlaceErrorKind::Unreachable, "reach", detail)
    }

    /// Reaches and secures the server, and goes no further.
    pub async fn secure(&self) -> Result<(), PlaceError> {
        timeout(CONNECT, self.reach()).await.map_err(|_| self.late())?.map(drop)
    }

    /// When the server's certificate ends, once it was seen.
    pub fn certificate_ends(&self) -> Option<jiff::Timestamp> {
        self.tls.end()
    }

    /// Where the server is.
    pub fn spec(&self) -> &FtpSpec {
        &self.spec
    }

    async fn open(&self) -> Result<Connection, PlaceError> {
        let late = |_| self.late();
        let mut stream = timeout(CONNECT, self.reach()).await.map_err(late)??;
        stream.set_encoding(Bytes).await;
        let password = self.password.expose_secret();
        timeout(CONNECT, stream.login(self.spec.user.as_str(), password)).await.map_err(late)?.map_err(|error| {
            match error {
                FtpError::UnexpectedResponse(_) => {
                    let detail = format!("user \"{}\", secret \"{}\"", self.spec.user, self.spec.password);
                    self.fail(PlaceErrorKind::Refused, "sign in to", detail)
                }
                error => self.fail(PlaceErrorKind::Interrupted, "sign in to", error.to_string()),
            }
        })?;
        let prepared = async {
            let features = answered(self.spec.silence, stream.feat()).await.unwrap_or_default();
            let has = |feature: &str| features.keys().any(|key| key.trim().eq_ignore_ascii_case(feature));
            // The default is ASCII, which rewrites line ends.
            answered(self.spec.silence, stream.transfer_type(FileType::Binary)).await?;
            if has("UTF8") {
                let _ = answered(self.spec.silence, stream.opts("UTF8", Some("ON"))).await;
            }
            stream.set_mode(if has("EPSV") { Mode::ExtendedPassive } else { Mode::Passive });
            // An address told by a server behind a translator leads nowhere; the one we reached does.
            stream.set_passive_nat_workaround(true);
            Ok::<_, FtpError>(has("MLST") || has("MLSD"))
        };
        let has_facts =
            prepared.await.map_err(|e| self.fail(PlaceErrorKind::Interrupted, "sign in to", e.to_string()))?;
        Ok(Connection { stream, has_facts, silence: self.spec.silence, rested: Instant::now() })
    }

    /// Connects, securely as the book asks.
    async fn reach(&self) -> Result<AsyncRustlsFtpStream, PlaceError> {
        match self.reach_with(false).await {
            Err(error) if error.call == "secure" && error.detail.contains("ersion") => self.reach_with(true).await,
            result => result,
        }
    }

    async fn reach_with(&self, newest_tls: bool) -> Result<AsyncRustlsFtpStream, PlaceError> {
        let (host, address) = (self.spec.host.as_str(), self.address());
        let tls = self.tls.for_ftp(newest_tls);
        let connector = || AsyncRustlsConnector::from(tokio_rustls::TlsConnector::from(tls.clone()));
        let failed = |error: FtpError| {
            if let Some(refused) = self.tls.refused(&self.name) {
                return refused;
            }
            match error {
                FtpError::SecureError(why) => {
                    self.fail(PlaceErrorKind::Unreachable, "secure", format!("{address} does not speak TLS: {why}"))
                }
                FtpError::UnexpectedResponse(answer) if self.spec.security == FtpSecurity::Tls => {
                    let detail = format!(
                        "{address} refuses to be secured ({}); security = \"none\" would send password and files in clear",
                        to_text(&answer.body).trim()
                    );
                    self.fail(PlaceErrorKind::Unsupported, "secure", detail)
                }
                error => self.fail(PlaceErrorKind::Unreachable, "reach", format!("{address}: {error}")),
            }
        };
        if self.spec.security == FtpSecurity::TlsFromStart {
            #[allow(deprecated, reason = "old, as the servers that need it are")]
            let stream = AsyncRustlsFtpStream::connect_secure_implicit(&address, connector(), host).await;
            return stream.map_err(failed);
        }
        let tcp = TcpStream::connect((host, self.spec.port)).await.map_err(|error| {
            let detail = match error.kind() {
                io::ErrorKind::ConnectionRefused => format!("nothing listens on {address}"),
                _ => format!("{address}: {error}"),
            };
            self.fail(PlaceErrorKind::Unreachable, "reach", detail)
        })?;
        let _ = tcp.set_nodelay(true);
        let stream = AsyncRustlsFtpStream::connect_with_stream(tcp).await.map_err(failed)?;
        match self.spec.security {
            FtpSecurity::None => Ok(stream),
            _ => stream.into_secure(connector(), host).await.map_err(failed),
        }
    }

    /// What a failed command means (RFC 959, section 4.2). Most servers say 550 for everything,
    /// so their words are looked at, too.
    pub fn error(&self, call: &'static str, path: &RelPath, error: &FtpError) -> PlaceError {
        let (kind, detail) = match error {
            FtpError::UnexpectedResponse(answer) => {
                let mut words: String = to_text(&answer.body).chars().filter(|c| !c.is_control()).take(300).collect();
                let lower = words.to_ascii_lowercase();
                let says = |list: &[&str]| list.iter().any(|word| lower.contains(word));
                let kind = match answer.status {
                    Status::NotAvailable => PlaceErrorKind::Busy,
                    Status::NotLoggedIn => PlaceErrorKind::Refused,
                    Status::ExceededStorage | Status::RequestedActionNotTaken => PlaceErrorKind::NoSpace,
                    Status::TransferAborted | Status::CannotOpenDataConnection => PlaceErrorKind::Interrupted,
                    _ if says(&["no space", "quota", "disk full"]) => PlaceErrorKind::NoSpace,
                    _ if says(&["name too long"]) || path.name().len() > 255 => PlaceErrorKind::BadName,
                    _ if says(&["no such", "not found", "does not exist", "cannot find"]) => PlaceErrorKind::NotFound,
                    _ if says(&["exists"]) => PlaceErrorKind::Exists,
                    _ if says(&["denied", "not permitted", "not allowed", "read-only"]) => PlaceErrorKind::Denied,
                    _ if says(&["not a regular file", "is a directory", "not a plain file"]) => {
                        PlaceErrorKind::Unsupported
                    }
                    Status::BadFilename => PlaceErrorKind::BadName,
                    Status::NotImplemented | Status::BadCommand => PlaceErrorKind::Unsupported,
                    _ => PlaceErrorKind::Other,
                };
                // Section 4.2.1: "local error in processing", which is all that some say of it.
                if kind == PlaceErrorKind::Other && answer.status == Status::ActionAborted && call == "write" {
                    words += "; the server's disk may be full";
                }
                (kind, words)
            }
            FtpError::ConnectionError(error) => (PlaceErrorKind::Interrupted, error.to_string()),
            error => (PlaceErrorKind::Interrupted, error.to_string()),
        };
        PlaceError { kind, place: self.name.clone(), call, path: path.clone(), detail }
    }
}
