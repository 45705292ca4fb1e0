//! The kind of place `sftp`.

use std::{ops::Range, time::Duration};

use schemars::JsonSchema;
use serde::Deserialize;

use super::{
    Kind,
    connection::{CONNECTIONS, address, connections, host_key, lacks, root, silence, told_address, trimmed},
};
use crate::{
    SecretName,
    shape::{Checked, SecretRef, Text, holds, secret},
};

/// A server that speaks the SSH File Transfer Protocol.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "An SFTP server")]
pub(crate) struct Shape {
    /// As in `sftp.skerrow.example`; a pasted address is understood.
    #[schemars(title = "Host")]
    host: Text<holds::Host>,
    /// Its port.
    #[schemars(title = "Port", extend("default" = 22))]
    port: Option<u16>,
    /// The name one signs in with there.
    #[schemars(title = "User")]
    user: Text,
    /// The password; besides a key only for a server that asks for both.
    #[schemars(title = "Password")]
    password: Option<SecretRef>,
    /// The private key one signs in with.
    #[schemars(title = "Private key", extend("multiline" = true))]
    key: Option<SecretRef>,
    /// What the server proves itself with; without it no file is moved. It is written when it is confirmed.
    #[schemars(title = "Host key", extend("seldom" = true))]
    host_key: Option<Text<holds::Fingerprint>>,
    /// The folder there, as in `/incoming`; the one in which the sign-in ends if it is left out.
    #[schemars(title = "Folder")]
    root: Option<Text>,
    /// A file is written under a temporary name and renamed when it is whole. Where it is not so, for a server that lets
    /// nobody rename, whoever looks there while it is written sees half a file.
    #[schemars(title = "Write aside, then rename", extend("default" = true), extend("seldom" = true))]
    staged: Option<bool>,
    /// Connections at once, at most.
    #[schemars(title = "Connections", extend("default" = CONNECTIONS), extend("seldom" = true))]
    connections: Option<u8>,
    /// How long the server may be silent.
    #[schemars(title = "Time-out", extend("default" = "30s"), extend("seldom" = true))]
    timeout: Option<Text<holds::Duration>>,
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

impl Kind for SftpSpec {
    type Shape = Shape;

    const EXAMPLE: &'static str = r#"kind     = "sftp"
host     = "sftp.skerrow.example"
user     = "merrow"
key      = { secret = "skerrow-ssh", passphrase = { secret = "skerrow-ssh-passphrase" } }
host-key = "SHA256:qV0lWdXoD4mRr9m1gkTtZkq2v1sQ0bq8Ww3Yp5nJx7E"
root     = "/incoming""#;

    fn resolve(shape: &Shape, at: Range<usize>) -> Checked<Self> {
        let (host, port) = address(&shape.host, shape.port, 22)?;
        let password = secret(shape.password.as_ref())?;
        let key = secret(shape.key.as_ref())?;
        let sign_in = match (password, key) {
            (password, Some(key)) => {
                let passphrase = shape.key.as_ref().and_then(|key| key.passphrase.as_deref());
                SftpSignIn::Key { key, passphrase: secret(passphrase)?, password }
            }
            (Some(password), None) => SftpSignIn::Password(password),
            (None, None) => {
                let words = "needs password = { secret = \"…\" } or key = { secret = \"…\" }, or both if the server asks for both";
                return Err(lacks(&at, words));
            }
        };
        Ok(Self {
            host,
            port,
            user: trimmed(&shape.user),
            sign_in,
            host_key: host_key(shape.host_key.as_ref())?,
            root: root(shape.root.as_ref(), &shape.host),
            staged: shape.staged.unwrap_or(true),
            connections: connections(shape.connections, CONNECTIONS),
            silence: silence(shape.timeout.as_ref())?,
        })
    }

    fn address(&self) -> String {
        told_address(&self.user, &self.host, self.port, &self.root)
    }

    fn secrets(&self) -> Vec<&SecretName> {
        match &self.sign_in {
            SftpSignIn::Password(secret) => vec![secret],
            SftpSignIn::Key { key, passphrase, password } => {
                std::iter::once(key).chain(passphrase.as_ref()).chain(password.as_ref()).collect()
            }
        }
    }
}
