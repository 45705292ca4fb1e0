//! The kind of place `share`.

use std::{ops::Range, time::Duration};

use schemars::JsonSchema;
use serde::Deserialize;

use super::{
    Kind,
    connection::{CONNECTIONS, address, connections, lacks, silence},
};
use crate::{
    Name, SecretName,
    shape::{At, Checked, SecretRef, Text, holds},
    typed_folder, typed_user,
};

/// A network share of an office server (SMB 2.1 to 3.1.1).
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "A network share")]
pub(crate) struct Shape {
    /// As in `files.merrow.example`; all of `\\host\share\folder` may be pasted here.
    #[schemars(title = "Host")]
    host: Text<holds::Host>,
    /// Its port.
    #[schemars(title = "Port", extend("default" = 445), extend("seldom" = true))]
    port: Option<u16>,
    /// Its name, as in `survey`; left out if it stands with the host.
    #[schemars(title = "Share")]
    share: Option<Text>,
    /// The name one signs in with, with its domain if it has one: `MERROW\tove`.
    #[schemars(title = "User")]
    user: Text,
    /// The password.
    #[schemars(title = "Password")]
    password: SecretRef,
    /// Whether what goes over the line is encrypted.
    #[schemars(title = "Secured by", extend("default" = "encrypted"))]
    security: Option<Security>,
    /// The folder there, as in `Field notes/2026`; the whole share if it is left out.
    #[schemars(title = "Folder")]
    root: Option<Text>,
    /// Connections at once, at most.
    #[schemars(title = "Connections", extend("default" = CONNECTIONS), extend("seldom" = true))]
    connections: Option<u8>,
    /// How long the server may be silent.
    #[schemars(title = "Time-out", extend("default" = "30s"), extend("seldom" = true))]
    timeout: Option<Text<holds::Duration>>,
}

/// How a share is secured.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
enum Security {
    /// Encrypted.
    Encrypted,
    /// Signed only: files can be read on the way, but not changed. Older servers can do no more.
    Signed,
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

impl Shape {
    /// The share and the folder in it; a pasted `\\server\share\folder` tells both with the host.
    fn share_and_root(&self) -> Option<(String, String)> {
        let typed = |text: Option<&Text>| text.map(|text| typed_folder(text.str())).unwrap_or_default();
        let pasted = self.host.str().trim();
        let pasted = typed_folder(pasted.split_once("://").map_or(pasted, |(_, rest)| rest));
        let pasted = pasted.trim_start_matches('/');
        let pasted = pasted.split_once('/').map_or("", |(_, below)| below);
        let named = typed(self.share.as_ref());
        let first = if named.is_empty() { pasted } else { &named };
        let below = typed_folder(format!("{first}/{}", typed(self.root.as_ref())).trim_start_matches('/'));
        let (share, root) = below.split_once('/').unwrap_or((below.as_str(), ""));
        (!first.is_empty() && !share.is_empty()).then(|| (share.to_owned(), root.to_owned()))
    }
}

impl Kind for ShareSpec {
    type Shape = Shape;

    const EXAMPLE: &'static str = r#"kind     = "share"
host     = "files.merrow.example"
share    = "survey"
root     = "Field notes"
user     = 'MERROW\tove'
password = { secret = "files-password" }"#;

    fn resolve(shape: &Shape, at: Range<usize>) -> Checked<Self> {
        let (host, port) = address(&shape.host, shape.port, 445)?;
        let Some((share, root)) = shape.share_and_root() else {
            return Err(lacks(&at, "needs the share's name: share = \"survey\""));
        };
        let (domain, user) = typed_user(shape.user.str());
        Ok(Self {
            host,
            port,
            share,
            domain,
            user,
            password: Name::new(shape.password.secret.str()).at(&shape.password.secret)?,
            encrypted: shape.security != Some(Security::Signed),
            root,
            connections: connections(shape.connections, CONNECTIONS),
            silence: silence(shape.timeout.as_ref())?,
        })
    }

    fn address(&self) -> String {
        let port = if self.port == 445 { String::new() } else { format!(":{}", self.port) };
        let root = if self.root.is_empty() { String::new() } else { format!("/{}", self.root) };
        format!("//{}{port}/{}{root}", self.host, self.share)
    }

    fn secrets(&self) -> Vec<&SecretName> {
        vec![&self.password]
    }
}
