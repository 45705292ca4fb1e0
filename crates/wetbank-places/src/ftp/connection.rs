//! Connections to an FTP server: reaching, securing, signing in, sharing a few of them.

use std::{
    io,
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering::Relaxed},
    },
    time::Duration,
};

use secrecy::{ExposeSecret, SecretString};
use suppaftp::{
    Encoding, FtpError, FtpResult, Mode, Status,
    tokio::{AsyncRustlsConnector, AsyncRustlsFtpStream},
    types::FileType,
};
use tokio::{net::TcpStream, time::timeout};
use wetbank_core::{FtpSecurity, FtpSpec, PlaceName, RelPath};

use super::{
    Transfer, answers,
    listing::{to_bytes, to_text},
};
use crate::{PlaceError, PlaceErrorKind, exclusive, tls::Tls};

/// Reaching, securing and signing in may each take so long.
const CONNECT: Duration = Duration::from_secs(15);

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

/// What opens a data connection.
pub(super) enum Command {
    Read {
        path: String,
        from: u64,
    },
    Write {
        path: String,
        from: u64,
    },
    /// A listing, in the words of the protocol.
    List(String),
}

/// A connection that is signed in.
pub(super) struct Connection {
    pub stream: AsyncRustlsFtpStream,
    /// Whether the server lists in the machine's form.
    pub has_facts: bool,
    /// Whether it can be told when a file was changed.
    pub sets_times: bool,
    /// How long the server may be silent.
    pub silence: Duration,
    /// Where it stood when it was signed in, once it was asked.
    home: Option<String>,
    is_extended: bool,
    ways: Arc<Ways>,
}

impl Connection {
    /// Runs a command that opens a data connection. A server that takes no EPSV is asked by PASV from then on: whether
    /// EPSV or the command itself was refused, only the second try tells.
    pub async fn transfer(&mut self, command: &Command) -> FtpResult<Transfer> {
        let first = answered(self.silence, self.begin(command)).await;
        if !self.ways.is_untried(self.is_extended) {
            return first;
        }
        let refused = match first {
            Ok(transfer) => {
                self.ways.extended.store(true, Relaxed);
                return Ok(transfer);
            }
            Err(error) if answers::may_be_the_way(&error) => error,
            Err(error) => return Err(error),
        };
        self.stream.set_mode(Mode::Passive);
        match answered(self.silence, self.begin(command)).await {
            Ok(transfer) => {
                self.is_extended = false;
                self.ways.plain.store(true, Relaxed);
                Ok(transfer)
            }
            Err(FtpError::UnexpectedResponse(_)) => {
                self.stream.set_mode(Mode::ExtendedPassive);
                Err(refused)
            }
            Err(error) => Err(error),
        }
    }

    async fn begin(&mut self, command: &Command) -> FtpResult<Transfer> {
        let offset = |from: u64| usize::try_from(from).unwrap_or(usize::MAX);
        match command {
            Command::Read { path, from } => {
                self.stream.resume_transfer(offset(*from)).await?;
                self.stream.retr_as_stream(path).await
            }
            Command::Write { path, from } => {
                self.stream.resume_transfer(offset(*from)).await?;
                self.stream.put_with_stream(path).await
            }
            Command::List(words) => {
                let started = [Status::AboutToSend, Status::AlreadyOpen];
                Ok(self.stream.custom_data_command(words, &started).await?.1)
            }
        }
    }

    /// Goes into a folder; `back` leads out of it.
    pub async fn enter(&mut self, folder: &str) -> FtpResult<()> {
        if self.home.is_none() {
            self.home = Some(answered(self.silence, self.stream.pwd()).await?);
        }
        answered(self.silence, self.stream.cwd(folder)).await
    }

    /// Goes back to where it stood when it was signed in.
    pub async fn back(&mut self) -> FtpResult<()> {
        match &self.home {
            Some(home) => answered(self.silence, self.stream.cwd(home)).await,
            None => Ok(()),
        }
    }
}

#[derive(Debug)]
pub(super) struct Pool {
    name: PlaceName,
    spec: FtpSpec,
    password: SecretString,
    tls: Tls,
    connections: Arc<exclusive::Pool<Connection>>,
    ways: Arc<Ways>,
}

/// In which ways data connections were opened.
#[derive(Debug, Default)]
struct Ways {
    /// EPSV (RFC 2428, section 3) has worked.
    extended: AtomicBool,
    /// EPSV did not work where PASV did.
    plain: AtomicBool,
}

impl Ways {
    /// Whether a connection that uses EPSV cannot know yet that this works.
    fn is_untried(&self, is_extended: bool) -> bool {
        is_extended && !self.extended.load(Relaxed)
    }
}

impl std::fmt::Debug for Connection {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Connection")
    }
}

/// The use of a connection. It goes back to the pool only when it is said to be in order.
pub(super) type Lease = exclusive::Lease<Connection>;

