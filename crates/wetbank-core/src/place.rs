//! Places as the book describes them.

use std::time::Duration;

use serde::{Deserialize, Serialize};

use crate::SecretName;

/// How long a server may be silent while we wait for it, unless the book says otherwise.
pub const SILENCE: Duration = Duration::from_secs(30);

/// The kind of a place.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum PlaceKind {
    /// A folder of this machine, or one mounted on it.
    Folder,
    /// A server that speaks the SSH File Transfer Protocol.
    Sftp,
    /// A server that speaks FTP, plain or within TLS.
    Ftp,
    /// A network share (SMB).
    Share,
    /// A web server that keeps files (WebDAV).
    Webdav,
    /// A bucket of an object store (the S3 REST API).
    Bucket,
    /// A mailbox: letters are read with IMAP and sent with SMTP.
    Mailbox,
}

impl PlaceKind {
    /// The word in the book.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Folder => "folder",
            Self::Sftp => "sftp",
            Self::Ftp => "ftp",
            Self::Share => "share",
            Self::Webdav => "webdav",
            Self::Bucket => "bucket",
            Self::Mailbox => "mailbox",
        }
    }
}

/// How to reach a place.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PlaceSpec {
    /// An absolute folder.
    Folder {
        /// Its root.
        root: String,
        /// Where a share must be mounted for it to be there; the root lies in it.
        mount: Option<String>,
    },
    /// An SFTP server.
    Sftp(SftpSpec),
    /// An FTP server.
    Ftp(FtpSpec),
    /// A network share.
    Share(ShareSpec),
    /// A WebDAV server.
    Webdav(WebdavSpec),
    /// A bucket of an object store.
    Bucket(BucketSpec),
    /// A mailbox.
    Mailbox(MailboxSpec),
}

/// An SFTP server, its sign-in and its limits.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SftpSpec {
    /// Host name or address.
    pub host: String,
    /// TCP port.
    pub port: u16,
    /// User name there.
    pub user: String,
    /// How we sign in.
    pub sign_in: SftpSignIn,
    /// The pinned host key, `SHA256:…`; without it no file is moved.
    pub host_key: Option<String>,
    /// The folder that is the place's root.
    pub root: String,
    /// A file is written under a temporary name and renamed when it is whole; else it is written under its own.
    pub staged: bool,
    /// Connections at once, at most.
    pub connections: usize,
    /// How long the server may be silent while we wait for it.
    pub silence: Duration,
}

/// How we sign in to an SFTP server.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum SftpSignIn {
    /// With a password, also by keyboard-interactive.
    Password(SecretName),
    /// With a private key, whose passphrase may be a secret too.
    Key {
        /// The private key.
        key: SecretName,
        /// What opens it.
        passphrase: Option<SecretName>,
        /// The password that the server asks for besides.
        password: Option<SecretName>,
    },
}

/// When an FTP connection becomes secure.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FtpSecurity {
    /// Right after the greeting, before anything is told (RFC 4217).
    Tls,
    /// From the first byte, on a port of its own.
    TlsFromStart,
    /// Never: password and files can be read on the way.
    None,
}

/// An FTP server, its sign-in and its limits.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FtpSpec {
    /// Host name or address.
    pub host: String,
    /// TCP port.
    pub port: u16,
    /// User name there.
    pub user: String,
    /// The password.
    pub password: SecretName,
    /// When the connection becomes secure.
    pub security: FtpSecurity,
    /// The server opens the data connections to us, not we to it (RFC 959, section 3.2).
    pub active: bool,
    /// The confirmed certificate, `SHA256:…`; without it, one that a trusted authority vouches for.
    pub certificate: Option<String>,
    /// The folder that is the place's root.
    pub root: String,
    /// A file is written under a temporary name and renamed when it is whole; else it is written under its own.
    pub staged: bool,
    /// Connections at once, at most.
    pub connections: usize,
    /// How long the server may be silent while we wait for it.
    pub silence: Duration,
}

