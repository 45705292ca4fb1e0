//! Connections to a mailbox's servers: reaching, securing, signing in, sharing a few of them.

use std::{
    collections::BTreeSet,
    io,
    pin::Pin,
    sync::Arc,
    task::{Context, Poll},
    time::Duration,
};

use async_imap::{
    Client, Session,
    error::{Error, Result as ImapResult},
    types::Fetch,
};
use futures_util::TryStreamExt;
use jiff::Timestamp;
use secrecy::{ExposeSecret, SecretString};
use tokio::{
    io::{AsyncRead, AsyncWrite, ReadBuf},
    net::TcpStream,
    time::timeout,
};
use wetbank_core::{MailSecurity, MailServer, MailboxSpec, PlaceName, RelPath};

use super::names::{decode, encode};
use crate::{PlaceError, PlaceErrorKind, bounded::Lines, exclusive, place::Result, tls::Tls};

/// Reaching, securing and signing in may each take so long.
const CONNECT: Duration = Duration::from_secs(15);

/// What letters pass through: TCP, or TLS over it.
trait Both: AsyncRead + AsyncWrite + Unpin + Send + Sync + std::fmt::Debug {}
impl<T: AsyncRead + AsyncWrite + Unpin + Send + Sync + std::fmt::Debug> Both for T {}

/// A connection, secured or not.
#[derive(Debug)]
pub(super) struct Line {
    inner: Box<dyn Both>,
    pub peer: std::net::SocketAddr,
    /// Our own address on it.
    pub local: Option<std::net::IpAddr>,
}

impl AsyncRead for Line {
    fn poll_read(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buffer: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.inner).poll_read(cx, buffer)
    }
}

impl AsyncWrite for Line {
    fn poll_write(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buffer: &[u8]) -> Poll<io::Result<usize>> {
        Pin::new(&mut self.inner).poll_write(cx, buffer)
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.inner).poll_flush(cx)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.inner).poll_shutdown(cx)
    }
}

/// A session that is signed in.
pub(super) struct Connection {
    session: Session<Lines<Line>>,
    /// The folder that is open and how its letters are counted.
    open: Option<(RelPath, u32)>,
    delimiter: String,
    moves: bool,
    expunges_one: bool,
    /// How long the server may be silent.
    silence: Duration,
}

impl std::fmt::Debug for Connection {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Connection")
    }
}

#[derive(Debug)]
pub(super) struct Pool {
    name: PlaceName,
    spec: MailboxSpec,
    password: Option<SecretString>,
    /// How the server is trusted where letters are read, and the one where they are handed in.
    read_tls: Tls,
    send_tls: Tls,
    connections: Arc<exclusive::Pool<Connection>>,
}

/// The use of a connection. It goes back to the pool only when it is said to be in order.
pub(super) type Lease = exclusive::Lease<Connection>;

impl exclusive::Connection for Connection {
    async fn is_alive(&mut self) -> bool {
        matches!(timeout(self.silence, self.session.noop()).await, Ok(Ok(())))
    }
}

impl Pool {
    pub fn new(name: PlaceName, spec: MailboxSpec, password: Option<SecretString>) -> Self {
        let tls = |server: &Option<MailServer>| Tls::new(server.as_ref().and_then(|one| one.certificate.as_deref()));
        let (read_tls, send_tls) = (tls(&spec.read), tls(&spec.send));
        let connections = Arc::new(exclusive::Pool::new(name.clone(), spec.connections));
        Self { name, spec, password, read_tls, send_tls, connections }
    }

    /// One that trusts nothing and so only looks.
    pub fn only_looking(name: PlaceName, spec: MailboxSpec) -> Self {
        Self { read_tls: Tls::only_looking(), send_tls: Tls::only_looking(), ..Self::new(name, spec, None) }
    }

    pub fn spec(&self) -> &MailboxSpec {
        &self.spec
    }

    /// How a server of it is trusted.
    fn tls(&self, server: &MailServer) -> &Tls {
        if self.spec.read.as_ref() == Some(server) { &self.read_tls } else { &self.send_tls }
    }

    /// The certificate that a server showed and that was not trusted.
    pub fn shown_certificate(&self, server: &MailServer) -> Option<String> {
        self.tls(server).shown()
    }

    pub fn certificate_ends(&self) -> Option<Timestamp> {
        [self.read_tls.end(), self.send_tls.end()].into_iter().flatten().min()
    }

    pub fn sign_in(&self) -> Option<(&str, &str)> {
        let (user, _) = self.spec.sign_in.as_ref()?;
        Some((user, self.password.as_ref()?.expose_secret()))
    }

