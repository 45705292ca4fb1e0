//! Reaching a server: resolve, connect, check its host key, sign in, open the subsystem.

use std::{fmt, io, sync::Arc, time::Duration};

use bytes::Bytes;
use russh::{
    ChannelMsg, ChannelReadHalf, ChannelWriteHalf, Disconnect, Preferred, cipher,
    client::{self, AuthResult, Handle, KeyboardInteractiveAuthResponse},
    keys::{HashAlg, PrivateKeyWithHashAlg, decode_secret_key},
};
use secrecy::{ExposeSecret, SecretString};
use tokio::net::TcpStream;
use wetbank_core::{PlaceName, RelPath, SecretName, SftpSignIn, SftpSpec};
use wetbank_sftp::{Client, Incoming, Outgoing};

use crate::{PlaceError, PlaceErrorKind, blocking, pool};

/// Reaching, shaking hands and signing in may each take so long.
const CONNECT: Duration = Duration::from_secs(15);
/// An idle connection is asked for a sign of life this often, and given up after three.
const KEEP_ALIVE: Duration = Duration::from_secs(20);
/// Prompts answered before giving up: an empty one comes first, then one for the password.
const PROMPTS: usize = 6;

/// What we sign in with.
#[derive(Clone)]
pub enum SftpCredentials {
    /// A password, also given when the server asks for one.
    Password(SecretString),
    /// A private key in OpenSSH, PKCS#8, PKCS#1 or SEC1 form, and what opens it.
    Key {
        /// The key.
        key: SecretString,
        /// Its passphrase.
        passphrase: Option<SecretString>,
        /// A password that the server asks for besides.
        password: Option<SecretString>,
    },
}

impl fmt::Debug for SftpCredentials {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Password(_) => "Password",
            Self::Key { .. } => "Key",
        })
    }
}

/// The fingerprint of a server's host key: `SHA256:…`, as `ssh-keygen -l` shows it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HostKey(String);

impl fmt::Display for HostKey {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl HostKey {
    /// Asks a server for its host key without signing in or trusting it.
    pub async fn fetch(place: &PlaceName, spec: &SftpSpec) -> Result<Self, PlaceError> {
        let seen = Arc::new(parking_lot::Mutex::new(None));
        let checker = Checker { pinned: None, seen: seen.clone() };
        let _ = handshake(place, spec, checker).await.map(drop);
        let seen = seen.lock().clone();
        match seen {
            Some(key) => Ok(Self(key)),
            // It never came to the key: say why it was not reached.
            None => {
                Err(handshake(place, spec, Checker { pinned: None, seen: Arc::default() }).await.err().unwrap_or_else(
                    || fail(place, PlaceErrorKind::Unreachable, "reach", "it showed no host key".to_owned()),
                ))
            }
        }
    }
}

/// Accepts the pinned host key and no other.
struct Checker {
    pinned: Option<String>,
    seen: Arc<parking_lot::Mutex<Option<String>>>,
}

impl client::Handler for Checker {
    type Error = russh::Error;

    async fn check_server_key(&mut self, key: &russh::keys::PublicKeyOrCertificate) -> Result<bool, Self::Error> {
        let shown = key.public_key().fingerprint(HashAlg::Sha256).to_string();
        let fits = self.pinned.as_deref() == Some(shown.as_str());
        *self.seen.lock() = Some(shown);
        Ok(fits)
    }
}

fn fail(place: &PlaceName, kind: PlaceErrorKind, call: &'static str, detail: String) -> PlaceError {
    PlaceError { kind, place: place.clone(), call, path: RelPath::root(), detail, secret: None }
}

fn config() -> client::Config {
    client::Config {
        window_size: 16 << 20,
        maximum_packet_size: 64 << 10,
        keepalive_interval: Some(KEEP_ALIVE),
        keepalive_max: 3,
        nodelay: true,
        preferred: Preferred {
            cipher: vec![cipher::AES_128_GCM, cipher::AES_256_GCM, cipher::CHACHA20_POLY1305, cipher::AES_256_CTR]
                .into(),
            ..Preferred::default()
        },
        ..client::Config::default()
    }
}

async fn handshake(place: &PlaceName, spec: &SftpSpec, checker: Checker) -> Result<Handle<Checker>, PlaceError> {
    let unreachable = |detail: String| fail(place, PlaceErrorKind::Unreachable, "reach", detail);
    let address = format!("{}:{}", spec.host, spec.port);
    let connect = async {
        let stream = TcpStream::connect((spec.host.as_str(), spec.port)).await.map_err(|e| match e.kind() {
            io::ErrorKind::ConnectionRefused => unreachable(format!("nothing listens on {address}")),
            _ => unreachable(format!("{address}: {e}")),
        })?;
        let _ = stream.set_nodelay(true);
        let (seen, pinned) = (checker.seen.clone(), checker.pinned.clone());
        client::connect_stream(Arc::new(config()), stream, checker).await.map_err(|error| {
            let seen = seen.lock().clone();
            match (seen, pinned) {
                (Some(shown), Some(pinned)) if shown != pinned => {
                    fail(place, PlaceErrorKind::HostKey, "trust", format!("it shows {shown}, confirmed was {pinned}"))
                }
                (Some(shown), None) => {
                    fail(place, PlaceErrorKind::HostKey, "trust", format!("it shows {shown}; none was confirmed yet"))
                }
                _ => unreachable(format!("{address} does not answer as an SSH server: {error}")),
            }
        })
    };
    tokio::time::timeout(CONNECT, connect)
        .await
        .map_err(|_| unreachable(format!("{address} did not answer within {} s", CONNECT.as_secs())))?
}

/// Reaches the server and compares its host key with the confirmed one.
pub(super) async fn check_host_key(place: &PlaceName, spec: &SftpSpec) -> Result<(), PlaceError> {
    let checker = Checker { pinned: spec.host_key.clone(), seen: Arc::default() };
    handshake(place, spec, checker).await.map(drop)
}

/// How far a server let us in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Step {
    In,
    /// That was right, and more is asked.
    Further,
    No,
}

