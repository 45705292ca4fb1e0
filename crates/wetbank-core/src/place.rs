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
}

impl PlaceKind {
    /// The word in the book.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Folder => "folder",
            Self::Sftp => "sftp",
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
    },
    /// An SFTP server.
    Sftp(SftpSpec),
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

impl PlaceSpec {
    /// The kind.
    pub fn kind(&self) -> PlaceKind {
        match self {
            Self::Folder { .. } => PlaceKind::Folder,
            Self::Sftp(_) => PlaceKind::Sftp,
        }
    }

    /// The address for people: `/srv/office` or `merrow@sftp.skerrow.example:22/incoming`.
    pub fn address(&self) -> String {
        match self {
            Self::Folder { root } => root.clone(),
            Self::Sftp(spec) => {
                format!("{}@{}:{}/{}", spec.user, spec.host, spec.port, spec.root.trim_start_matches('/'))
            }
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
        }
    }
}