    pub fn fail(&self, kind: PlaceErrorKind, call: &'static str, detail: String) -> PlaceError {
        PlaceError { kind, place: self.name.clone(), call, path: RelPath::root(), detail, secret: None }
    }

    /// The sign-in was refused.
    pub fn refused(&self) -> PlaceError {
        let (user, secret) = self.spec.sign_in.as_ref().map_or(("", ""), |(user, secret)| (user, secret.as_str()));
        let used = self.spec.sign_in.as_ref().map(|(_, secret)| secret);
        self.fail(PlaceErrorKind::Refused, "sign in to", format!("user \"{user}\", secret \"{secret}\""))
            .with_secret(used)
    }

    /// What a failed command means. Servers say so in a code (RFC 5530) or only in words.
    pub fn failed(&self, call: &'static str, path: &RelPath, error: &Error) -> PlaceError {
        let (kind, detail) = match error {
            Error::No(words) | Error::Bad(words) => {
                let upper = words.to_ascii_uppercase();
                let says = |list: &[&str]| list.iter().any(|word| upper.contains(word));
                let kind = if says(&[
                    "NONEXISTENT",
                    "TRYCREATE",
                    "DOESN'T EXIST",
                    "NOT EXIST",
                    "NOT FOUND",
                    "UNKNOWN MAILBOX",
                ]) {
                    PlaceErrorKind::NotFound
                } else if says(&["AUTHENTICATIONFAILED", "AUTHORIZATIONFAILED"]) {
                    PlaceErrorKind::Refused
                } else if says(&["OVERQUOTA", "QUOTA"]) {
                    PlaceErrorKind::NoSpace
                } else if says(&["NOPERM", "PERMISSION DENIED"]) {
                    PlaceErrorKind::Denied
                } else if says(&["ALREADYEXISTS", "ALREADY EXISTS"]) {
                    PlaceErrorKind::Exists
                } else if says(&["INUSE", "LIMIT", "UNAVAILABLE", "TOO MANY"]) {
                    PlaceErrorKind::Busy
                } else {
                    PlaceErrorKind::Other
                };
                (kind, said(words))
            }
            Error::ConnectionLost => (PlaceErrorKind::Interrupted, "the server closed the connection".to_owned()),
            error => (PlaceErrorKind::Interrupted, error.to_string()),
        };
        PlaceError { kind, place: self.name.clone(), call, path: path.clone(), detail, secret: None }
    }

    fn late(&self, server: &MailServer) -> PlaceError {
        let detail = format!("{}:{} did not answer within {} s", server.host, server.port, CONNECT.as_secs());
        self.fail(PlaceErrorKind::Unreachable, "reach", detail)
    }

    /// Reaches and secures one of its servers, and goes no further.
    pub async fn secure_one(&self, server: &MailServer) -> Result<()> {
        if self.spec.read.as_ref() == Some(server) {
            return timeout(CONNECT, self.reach(server)).await.map_err(|_| self.late(server))?.map(drop);
        }
        self.reach_to_send(server).await.map(drop)
    }

    /// Reaches and secures both of its servers.
    pub async fn secure(&self) -> Result<()> {
        for server in self.spec.servers() {
            self.secure_one(server).await?;
        }
        Ok(())
    }

    async fn tcp(&self, server: &MailServer) -> Result<Line> {
        let (host, port) = (server.host.as_str(), server.port);
        let tcp = TcpStream::connect((host, port)).await.map_err(|error| {
            let detail = match error.kind() {
                io::ErrorKind::ConnectionRefused => format!("nothing listens on {host}:{port}"),
                _ => format!("{host}:{port}: {error}"),
            };
            self.fail(PlaceErrorKind::Unreachable, "reach", detail)
        })?;
        let _ = tcp.set_nodelay(true);
        let peer = tcp.peer_addr().map_err(|e| self.fail(PlaceErrorKind::Unreachable, "reach", e.to_string()))?;
        let local = tcp.local_addr().ok().map(|address| address.ip());
        Ok(Line { inner: Box::new(tcp), peer, local })
    }

    /// Secures a connection.
    pub async fn over_tls(&self, server: &MailServer, line: Line) -> Result<Line> {
        let (peer, local) = (line.peer, line.local);
        let secured = self.tls(server).connect(&server.host, line).await.map_err(|error| {
            self.tls(server).refused(&self.name).unwrap_or_else(|| {
                let detail = format!("{}:{} does not speak TLS: {error}", server.host, server.port);
                self.fail(PlaceErrorKind::Unreachable, "secure", detail)
            })
        })?;
        Ok(Line { inner: Box::new(secured), peer, local })
    }

