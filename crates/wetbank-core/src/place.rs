//! Places as the book describes them.

use serde::{Deserialize, Serialize};

use crate::SecretName;

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
    /// A web server that keeps files (WebDAV).
    Webdav,
    /// A bucket of an object store (the S3 REST API).
    Bucket,
}

impl PlaceKind {
    /// The word in the book.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Folder => "folder",
            Self::Sftp => "sftp",
            Self::Ftp => "ftp",
            Self::Webdav => "webdav",
            Self::Bucket => "bucket",
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
    /// A WebDAV server.
    Webdav(WebdavSpec),
    /// A bucket of an object store.
    Bucket(BucketSpec),
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
    /// Connections at once, at most.
    pub connections: usize,
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
    /// The confirmed certificate, `SHA256:…`; without it, one that a trusted authority vouches for.
    pub certificate: Option<String>,
    /// The folder that is the place's root.
    pub root: String,
    /// Connections at once, at most.
    pub connections: usize,
}

/// A WebDAV server, its sign-in and its limits.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WebdavSpec {
    /// The folder that is the place's root, as in `https://cloud.merrow.example/dav/office`.
    pub url: String,
    /// User name and password, if it asks for them.
    pub sign_in: Option<(String, SecretName)>,
    /// The confirmed certificate, `SHA256:…`; without it, one that a trusted authority vouches for.
    pub certificate: Option<String>,
    /// Requests at once, at most.
    pub connections: usize,
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
            Self::Webdav(_) => PlaceKind::Webdav,
            Self::Bucket(_) => PlaceKind::Bucket,
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
            Self::Webdav(spec) => spec.url.clone(),
            Self::Bucket(spec) if spec.root.is_empty() => spec.server(),
            Self::Bucket(spec) => format!("{}/{}", spec.server(), spec.root),
        }
    }

    /// The key of the book under which what the server shows of itself is confirmed.
    pub fn identity_key(&self) -> Option<&'static str> {
        match self {
            Self::Folder { .. } => None,
            Self::Sftp(_) => Some("host-key"),
            Self::Ftp(_) | Self::Webdav(_) | Self::Bucket(_) => Some("certificate"),
        }
    }

    /// The names of the secrets it needs.
    pub fn secrets(&self) -> Vec<&SecretName> {
        match self {
            Self::Folder { .. } => Vec::new(),
            Self::Sftp(spec) => match &spec.sign_in {
                SftpSignIn::Password(secret) => vec![secret],
                SftpSignIn::Key { key, passphrase } => std::iter::once(key).chain(passphrase.as_ref()).collect(),
            },
            Self::Ftp(spec) => vec![&spec.password],
            Self::Webdav(spec) => spec.sign_in.iter().map(|(_, secret)| secret).collect(),
            Self::Bucket(spec) => spec.sign_in.iter().map(|(_, secret)| secret).collect(),
        }
    }
}