impl From<AuthResult> for Step {
    fn from(result: AuthResult) -> Self {
        match result {
            AuthResult::Success => Self::In,
            AuthResult::Failure { partial_success: true, .. } => Self::Further,
            AuthResult::Failure { .. } => Self::No,
        }
    }
}

async fn sign_in(
    place: &PlaceName,
    spec: &SftpSpec,
    handle: &mut Handle<Checker>,
    credentials: &SftpCredentials,
) -> Result<(), PlaceError> {
    let refused = |detail: String| fail(place, PlaceErrorKind::Refused, "sign in to", detail);
    let more = |detail: &str| fail(place, PlaceErrorKind::Security, "sign in to", detail.to_owned());
    let broke = |e: russh::Error| fail(place, PlaceErrorKind::Interrupted, "sign in to", e.to_string());
    let user = &spec.user;
    let (key_secret, password_secret) = match &spec.sign_in {
        SftpSignIn::Password(secret) => (None, Some(secret)),
        SftpSignIn::Key { key, password, .. } => (Some(key), password.as_ref()),
    };
    let (key, password) = match credentials {
        SftpCredentials::Password(password) => (None, Some(password)),
        SftpCredentials::Key { key, passphrase, password } => (
            Some(prepared(handle, key, passphrase.as_ref()).await.map_err(|e| e.at(refused, broke))?),
            password.as_ref(),
        ),
    };
    let (mut key_step, mut password_step) = (Step::No, Step::No);
    // Which of two comes first, the server says: it takes the second only after the first.
    for _ in 0..2 {
        if let Some((key, _)) = key.as_ref().filter(|_| key_step == Step::No) {
            key_step = handle.authenticate_publickey(user, key.clone()).await.map_err(broke)?.into();
            if key_step == Step::In {
                return Ok(());
            }
        }
        if let Some(password) = password.filter(|_| password_step == Step::No) {
            password_step = by_password(handle, user, password.expose_secret()).await.map_err(broke)?;
            if password_step == Step::In {
                return Ok(());
            }
        }
        if key.is_none() || password.is_none() || (key_step == Step::No && password_step == Step::No) {
            break;
        }
    }
    let shown = key.as_ref().map_or("", |(_, shown)| shown.as_str());
    let named = |secret: Option<&SecretName>| secret.map_or_else(String::new, |secret| format!("secret \"{secret}\""));
    Err(match (key_step, password_step) {
        (Step::Further, _) if password.is_none() => {
            more("the key was accepted, but the server asks for a password too: give the place a password besides")
        }
        (_, Step::Further) if key.is_none() => {
            more("the password was accepted, but the server asks for a key too: give the place a key besides")
        }
        (Step::Further, Step::Further) => more("key and password were accepted, but the server asks for still more"),
        (Step::Further, _) => {
            let words = format!("user \"{user}\", the key was accepted, not the password, {}", named(password_secret));
            refused(words).with_secret(password_secret)
        }
        _ if key.is_some() => {
            refused(format!("user \"{user}\", by key {shown}, {}", named(key_secret))).with_secret(key_secret)
        }
        _ => refused(format!("user \"{user}\", by password, {}", named(password_secret))).with_secret(password_secret),
    })
}