    /// Reaches a server, within TLS if it begins so; nothing was said yet.
    pub async fn open_line(&self, server: &MailServer) -> Result<Line> {
        let opened = async {
            let line = self.tcp(server).await?;
            match server.security {
                MailSecurity::TlsFromStart => self.over_tls(server, line).await,
                MailSecurity::Tls | MailSecurity::None => Ok(line),
            }
        };
        timeout(CONNECT, opened).await.map_err(|_| self.late(server))?
    }

    /// Waits for a step of the way in, not for ever.
    pub async fn soon<T>(&self, server: &MailServer, step: impl Future<Output = T>) -> Result<T> {
        timeout(CONNECT, step).await.map_err(|_| self.late(server))
    }

    /// Reaches the server for reading, securely as the book asks.
    async fn reach(&self, server: &MailServer) -> Result<Client<Lines<Line>>> {
        let line = self.open_line(server).await?;
        let (peer, silence) = (line.peer, self.spec.silence);
        let mut client = Client::new(Lines::of(line));
        let greeting = timeout(silence, client.read_response()).await.map_err(|_| self.late(server))?;
        if !matches!(greeting, Ok(Some(_))) {
            let detail = format!("{peer} does not greet as a mail server does");
            return Err(self.fail(PlaceErrorKind::Unreachable, "reach", detail));
        }
        if server.security != MailSecurity::Tls {
            return Ok(client);
        }
        client.run_command_and_check_ok("STARTTLS", None).await.map_err(|error| {
            let detail = format!(
                "{}:{} refuses to be secured ({error}); security = \"none\" would send password and letters in clear",
                server.host, server.port
            );
            self.fail(PlaceErrorKind::Unsupported, "secure", detail)
        })?;
        let line = self.over_tls(server, client.into_inner().into_inner()).await?;
        Ok(Client::new(Lines::of(line)))
    }

    async fn open(&self) -> Result<Connection> {
        let Some(server) = &self.spec.read else {
            let detail = "this mailbox only sends; letters are read from one with \"host\"".to_owned();
            return Err(self.fail(PlaceErrorKind::Unsupported, "read", detail));
        };
        let client = timeout(CONNECT, self.reach(server)).await.map_err(|_| self.late(server))??;
        let Some((user, password)) = self.sign_in() else { return Err(self.refused()) };
        let signed = timeout(CONNECT, client.login(user, password)).await.map_err(|_| self.late(server))?;
        let mut session = signed.map_err(|(error, _)| match error {
            Error::No(_) | Error::Bad(_) | Error::Validate(_) => self.refused(),
            error => self.fail(PlaceErrorKind::Interrupted, "sign in to", error.to_string()),
        })?;
        let root = RelPath::root();
        let prepared = async {
            let able = session.capabilities().await?;
            let (moves, expunges_one) = (able.has_str("MOVE"), able.has_str("UIDPLUS"));
            // The empty pattern tells only how folders are told apart (RFC 3501, section 6.3.8).
            let told: Vec<_> = session.list(Some(""), None).await?.try_collect().await?;
            let delimiter = told.first().and_then(|name| name.delimiter()).unwrap_or("/").to_owned();
            Ok::<_, Error>((moves, expunges_one, delimiter))
        };
        let prepared = timeout(self.spec.silence, prepared).await.map_err(|_| self.late(server))?;
        let (moves, expunges_one, delimiter) = prepared.map_err(|error| self.failed("sign in to", &root, &error))?;
        Ok(Connection { session, open: None, delimiter, moves, expunges_one, silence: self.spec.silence })
    }

    /// A connection of one's own.
    pub async fn lease(&self) -> Result<Lease> {
        self.connections.lease(|| self.open()).await
    }
}

/// What the server said, without what the library says around it.
fn said(words: &str) -> String {
    let inner = words.rsplit_once("Some(\"").and_then(|(_, rest)| rest.split_once("\")"));
    let plain = inner.map_or(words, |(inner, _)| inner);
    plain.chars().filter(|c| !c.is_control()).take(300).collect()
}

/// Waits for an answer, not for ever.
async fn answered<T>(silence: Duration, call: impl Future<Output = ImapResult<T>>) -> ImapResult<T> {
    timeout(silence, call).await.unwrap_or_else(|_| {
        let words = format!("the server did not answer for {} s", silence.as_secs());
        Err(Error::Io(io::Error::new(io::ErrorKind::TimedOut, words)))
    })
}

impl Lease {
    /// How the open folder's letters are counted (RFC 3501, section 2.3.1.1).
    pub fn validity(&self) -> u32 {
        self.seen().open.as_ref().map_or(0, |(_, validity)| *validity)
    }

