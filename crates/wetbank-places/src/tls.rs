//! TLS: a certificate that a trusted authority vouches for, or the very one that was confirmed.

use std::{
    fmt,
    sync::{Arc, LazyLock},
};

use aws_lc_rs::digest::{SHA256, digest};
use jiff::Timestamp;
use parking_lot::Mutex;
use rustls::{
    CertificateError, ClientConfig, DigitallySignedStruct, Error, RootCertStore, SignatureScheme,
    SupportedProtocolVersion,
    client::{
        WebPkiServerVerifier,
        danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier},
    },
    crypto::{CryptoProvider, aws_lc_rs::default_provider, verify_tls12_signature, verify_tls13_signature},
    pki_types::{CertificateDer, ServerName, UnixTime},
};
use tokio::io::{AsyncRead, AsyncWrite};
use wetbank_core::{PlaceName, RelPath};

use crate::{PlaceError, PlaceErrorKind};

static PROVIDER: LazyLock<Arc<CryptoProvider>> = LazyLock::new(|| Arc::new(default_provider()));

/// The authorities that this machine trusts.
static AUTHORITIES: LazyLock<Option<Arc<WebPkiServerVerifier>>> = LazyLock::new(|| {
    let mut roots = RootCertStore::empty();
    roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
    WebPkiServerVerifier::builder_with_provider(Arc::new(roots), PROVIDER.clone()).build().ok()
});

/// The fingerprint of a certificate: `SHA256:AB:CD:…`, the form that `openssl x509` shows.
fn fingerprint(certificate: &CertificateDer<'_>) -> String {
    let parts: Vec<String> =
        digest(&SHA256, certificate.as_ref()).as_ref().iter().map(|byte| format!("{byte:02X}")).collect();
    format!("SHA256:{}", parts.join(":"))
}

/// What counts in a fingerprint, however it was typed.
pub(crate) fn digits(fingerprint: &str) -> String {
    let hex = fingerprint.strip_prefix("SHA256:").unwrap_or(fingerprint);
    hex.chars().filter(char::is_ascii_hexdigit).collect::<String>().to_ascii_uppercase()
}

/// Why a certificate was refused: what was shown, and the reason.
type Refusal = Arc<Mutex<Option<(String, String)>>>;

/// When the certificate that was last trusted ends.
type End = Arc<Mutex<Option<Timestamp>>>;

/// How to speak TLS to one server.
#[derive(Clone)]
pub(crate) struct Tls {
    pub config: Arc<ClientConfig>,
    confirmed: Option<String>,
    refusal: Refusal,
    end: End,
}

/// When a certificate ends, if that can be read.
fn end_of(certificate: &CertificateDer<'_>) -> Option<Timestamp> {
    let (_, parsed) = x509_parser::parse_x509_certificate(certificate.as_ref()).ok()?;
    Timestamp::from_second(parsed.validity().not_after.timestamp()).ok()
}

impl fmt::Debug for Tls {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Tls")
    }
}

fn config(checker: Checker, versions: &[&'static SupportedProtocolVersion]) -> ClientConfig {
    ClientConfig::builder_with_provider(PROVIDER.clone())
        .with_protocol_versions(versions)
        .expect("the provider speaks these versions")
        .dangerous()
        .with_custom_certificate_verifier(Arc::new(checker))
        .with_no_client_auth()
}

impl Tls {
    /// With a confirmed certificate that one alone is trusted, else those of trusted authorities.
    pub fn new(confirmed: Option<&str>) -> Self {
        let (refusal, end) = (Refusal::default(), End::default());
        let confirmed = confirmed.map(str::to_owned);
        let checker = Checker { confirmed: confirmed.clone(), refusal: refusal.clone(), end: end.clone() };
        Self { config: Arc::new(config(checker, rustls::DEFAULT_VERSIONS)), confirmed, refusal, end }
    }

    /// When the certificate that was last trusted ends.
    pub fn end(&self) -> Option<Timestamp> {
        *self.end.lock()
    }

    /// For one control connection of FTP and its data connections. Servers ask that a data
    /// connection resumes the session of its control connection; TLS 1.2 can do that as often as
    /// needed, while the tickets of TLS 1.3 run out. The newer version is only for servers that
    /// refuse the older one.
    pub fn for_ftp(&self, newest: bool) -> Arc<ClientConfig> {
        let versions = if newest { rustls::DEFAULT_VERSIONS } else { &[&rustls::version::TLS12] };
        let Self { confirmed, refusal, end, .. } = self.clone();
        Arc::new(config(Checker { confirmed, refusal, end }, versions))
    }

    /// The error of a connection that broke because its certificate was refused.
    pub fn refused(&self, place: &PlaceName) -> Option<PlaceError> {
        let refusal = self.refusal.lock().clone()?;
        Some(PlaceError {
            kind: PlaceErrorKind::Certificate,
            place: place.clone(),
            call: "trust",
            path: RelPath::root(),
            detail: format!("it shows {}; {}", refusal.0, refusal.1),
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
        self.refusal.lock().as_ref().map(|(shown, _)| shown.clone())
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

#[derive(Debug)]
struct Checker {
    confirmed: Option<String>,
    refusal: Refusal,
    end: End,
}

impl ServerCertVerifier for Checker {
    fn verify_server_cert(
        &self,
        certificate: &CertificateDer<'_>,
        chain: &[CertificateDer<'_>],
        name: &ServerName<'_>,
        ocsp: &[u8],
        now: UnixTime,
    ) -> Result<ServerCertVerified, Error> {
        let shown = fingerprint(certificate);
        let outcome = match (&self.confirmed, &*AUTHORITIES) {
            (Some(confirmed), _) if digits(confirmed) == digits(&shown) => Ok(()),
            (Some(confirmed), _) => Err(format!("confirmed was {confirmed}")),
            (None, Some(authorities)) => match authorities.verify_server_cert(certificate, chain, name, ocsp, now) {
                Ok(_) => Ok(()),
                Err(Error::InvalidCertificate(CertificateError::UnknownIssuer)) => {
                    Err("no authority that this machine trusts vouches for it, and it was not confirmed".to_owned())
                }
                Err(error) => Err(error.to_string()),
            },
            (None, None) => Err("this machine trusts no authority, and it was not confirmed".to_owned()),
        };
        let mut refusal = self.refusal.lock();
        match outcome {
            Ok(()) => {
                *refusal = None;
                *self.end.lock() = end_of(certificate);
                Ok(ServerCertVerified::assertion())
            }
            Err(why) => {
                *refusal = Some((shown, why));
                Err(Error::InvalidCertificate(CertificateError::ApplicationVerificationFailure))
            }
        }
    }

    fn verify_tls12_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls12_signature(message, certificate, signature, &PROVIDER.signature_verification_algorithms)
    }

    fn verify_tls13_signature(
        &self,
        message: &[u8],
        certificate: &CertificateDer<'_>,
        signature: &DigitallySignedStruct,
    ) -> Result<HandshakeSignatureValid, Error> {
        verify_tls13_signature(message, certificate, signature, &PROVIDER.signature_verification_algorithms)
    }

    fn supported_verify_schemes(&self) -> Vec<SignatureScheme> {
        PROVIDER.signature_verification_algorithms.supported_schemes()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_fingerprint_is_the_same_however_it_is_typed() {
        assert_eq!(digits("SHA256:AB:cd:01"), "ABCD01");
        assert_eq!(digits("abcd01"), "ABCD01");
    }
}
