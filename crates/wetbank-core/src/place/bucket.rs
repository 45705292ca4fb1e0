//! The kind of place `bucket`.

use std::{ops::Range, time::Duration};

use schemars::JsonSchema;
use serde::Deserialize;

use super::{
    Kind,
    connection::{REQUESTS, certificate, connections, lacks, silence, trimmed},
};
use crate::{
    SecretName,
    shape::{At, Checked, SecretRef, Text, holds, secret},
    typed_folder, typed_url,
};

/// A bucket in an object store that speaks the S3 REST API.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(
    title = "A bucket",
    extend("dependentRequired" = { "access-key": ["secret-key"], "secret-key": ["access-key"] })
)]
pub(crate) struct Shape {
    /// Of the store, without the bucket, as in `https://objects.tidewatch.example`.
    #[schemars(title = "Address")]
    url: Text<holds::Url>,
    /// Its name, as in `survey`.
    #[schemars(title = "Bucket")]
    bucket: Text,
    /// As its operator calls it; most stores of one's own need none.
    #[schemars(title = "Region", extend("default" = REGION), extend("seldom" = true))]
    region: Option<Text>,
    /// How the bucket's name stands in an address.
    #[schemars(title = "Addressing", extend("default" = "path"), extend("seldom" = true))]
    addressing: Option<BucketAddressing>,
    /// The key's public half; left out, with the secret key, if the store asks for none.
    #[schemars(title = "Access key")]
    access_key: Option<Text>,
    /// The key's secret half.
    #[schemars(title = "Secret key")]
    secret_key: Option<SecretRef>,
    /// What the server proves itself with, only where no trusted authority vouches for it. It is written when it is
    /// confirmed, and then the only one that is trusted.
    #[schemars(title = "Certificate", extend("seldom" = true))]
    certificate: Option<Text<holds::Fingerprint>>,
    /// What the names of all its objects begin with; the whole bucket if it is left out.
    #[schemars(title = "Folder")]
    root: Option<Text>,
    /// Requests at once, at most.
    #[schemars(title = "Connections", extend("default" = REQUESTS), extend("seldom" = true))]
    connections: Option<u8>,
    /// How long the server may be silent.
    #[schemars(title = "Time-out", extend("default" = "30s"), extend("seldom" = true))]
    timeout: Option<Text<holds::Duration>>,
}

/// The region that object stores without regions answer to.
const REGION: &str = "us-east-1";

/// How a bucket's name stands in an address.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
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

impl BucketSpec {
    /// The address of the bucket.
    pub fn server(&self) -> String {
        match (self.addressing, self.url.split_once("://")) {
            (BucketAddressing::Host, Some((scheme, rest))) => format!("{scheme}://{}.{rest}", self.bucket),
            _ => format!("{}/{}", self.url, self.bucket),
        }
    }
}

impl Kind for BucketSpec {
    type Shape = Shape;

    const EXAMPLE: &'static str = r#"kind       = "bucket"
url        = "https://objects.tidewatch.example"
bucket     = "survey"
access-key = "merrow"
secret-key = { secret = "tidewatch-archive-secret-key" }
root       = "2026/merrow""#;

    fn resolve(shape: &Shape, at: Range<usize>) -> Checked<Self> {
        let name = shape.bucket.str().trim().trim_matches('/');
        if name.is_empty() || !name.bytes().all(|b| b.is_ascii_alphanumeric() || b"-._".contains(&b)) {
            let words =
                format!("\"{}\" is no bucket's name: it has letters, digits, - . and _ only", shape.bucket.str());
            return Err(shape.bucket.wrong(words));
        }
        let sign_in = match (&shape.access_key, secret(shape.secret_key.as_ref())?) {
            (Some(access), Some(secret)) => Some((trimmed(access), secret)),
            (None, None) => None,
            _ => return Err(lacks(&at, "needs both access-key and secret-key, or neither")),
        };
        let root = shape.root.as_ref().map(|root| typed_folder(root.str())).unwrap_or_default();
        Ok(Self {
            url: typed_url(shape.url.str()).at(&shape.url)?,
            bucket: name.to_owned(),
            region: shape.region.as_ref().map_or_else(|| REGION.to_owned(), trimmed),
            addressing: shape.addressing.unwrap_or(BucketAddressing::Path),
            sign_in,
            root: root.trim_matches('/').to_owned(),
            certificate: certificate(shape.certificate.as_ref())?,
            connections: connections(shape.connections, REQUESTS),
            silence: silence(shape.timeout.as_ref())?,
        })
    }

    fn address(&self) -> String {
        if self.root.is_empty() { self.server() } else { format!("{}/{}", self.server(), self.root) }
    }

    fn secrets(&self) -> Vec<&SecretName> {
        self.sign_in.iter().map(|(_, secret)| secret).collect()
    }
}