/// A network share, its sign-in and its limits.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ShareSpec {
    /// Host name or address of its server.
    pub host: String,
    /// TCP port.
    pub port: u16,
    /// The share's name.
    pub share: String,
    /// The domain that the user belongs to; empty for whatever the server takes.
    pub domain: String,
    /// User name there.
    pub user: String,
    /// The password.
    pub password: SecretName,
    /// Whether everything is encrypted; else it is signed only, unless the server demands more.
    pub encrypted: bool,
    /// The folder that is the place's root, without a slash at either end.
    pub root: String,
    /// Connections at once, at most.
    pub connections: usize,
    /// How long the server may be silent while we wait for it.
    pub silence: Duration,
}

/// How we sign in to a WebDAV server.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum WebSignIn {
    /// It asks for nothing.
    Open,
    /// User name and password.
    Password(String, SecretName),
    /// A person agreed to it once, with an authorization server (OAuth 2.0, RFC 6749).
    Agreed(AgreedSpec),
}

/// A connection that a person agrees to with an authorization server (OAuth 2.0, RFC 6749).
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct AgreedSpec {
    /// The authorization server, which tells its own addresses (RFC 8414).
    pub server: String,
    /// The name under which Wetbank is registered there.
    pub client: String,
    /// The secret that goes with the name, where it has one.
    pub client_secret: Option<SecretName>,
    /// What the connection may do, in the server's words (scopes, RFC 6749, section 3.3).
    pub rights: Vec<String>,
    /// Where the lasting half of the agreement is kept (the refresh token).
    pub grant: SecretName,
}

/// A WebDAV server, its sign-in and its limits.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WebdavSpec {
    /// The folder that is the place's root, as in `https://cloud.merrow.example/dav/office`.
    pub url: String,
    /// How we sign in.
    pub sign_in: WebSignIn,
    /// The confirmed certificate, `SHA256:…`; without it, one that a trusted authority vouches for.
    pub certificate: Option<String>,
    /// Requests at once, at most.
    pub connections: usize,
    /// How long the server may be silent while we wait for it.
    pub silence: Duration,
}

/// How a bucket's name stands in an address.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum BucketAddressing {
    /// As the first part of the path.
    Path,
    /// As the first part of the host's name.
    Host,
}

/// A bucket of an object store, its sign-in and its limits.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BucketSpec {
    /// The object store, as in `https://objects.tidewatch.example`.
    pub url: String,
    /// The bucket's name.
    pub bucket: String,
    /// Where it is, as its operator calls it.
    pub region: String,
    /// How the bucket's name stands in an address.
    pub addressing: BucketAddressing,
    /// Access key and secret key, if it asks for them.
    pub sign_in: Option<(String, SecretName)>,
    /// What every object's name begins with; empty, or folders without a slash at either end.
    pub root: String,
    /// The confirmed certificate, `SHA256:…`; without it, one that a trusted authority vouches for.
    pub certificate: Option<String>,
    /// Requests at once, at most.
    pub connections: usize,
    /// How long the server may be silent while we wait for it.
    pub silence: Duration,
}

/// When a connection to a mail server becomes secure.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MailSecurity {
    /// From the first byte (RFC 8314).
    TlsFromStart,
    /// Before anything is told (RFC 2595, RFC 3207).
    Tls,
    /// Never: password and letters can be read on the way.
    None,
}

/// One of the two servers of a mailbox.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MailServer {
    /// Host name or address.
    pub host: String,
    /// TCP port.
    pub port: u16,
    /// When the connection becomes secure.
    pub security: MailSecurity,
    /// Its confirmed certificate, `SHA256:…`; without it, one that a trusted authority vouches for.
    pub certificate: Option<String>,
}

/// A mailbox, its sign-in and its limits.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct MailboxSpec {
    /// Where its letters are read (IMAP); nothing if it only sends.
    pub read: Option<MailServer>,
    /// Where letters are handed in to be sent (SMTP); nothing if it only reads.
    pub send: Option<MailServer>,
    /// Who sends them.
    pub sender: Option<String>,
    /// User name and password, the same for both.
    pub sign_in: Option<(String, SecretName)>,
    /// Connections at once, at most.
    pub connections: usize,
    /// How long a server may be silent while we wait for it.
    pub silence: Duration,
}

impl MailboxSpec {
    /// Its servers: where letters are read, and where they are handed in.
    pub fn servers(&self) -> impl Iterator<Item = &MailServer> {
        self.read.iter().chain(&self.send)
    }

