//! The kind of place `ftp`.

use std::{ops::Range, time::Duration};

use schemars::JsonSchema;
use serde::Deserialize;

use super::{
    Kind,
    connection::{CONNECTIONS, address, certificate, connections, root, silence, told_address, trimmed},
};
use crate::{
    Name, SecretName,
    shape::{At, Checked, SecretRef, Text, holds},
};

/// A server that speaks FTP, secured by TLS unless you say otherwise.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "An FTP server")]
pub(crate) struct Shape {
    /// As in `ftp.harlan.example`; a pasted address is understood.
    #[schemars(title = "Host")]
    host: Text<holds::Host>,
    /// Its port; 990 for TLS from the start.
    #[schemars(title = "Port", extend("default" = 21))]
    port: Option<u16>,
    /// The name one signs in with there.
    #[schemars(title = "User")]
    user: Text,
    /// The password.
    #[schemars(title = "Password")]
    password: SecretRef,
    /// When the connection becomes secure.
    #[schemars(title = "Secured by", extend("default" = "tls"))]
    security: Option<FtpSecurity>,
    /// The server opens the data connections to us, not we to it.
    #[schemars(title = "Active", extend("default" = false), extend("seldom" = true))]
    active: Option<bool>,
    /// What the server proves itself with, only where no trusted authority vouches for it. It is written when it is
    /// confirmed, and then the only one that is trusted.
    #[schemars(title = "Certificate", extend("seldom" = true))]
    certificate: Option<Text<holds::Fingerprint>>,
    /// The folder there, as in `/out`; the one in which the sign-in ends if it is left out.
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

/// When an FTP connection becomes secure.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum FtpSecurity {
    /// TLS right after the greeting, before anything is told (RFC 4217).
    Tls,
    /// TLS from the first byte, on a port of its own.
    TlsFromStart,
    /// Not at all: password and files can be read on the way.
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

impl Kind for FtpSpec {
    type Shape = Shape;

    const EXAMPLE: &'static str = r#"kind     = "ftp"
host     = "ftp.harlan.example"
user     = "merrow"
password = { secret = "harlan" }
root     = "/out""#;

    fn resolve(shape: &Shape, _: Range<usize>) -> Checked<Self> {
        let security = shape.security.unwrap_or(FtpSecurity::Tls);
        let usual = if security == FtpSecurity::TlsFromStart { 990 } else { 21 };
        let (host, port) = address(&shape.host, shape.port, usual)?;
        Ok(Self {
            host,
            port,
            user: trimmed(&shape.user),
            password: Name::new(shape.password.secret.str()).at(&shape.password.secret)?,
            security,
            active: shape.active.unwrap_or(false),
            certificate: certificate(shape.certificate.as_ref())?,
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
        vec![&self.password]
    }
}
