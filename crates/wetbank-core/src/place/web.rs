//! The kind of place `web`.

use std::{ops::Range, time::Duration};

use schemars::JsonSchema;
use serde::Deserialize;

use super::{
    Kind,
    connection::{CONNECTIONS, certificate, connections, lacks, silence, trimmed},
};
use crate::{
    RelPath, SecretName,
    shape::{At, Checked, SecretRef, Text, holds, secret},
    typed_url,
};

/// Files that a web server publishes, each named here, because such a server has no list of them. They are only read.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(
    title = "Files of a web site",
    extend("dependentRequired" = { "user": ["password"], "password": ["user"] })
)]
pub(crate) struct Shape {
    /// The folder that the files are below, as in `https://tides.example/tables`; https unless http:// is written.
    #[schemars(title = "Address")]
    url: Text<holds::Url>,
    /// Their names below that address, as in `north.csv` or `2026/north.csv`. One that is not there is left out.
    #[schemars(title = "Files")]
    files: Vec<Text>,
    /// The name one signs in with there, if it asks for one.
    #[schemars(title = "User")]
    user: Option<Text>,
    /// The password.
    #[schemars(title = "Password")]
    password: Option<SecretRef>,
    /// What the server proves itself with, only where no trusted authority vouches for it. It is written when it is
    /// confirmed, and then the only one that is trusted.
    #[schemars(title = "Certificate", extend("seldom" = true))]
    certificate: Option<Text<holds::Fingerprint>>,
    /// Requests at once, at most.
    #[schemars(title = "Connections", extend("default" = CONNECTIONS), extend("seldom" = true))]
    connections: Option<u8>,
    /// How long the server may be silent.
    #[schemars(title = "Time-out", extend("default" = "30s"), extend("seldom" = true))]
    timeout: Option<Text<holds::Duration>>,
}

/// Files that a web server publishes.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WebSpec {
    /// The folder that they are below, without a slash at its end.
    pub url: String,
    /// The files, each below that folder.
    pub files: Vec<RelPath>,
    /// User name and password, if it asks for them.
    pub sign_in: Option<(String, SecretName)>,
    /// The confirmed certificate, `SHA256:…`; without it, one that a trusted authority vouches for.
    pub certificate: Option<String>,
    /// Requests at once, at most.
    pub connections: usize,
    /// How long the server may be silent while we wait for it.
    pub silence: Duration,
}

impl Kind for WebSpec {
    type Shape = Shape;

    const EXAMPLE: &'static str = r#"kind  = "web"
url   = "https://tides.example/tables"
files = ["north.csv", "south.csv"]"#;

    fn resolve(shape: &Shape, at: Range<usize>) -> Checked<Self> {
        let files = shape.files.iter().map(|text| {
            let path = RelPath::parse(text.str()).at(text)?;
            if path.is_root() { Err(text.wrong("a file has a name, as in \"north.csv\"")) } else { Ok(path) }
        });
        let files = files.collect::<Checked<Vec<_>>>()?;
        if files.is_empty() {
            return Err(lacks(&at, "needs files = [\"…\"], the names of what is read there"));
        }
        let sign_in = match (&shape.user, secret(shape.password.as_ref())?) {
            (Some(user), Some(password)) => Some((trimmed(user), password)),
            (None, None) => None,
            _ => return Err(lacks(&at, "needs both user and password, or neither")),
        };
        Ok(Self {
            url: typed_url(shape.url.str()).at(&shape.url)?,
            files,
            sign_in,
            certificate: certificate(shape.certificate.as_ref())?,
            connections: connections(shape.connections, CONNECTIONS),
            silence: silence(shape.timeout.as_ref())?,
        })
    }

    fn address(&self) -> String {
        self.url.clone()
    }

    fn secrets(&self) -> Vec<&SecretName> {
        self.sign_in.iter().map(|(_, secret)| secret).collect()
    }
}