    /// The server by which it is known.
    pub fn server(&self) -> Option<&MailServer> {
        self.read.as_ref().or(self.send.as_ref())
    }
}

impl BucketSpec {
    /// The address of the bucket.
    pub fn server(&self) -> String {
        match (self.addressing, self.url.split_once("://")) {
            (BucketAddressing::Host, Some((scheme, rest))) => format!("{scheme}://{}.{rest}", self.bucket),
            _ => format!("{}/{}", self.url, self.bucket),
        }
    }
}

impl PlaceSpec {
    /// The kind.
    pub fn kind(&self) -> PlaceKind {
        match self {
            Self::Folder { .. } => PlaceKind::Folder,
            Self::Sftp(_) => PlaceKind::Sftp,
            Self::Ftp(_) => PlaceKind::Ftp,
            Self::Share(_) => PlaceKind::Share,
            Self::Webdav(_) => PlaceKind::Webdav,
            Self::Bucket(_) => PlaceKind::Bucket,
            Self::Mailbox(_) => PlaceKind::Mailbox,
        }
    }

    /// The address for people: `/srv/office` or `merrow@sftp.skerrow.example:22/incoming`.
    pub fn address(&self) -> String {
        match self {
            Self::Folder { root, .. } => root.clone(),
            Self::Sftp(spec) => {
                format!("{}@{}:{}/{}", spec.user, spec.host, spec.port, spec.root.trim_start_matches('/'))
            }
            Self::Ftp(spec) => {
                format!("{}@{}:{}/{}", spec.user, spec.host, spec.port, spec.root.trim_start_matches('/'))
            }
            Self::Share(spec) => {
                let port = if spec.port == 445 { String::new() } else { format!(":{}", spec.port) };
                let root = if spec.root.is_empty() { String::new() } else { format!("/{}", spec.root) };
                format!("//{}{port}/{}{root}", spec.host, spec.share)
            }
            Self::Webdav(spec) => spec.url.clone(),
            Self::Bucket(spec) if spec.root.is_empty() => spec.server(),
            Self::Bucket(spec) => format!("{}/{}", spec.server(), spec.root),
            Self::Mailbox(spec) => {
                let user = spec.sign_in.as_ref().map(|(user, _)| format!("{user} at ")).unwrap_or_default();
                let server = |server: &MailServer| format!("{}:{}", server.host, server.port);
                match (&spec.read, &spec.send) {
                    (Some(read), Some(send)) => format!("{user}{}, sent by {}", server(read), server(send)),
                    (Some(one), None) | (None, Some(one)) => format!("{user}{}", server(one)),
                    (None, None) => user,
                }
            }
        }
    }

    /// The names of the secrets it needs.
    pub fn secrets(&self) -> Vec<&SecretName> {
        match self {
            Self::Folder { .. } => Vec::new(),
            Self::Sftp(spec) => match &spec.sign_in {
                SftpSignIn::Password(secret) => vec![secret],
                SftpSignIn::Key { key, passphrase, password } => {
                    std::iter::once(key).chain(passphrase.as_ref()).chain(password.as_ref()).collect()
                }
            },
            Self::Ftp(spec) => vec![&spec.password],
            Self::Share(spec) => vec![&spec.password],
            Self::Webdav(spec) => match &spec.sign_in {
                WebSignIn::Open => Vec::new(),
                WebSignIn::Password(_, secret) => vec![secret],
                WebSignIn::Agreed(agreed) => {
                    std::iter::once(&agreed.grant).chain(agreed.client_secret.as_ref()).collect()
                }
            },
            Self::Bucket(spec) => spec.sign_in.iter().map(|(_, secret)| secret).collect(),
            Self::Mailbox(spec) => spec.sign_in.iter().map(|(_, secret)| secret).collect(),
        }
    }

    /// What a person must agree to before it can be used.
    pub fn agreed(&self) -> Option<&AgreedSpec> {
        match self {
            Self::Webdav(WebdavSpec { sign_in: WebSignIn::Agreed(agreed), .. }) => Some(agreed),
            _ => None,
        }
    }
}