impl exclusive::Connection for Connection {
    async fn is_alive(&mut self) -> bool {
        answered(self.silence, self.stream.noop()).await.is_ok()
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

/// What a server may refuse to do. An answer that is late or lost is another matter: it would be
/// taken for the answer to the next command.
pub(super) fn unless_refused<T: Default>(result: FtpResult<T>) -> FtpResult<T> {
    match result {
        Err(FtpError::UnexpectedResponse(_)) => Ok(T::default()),
        result => result,
    }
}

impl Pool {
    pub fn new(name: PlaceName, spec: FtpSpec, password: SecretString) -> Self {
        let tls = Tls::new(spec.certificate.as_deref());
        let connections = Arc::new(exclusive::Pool::new(name.clone(), spec.connections));
        Self { name, spec, password, tls, connections, ways: Arc::default() }
    }

    /// A connection of one's own. If the server takes no more of them, one of ours is waited for.
    pub async fn lease(&self) -> Result<Lease, PlaceError> {
        self.connections.lease(|| self.open()).await
    }

    fn fail(&self, kind: PlaceErrorKind, call: &'static str, detail: String) -> PlaceError {
        PlaceError { kind, place: self.name.clone(), call, path: RelPath::root(), detail, secret: None }
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
        let signed_in = timeout(CONNECT, stream.login(self.spec.user.as_str(), password)).await.map_err(late)?;
        signed_in.map_err(|error| self.refused("sign in to", error))?;
        let prepared = async {
            let features = unless_refused(answered(self.spec.silence, stream.feat()).await)?;
            let has = |feature: &str| features.keys().any(|key| key.trim().eq_ignore_ascii_case(feature));
            // The default is ASCII, which rewrites line ends.
            answered(self.spec.silence, stream.transfer_type(FileType::Binary)).await?;
            if has("UTF8") {
                unless_refused(answered(self.spec.silence, stream.opts("UTF8", Some("ON"))).await)?;
            }
            let is_extended = has("EPSV") && !self.ways.plain.load(Relaxed);
            stream.set_mode(if is_extended { Mode::ExtendedPassive } else { Mode::Passive });
            // An address told by a server behind a translator leads nowhere; the one we reached does.
            stream.set_passive_nat_workaround(true);
            Ok::<_, FtpError>((has("MLST") || has("MLSD"), has("MFMT"), is_extended))
        };
        let (has_facts, sets_times, is_extended) = prepared.await.map_err(|error| self.refused("sign in to", error))?;
        if self.spec.active {
            stream = stream.active_mode(CONNECT);
        }
        Ok(Connection {
            stream,
            has_facts,
            sets_times,
            silence: self.spec.silence,
            home: None,
            is_extended: is_extended && !self.spec.active,
            ways: self.ways.clone(),
        })
    }

    /// What it means that the server turns us away before anything is done, in its own words.
    fn turned_away(&self, call: &'static str, error: FtpError) -> PlaceError {
        let FtpError::UnexpectedResponse(answer) = error else {
            return self.fail(PlaceErrorKind::Interrupted, call, error.to_string());
        };
        let (kind, words) = (answers::at_sign_in(&answer), answers::words(&answer));
        self.fail(kind, call, words)
    }

    /// The same, once a name and a password were told.
    fn refused(&self, call: &'static str, error: FtpError) -> PlaceError {
        let error = self.turned_away(call, error);
        if error.kind != PlaceErrorKind::Refused {
            return error;
        }
        let detail = format!("user \"{}\", secret \"{}\": {}", self.spec.user, self.spec.password, error.detail);
        PlaceError { detail, ..error }.with_secret(Some(&self.spec.password))
    }

    /// Connects, securely as the book asks.
    async fn reach(&self) -> Result<AsyncRustlsFtpStream, PlaceError> {
        match self.reach_with(false).await {
            // It may only take the newest; then nothing else was wrong.
            Err(error) if error.call == "secure" && error.kind == PlaceErrorKind::Unreachable => {
                self.reach_with(true).await
            }
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
                FtpError::UnexpectedResponse(_) => match self.turned_away("reach", error) {
                    // Nobody has told a name yet.
                    error if error.kind == PlaceErrorKind::Refused => {
                        PlaceError { kind: PlaceErrorKind::Denied, ..error }
                    }
                    error => error,
                },
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
        if self.spec.security == FtpSecurity::None {
            return Ok(stream);
        }
        stream.into_secure(connector(), host).await.map_err(|error| match error {
            FtpError::UnexpectedResponse(answer) => {
                let detail = format!(
                    "{address} refuses to be secured ({}); security = \"none\" would send password and files in clear",
                    answers::words(&answer)
                );
                self.fail(PlaceErrorKind::Security, "secure", detail)
            }
            error => failed(error),
        })
    }

    /// What a failed command means.
    pub fn error(&self, call: &'static str, path: &RelPath, error: &FtpError) -> PlaceError {
        let (kind, detail) = match error {
            FtpError::UnexpectedResponse(answer) => answers::to_command(call, path, answer),
            error => (PlaceErrorKind::Interrupted, error.to_string()),
        };
        PlaceError { kind, place: self.name.clone(), call, path: path.clone(), detail, secret: None }
            .in_root(&self.spec.root)
    }
}
