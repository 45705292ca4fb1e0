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
use wetbank_core::{PlaceName, RelPath, SftpSignIn, SftpSpec};
use wetbank_sftp::{Client, Incoming, Outgoing};

use crate::{PlaceError, PlaceErrorKind, pool};

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
        let seen = Arc::new(std::sync::Mutex::new(None));
        let checker = Checker { pinned: None, seen: seen.clone() };
        let _ = handshake(place, spec, checker).await.map(drop);
        let seen = seen.lock().unwrap_or_else(std::sync::PoisonError::into_inner).clone();
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
    seen: Arc<std::sync::Mutex<Option<String>>>,
}

impl client::Handler for Checker {
    type Error = russh::Error;

    async fn check_server_key(&mut self, key: &russh::keys::PublicKeyOrCertificate) -> Result<bool, Self::Error> {
        let shown = key.public_key().fingerprint(HashAlg::Sha256).to_string();
        let fits = self.pinned.as_deref() == Some(shown.as_str());
        *self.seen.lock().unwrap_or_else(std::sync::PoisonError::into_inner) = Some(shown);
        Ok(fits)
    }
}

fn fail(place: &PlaceName, kind: PlaceErrorKind, call: &'static str, detail: String) -> PlaceError {
    PlaceError { kind, place: place.clone(), call, path: RelPath::root(), detail }
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
            let seen = seen.lock().unwrap_or_else(std::sync::PoisonError::into_inner).clone();
            match (seen, pinned) {
                (Some(shown), Some(pinned)) if shown != pinned => {
                    fail(place, PlaceErrorKind::HostKey, "trust", format!("it shows {shown}, confirmed was {pinned}"))
                }
                (Some(shown), None) => {
                    fail(place, PlaceErrorKind::HostKey, "trust", format!("it shows {shown}, none was confirmed yet"))
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

async fn sign_in(
    place: &PlaceName,
    spec: &SftpSpec,
    handle: &mut Handle<Checker>,
    credentials: &SftpCredentials,
) -> Result<(), PlaceError> {
    let refused = |detail: String| fail(place, PlaceErrorKind::Refused, "sign in to", detail);
    let broke = |e: russh::Error| fail(place, PlaceErrorKind::Interrupted, "sign in to", e.to_string());
    let user = &spec.user;
    let secret = match &spec.sign_in {
        SftpSignIn::Password(secret) | SftpSignIn::Key { key: secret, .. } => secret,
    };
    match credentials {
        SftpCredentials::Password(password) => {
            let password = password.expose_secret();
            let result = handle.authenticate_password(user, password).await.map_err(broke)?;
            if result.success() || answer_prompts(handle, user, password).await.map_err(broke)? {
                return Ok(());
            }
            Err(refused(format!("user \"{user}\", by password, secret \"{secret}\"")))
        }
        SftpCredentials::Key { key, passphrase } => {
            let passphrase = passphrase.as_ref().map(ExposeSecret::expose_secret);
            let key = decode_secret_key(key.expose_secret(), passphrase).map_err(|error| {
                refused(match error {
                    russh::keys::Error::KeyIsEncrypted => {
                        "the private key needs its passphrase; name it in the book".to_owned()
                    }
                    _ if passphrase.is_some() => "the passphrase does not open the private key".to_owned(),
                    _ => "the secret holds no private key that can be read".to_owned(),
                })
            })?;
            let hash = if key.algorithm().is_rsa() {
                handle.best_supported_rsa_hash().await.map_err(broke)?.flatten().or(Some(HashAlg::Sha256))
            } else {
                None
            };
            let shown = key.public_key().fingerprint(HashAlg::Sha256);
            let with_hash = PrivateKeyWithHashAlg::new(Arc::new(key), hash);
            match handle.authenticate_publickey(user, with_hash).await.map_err(broke)? {
                AuthResult::Success => Ok(()),
                AuthResult::Failure { .. } => {
                    Err(refused(format!("user \"{user}\", by key {shown}, secret \"{secret}\"")))
                }
            }
        }
    }
}

/// Answers prompts with the password; an empty round often comes first or last.
async fn answer_prompts(handle: &mut Handle<Checker>, user: &str, password: &str) -> Result<bool, russh::Error> {
    let mut response = handle.authenticate_keyboard_interactive_start(user, None::<String>).await?;
    for _ in 0..PROMPTS {
        let answers = match response {
            KeyboardInteractiveAuthResponse::Success => return Ok(true),
            KeyboardInteractiveAuthResponse::Failure { .. } => return Ok(false),
            KeyboardInteractiveAuthResponse::InfoRequest { prompts, .. } => {
                prompts.iter().map(|_| password.to_owned()).collect()
            }
        };
        response = handle.authenticate_keyboard_interactive_respond(answers).await?;
    }
    Ok(false)
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
