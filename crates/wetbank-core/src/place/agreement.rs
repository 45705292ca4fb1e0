//! Signing in by agreeing on a page of an authorization server (OAuth 2.0).

use schemars::JsonSchema;
use serde::Deserialize;

use crate::{
    Name, SecretName,
    shape::{At, Checked, SecretRef, Text, holds, secret},
    typed_url,
};

/// What a person agrees to with an authorization server (OAuth 2.0).
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "Agreement")]
pub(super) struct AgreementShape {
    /// The authorization server, as in `https://drive.merrow.example`; it tells its own addresses.
    #[schemars(title = "Who is asked")]
    server: Text<holds::Url>,
    /// The name under which Wetbank is registered there.
    #[schemars(title = "Registered as")]
    client: Text,
    /// The secret that goes with the name, where it has one.
    #[schemars(title = "Secret of the name")]
    client_secret: Option<SecretRef>,
    /// What it is to be allowed to do, in that server's words, as in `files.read`.
    #[serde(default)]
    #[schemars(title = "Rights")]
    rights: Vec<Text>,
    /// Where what comes of it is kept; it is renewed by itself.
    #[schemars(title = "Kept as")]
    grant: SecretRef,
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

impl AgreementShape {
    pub fn resolve(&self) -> Checked<AgreedSpec> {
        let rights: Vec<String> = self.rights.iter().map(|right| right.str().trim().to_owned()).collect();
        if let Some((text, _)) = self.rights.iter().zip(&rights).find(|(_, right)| !is_right(right)) {
            return Err(text.wrong(format!("\"{}\" is no right: it is one word without blanks or quotes", text.str())));
        }
        Ok(AgreedSpec {
            server: typed_url(self.server.str()).at(&self.server)?,
            client: self.client.str().trim().to_owned(),
            client_secret: secret(self.client_secret.as_ref())?,
            rights,
            grant: Name::new(self.grant.secret.str()).at(&self.grant.secret)?,
        })
    }
}

/// Whether a text is one scope (RFC 6749, section 3.3).
fn is_right(text: &str) -> bool {
    !text.is_empty() && text.bytes().all(|b| b.is_ascii_graphic() && b != b'"' && b != b'\\')
}
