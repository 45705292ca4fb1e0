//! TLS to a server: a certificate that a trusted authority vouches for, or the very one that was confirmed.

use std::{fmt, sync::Arc};

use jiff::Timestamp;
use rustls::{ClientConfig, pki_types::ServerName};
use tokio::io::{AsyncRead, AsyncWrite};
use wetbank_core::{PlaceName, RelPath};
use wetbank_tls::Checker;

use crate::{PlaceError, PlaceErrorKind};

/// How to speak TLS to one server.
#[derive(Clone)]
pub(crate) struct Tls {
    pub config: Arc<ClientConfig>,
    checker: Checker,
}

impl fmt::Debug for Tls {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Tls")
    }
}

impl Tls {
    /// With a confirmed certificate that one alone is trusted, else those of trusted authorities.
    pub fn new(confirmed: Option<&str>) -> Self {
        let checker = Checker::new(confirmed);
        Self { config: Arc::new(checker.config(rustls::DEFAULT_VERSIONS)), checker }
    }

    /// When the certificate that was last trusted ends.
    pub fn end(&self) -> Option<Timestamp> {
        self.checker.end()
    }

    /// For one control connection of FTP and its data connections. Servers ask that a data
    /// connection resumes the session of its control connection; TLS 1.2 can do that as often as
    /// needed, while the tickets of TLS 1.3 run out. The newer version is only for servers that
    /// refuse the older one.
    pub fn for_ftp(&self, newest: bool) -> Arc<ClientConfig> {
        let versions = if newest { rustls::DEFAULT_VERSIONS } else { &[&rustls::version::TLS12] };
        Arc::new(self.checker.config(versions))
    }

    /// The error of a connection that broke because its certificate was refused.
    pub fn refused(&self, place: &PlaceName) -> Option<PlaceError> {
        let refusal = self.checker.refusal()?;
        Some(PlaceError {
            kind: PlaceErrorKind::Certificate,
            place: place.clone(),
            call: "trust",
            path: RelPath::root(),
            detail: format!("it shows {}; {}", refusal.shown, refusal.why),
            secret: None,
        })
    }

    /// What a failure to secure a connection means; its own words where they say it.
    pub fn told(error: &(dyn std::error::Error + 'static)) -> String {
        let told = error.to_string();
        // What came was no TLS at all.
        if told.contains("InvalidContentType") {
            return "what listens there does not speak TLS; is another port meant, or http:// in place of https://?"
                .to_owned();
        }
        told
    }

    /// The certificate that was shown and refused.
    pub fn shown(&self) -> Option<String> {
        self.checker.refusal().map(|refusal| refusal.shown)
    }

    /// One that trusts nothing and so only looks.
    pub fn only_looking() -> Self {
        Self::new(Some("nothing"))
    }

    /// Speaks TLS over a connection.
    pub async fn connect<S: AsyncRead + AsyncWrite + Unpin>(
        &self,
        host: &str,
        stream: S,
    ) -> std::io::Result<tokio_rustls::client::TlsStream<S>> {
        let name = ServerName::try_from(host.to_owned()).map_err(std::io::Error::other)?;
        tokio_rustls::TlsConnector::from(self.config.clone()).connect(name, stream).await
    }
}
