//! The kind of place `webdav`.

use std::{ops::Range, time::Duration};

use schemars::JsonSchema;
use serde::Deserialize;

use super::{
    AgreedSpec, Kind,
    agreement::AgreementShape,
    connection::{REQUESTS, certificate, connections, lacks, silence, trimmed},
};
use crate::{
    SecretName,
    shape::{At, Checked, SecretRef, Text, holds, secret},
    typed_url,
};

/// A folder on a web server or cloud drive (WebDAV).
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(
    title = "A WebDAV folder",
    extend("dependentRequired" = { "user": ["password"], "password": ["user"] })
)]
pub(crate) struct Shape {
    /// As in `https://cloud.merrow.example/dav/office`; https unless http:// is written.
    #[schemars(title = "Address")]
    url: Text<holds::Url>,
    /// The name one signs in with there.
    #[schemars(title = "User")]
    user: Option<Text>,
    /// The password.
    #[schemars(title = "Password")]
    password: Option<SecretRef>,
    /// In place of user and password: signing in by agreeing on the server's own page (OAuth 2.0).
    #[schemars(title = "Sign-in by agreeing")]
    agreement: Option<AgreementShape>,
    /// What the server proves itself with, only where no trusted authority vouches for it. It is written when it is
    /// confirmed, and then the only one that is trusted.
    #[schemars(title = "Certificate", extend("seldom" = true))]
    certificate: Option<Text<holds::Fingerprint>>,
    /// Requests at once, at most.
    #[schemars(title = "Connections", extend("default" = REQUESTS), extend("seldom" = true))]
    connections: Option<u8>,
    /// How long the server may be silent.
    #[schemars(title = "Time-out", extend("default" = "30s"), extend("seldom" = true))]
    timeout: Option<Text<holds::Duration>>,
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

impl Kind for WebdavSpec {
    type Shape = Shape;

    const EXAMPLE: &'static str = r#"kind     = "webdav"
url      = "https://cloud.merrow.example/dav/office"
user     = "merrow"
password = { secret = "cloud" }"#;

    fn resolve(shape: &Shape, at: Range<usize>) -> Checked<Self> {
        let password = secret(shape.password.as_ref())?;
        let sign_in = match (&shape.user, password, &shape.agreement) {
            (Some(user), Some(password), None) => WebSignIn::Password(trimmed(user), password),
            (None, None, Some(agreement)) => WebSignIn::Agreed(agreement.resolve()?),
            (None, None, None) => WebSignIn::Open,
            _ => return Err(lacks(&at, "needs either both user and password, or an agreement, or none of them")),
        };
        Ok(Self {
            url: typed_url(shape.url.str()).at(&shape.url)?,
            sign_in,
            certificate: certificate(shape.certificate.as_ref())?,
            connections: connections(shape.connections, REQUESTS),
            silence: silence(shape.timeout.as_ref())?,
        })
    }

    fn address(&self) -> String {
        self.url.clone()
    }

    fn secrets(&self) -> Vec<&SecretName> {
        match &self.sign_in {
            WebSignIn::Open => Vec::new(),
            WebSignIn::Password(_, secret) => vec![secret],
            WebSignIn::Agreed(agreed) => std::iter::once(&agreed.grant).chain(agreed.client_secret.as_ref()).collect(),
        }
    }

    fn agreed(&self) -> Option<&AgreedSpec> {
        match &self.sign_in {
            WebSignIn::Agreed(agreed) => Some(agreed),
            WebSignIn::Open | WebSignIn::Password(..) => None,
        }
    }
}