/// Why a key cannot be used.
enum Unready {
    Unusable(&'static str),
    Broke(russh::Error),
}

impl Unready {
    fn at(self, refused: impl Fn(String) -> PlaceError, broke: impl Fn(russh::Error) -> PlaceError) -> PlaceError {
        match self {
            Self::Unusable(why) => refused(why.to_owned()),
            Self::Broke(error) => broke(error),
        }
    }
}

/// A private key, opened and fit for the server, and its fingerprint.
async fn prepared(
    handle: &mut Handle<Checker>,
    key: &SecretString,
    passphrase: Option<&SecretString>,
) -> Result<(PrivateKeyWithHashAlg, String), Unready> {
    // A passphrase is made hard to derive a key from: that is no work for a thread that others wait for.
    let (kept, opens) = (key.clone(), passphrase.cloned());
    let decoded =
        blocking::run(move || decode_secret_key(kept.expose_secret(), opens.as_ref().map(ExposeSecret::expose_secret)));
    let key = decoded.await.map_err(|error| {
        Unready::Unusable(match error {
            russh::keys::Error::KeyIsEncrypted => "the private key needs its passphrase; name it in the book",
            _ if passphrase.is_some() => "the passphrase does not open the private key",
            _ => "the secret holds no private key that can be read",
        })
    })?;
    let hash = if key.algorithm().is_rsa() {
        let best = handle.best_supported_rsa_hash().await.map_err(Unready::Broke)?;
        best.flatten().or(Some(HashAlg::Sha256))
    } else {
        None
    };
    let shown = key.public_key().fingerprint(HashAlg::Sha256).to_string();
    Ok((PrivateKeyWithHashAlg::new(Arc::new(key), hash), shown))
}

/// Gives the password, or answers prompts with it; an empty round often comes first or last.
async fn by_password(handle: &mut Handle<Checker>, user: &str, password: &str) -> Result<Step, russh::Error> {
    let step: Step = handle.authenticate_password(user, password).await?.into();
    if step != Step::No {
        return Ok(step);
    }
    let mut response = handle.authenticate_keyboard_interactive_start(user, None::<String>).await?;
    for _ in 0..PROMPTS {
        let answers = match response {
            KeyboardInteractiveAuthResponse::Success => return Ok(Step::In),
            KeyboardInteractiveAuthResponse::Failure { partial_success: true, .. } => return Ok(Step::Further),
            KeyboardInteractiveAuthResponse::Failure { .. } => return Ok(Step::No),
            KeyboardInteractiveAuthResponse::InfoRequest { prompts, .. } => {
                prompts.iter().map(|_| password.to_owned()).collect()
            }
        };
        response = handle.authenticate_keyboard_interactive_respond(answers).await?;
    }
    Ok(Step::No)
}

/// A connection that is signed in.
pub(super) struct Connection {
    pub client: Client,
    handle: Handle<Checker>,
}

impl fmt::Debug for Connection {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Connection").field("client", &self.client).finish_non_exhaustive()
    }
}

impl Connection {
    pub async fn open(place: &PlaceName, spec: &SftpSpec, credentials: &SftpCredentials) -> Result<Self, PlaceError> {
        let checker = Checker { pinned: spec.host_key.clone(), seen: Arc::default() };
        let mut handle = handshake(place, spec, checker).await?;
        let late = |_| fail(place, PlaceErrorKind::Unreachable, "sign in to", "it did not answer in time".to_owned());
        tokio::time::timeout(CONNECT, sign_in(place, spec, &mut handle, credentials)).await.map_err(late)??;
        let open = async {
            let channel = handle.channel_open_session().await?;
            channel.request_subsystem(true, "sftp").await?;
            Ok::<_, russh::Error>(channel.split())
        };
        let refused = |e: russh::Error| {
            fail(place, PlaceErrorKind::Refused, "use", format!("signed in, but the server offers no SFTP: {e}"))
        };
        let (read, write) = tokio::time::timeout(CONNECT, open).await.map_err(late)?.map_err(refused)?;
        let client = Client::connect(FromChannel(read), ToChannel(write), spec.silence).await.map_err(|e| {
            fail(place, PlaceErrorKind::Refused, "use", format!("signed in, but the server offers no SFTP: {e}"))
        })?;
        Ok(Self { client, handle })
    }
}

impl pool::Connection for Connection {
    fn is_closed(&self) -> bool {
        self.client.is_closed() || self.handle.is_closed()
    }

    fn in_flight(&self) -> usize {
        self.client.in_flight()
    }

    async fn close(&self) {
        let _ = self.handle.disconnect(Disconnect::ByApplication, "", "").await;
    }
}

struct FromChannel(ChannelReadHalf);

impl Incoming for FromChannel {
    async fn next(&mut self) -> io::Result<Option<Bytes>> {
        loop {
            match self.0.wait().await {
                Some(ChannelMsg::Data { data }) => return Ok(Some(data)),
                Some(ChannelMsg::Eof | ChannelMsg::Close) | None => return Ok(None),
                Some(_) => {}
            }
        }
    }
}

struct ToChannel(ChannelWriteHalf<client::Msg>);

impl Outgoing for ToChannel {
    async fn send(&mut self, bytes: Bytes) -> io::Result<()> {
        self.0.data_bytes(bytes).await.map_err(|e| io::Error::other(e.to_string()))
    }
}