    /// A folder as the server calls it.
    pub fn server_name(&self, folder: &RelPath) -> String {
        let delimiter = self.seen().delimiter.as_str();
        let parts: Vec<String> = folder.parts().map(|part| encode(&String::from_utf8_lossy(part))).collect();
        parts.join(delimiter)
    }

    /// Opens a folder, anew each time, so that what came since is seen.
    pub async fn select(&mut self, folder: &RelPath) -> ImapResult<()> {
        let name = self.server_name(folder);
        let connection = self.get();
        let silence = connection.silence;
        connection.open = None;
        let opened = answered(silence, connection.session.select(&name)).await?;
        connection.open = Some((folder.clone(), opened.uid_validity.unwrap_or(0)));
        Ok(())
    }

    /// The folders right below one.
    pub async fn names_below(&mut self, folder: &RelPath) -> ImapResult<Vec<RelPath>> {
        let own = self.server_name(folder);
        let connection = self.get();
        let silence = connection.silence;
        let delimiter = connection.delimiter.clone();
        let above = if own.is_empty() { String::new() } else { format!("{own}{delimiter}") };
        let pattern = format!("\"{}%\"", above.replace('\\', "\\\\").replace('"', "\\\""));
        let listing = async {
            let names: Vec<_> = connection.session.list(Some(""), Some(&pattern)).await?.try_collect().await?;
            Ok(names)
        };
        let names = answered(silence, listing).await?;
        let below = names.iter().filter_map(|name| {
            // A folder's own name may hold what stands for anything.
            let last = name.name().strip_prefix(&above)?.split(delimiter.as_str()).next()?;
            // A name that is none here is left out rather than followed.
            folder.join_name(decode(last).as_bytes()).ok()
        });
        let unique: BTreeSet<RelPath> = below.filter(|path| path != folder).collect();
        Ok(unique.into_iter().collect())
    }

    /// The numbers of all letters of the open folder, in their order.
    pub async fn numbers(&mut self) -> ImapResult<Vec<u32>> {
        let connection = self.get();
        let silence = connection.silence;
        let found = answered(silence, connection.session.uid_search("UNDELETED")).await?;
        let mut numbers: Vec<u32> = found.into_iter().collect();
        numbers.sort_unstable();
        Ok(numbers)
    }

    /// What the server tells of letters of the open folder.
    pub async fn about_all(&mut self, numbers: &[u32], what: &str) -> ImapResult<Vec<Fetch>> {
        let set = numbers.iter().map(u32::to_string).collect::<Vec<_>>().join(",");
        let connection = self.get();
        let silence = connection.silence;
        let fetching = async {
            let told: Vec<Fetch> = connection.session.uid_fetch(&set, what).await?.try_collect().await?;
            Ok(told)
        };
        answered(silence, fetching).await
    }

    /// The same of one; nothing if it is not there.
    pub async fn about(&mut self, number: u32, what: &str) -> ImapResult<Option<Fetch>> {
        let told = self.about_all(&[number], what).await?;
        // A server may tell of others unasked.
        Ok(told.into_iter().find(|told| told.uid == Some(number)))
    }

    /// Makes a folder. One that is there is as good.
    pub async fn make(&mut self, name: &str) -> ImapResult<()> {
        let connection = self.get();
        let silence = connection.silence;
        match answered(silence, connection.session.create(name)).await {
            Err(Error::No(words)) if words.to_ascii_uppercase().contains("EXISTS") => Ok(()),
            result => result,
        }
    }

    /// Puts a letter into another folder.
    pub async fn file_away(&mut self, number: u32, folder: &str) -> ImapResult<()> {
        let connection = self.get();
        let silence = connection.silence;
        let number_text = number.to_string();
        if connection.moves {
            return answered(silence, connection.session.uid_mv(&number_text, folder)).await;
        }
        answered(silence, connection.session.uid_copy(&number_text, folder)).await?;
        self.delete(number).await
    }

    /// Marks a letter as deleted, and removes it where that can be done to it alone: removing all
    /// that are so marked would remove what other people marked, too.
    pub async fn delete(&mut self, number: u32) -> ImapResult<()> {
        let connection = self.get();
        let silence = connection.silence;
        let set = number.to_string();
        let marking = async {
            let told: Vec<Fetch> =
                connection.session.uid_store(&set, "+FLAGS (\\Deleted)").await?.try_collect().await?;
            drop(told);
            if connection.expunges_one {
                let gone: Vec<u32> = connection.session.uid_expunge(&set).await?.try_collect().await?;
                drop(gone);
            }
            Ok(())
        };
        answered(silence, marking).await
    }
}
