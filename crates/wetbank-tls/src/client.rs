//! Which certificates a client trusts: those of authorities that this machine trusts, or the very one that was confirmed.

use std::sync::{Arc, LazyLock};

use jiff::Timestamp;
use parking_lot::Mutex;
use rustls::{
    CertificateError, ClientConfig, DigitallySignedStruct, Error, RootCertStore, SignatureScheme,
    SupportedProtocolVersion,
    client::{
        WebPkiServerVerifier,
        danger::{HandshakeSignatureValid, ServerCertVerified, ServerCertVerifier},
    },
    crypto::{verify_tls12_signature, verify_tls13_signature},
    pki_types::{CertificateDer, ServerName, UnixTime},
};

use crate::{PROVIDER, digits, ends, fingerprint};

/// The authorities that this machine trusts.
static AUTHORITIES: LazyLock<Option<Arc<WebPkiServerVerifier>>> = LazyLock::new(|| {
    let mut roots = RootCertStore::empty();
    roots.add_parsable_certificates(rustls_native_certs::load_native_certs().certs);
    WebPkiServerVerifier::builder_with_provider(Arc::new(roots), PROVIDER.clone()).build().ok()
});

/// Why a certificate was refused.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Refusal {
    /// The fingerprint that was shown.
    pub shown: String,
    /// The reason.
    pub why: String,
}

/// What one client trusts, and what it saw last.
#[derive(Debug, Clone)]
pub struct Checker {
    confirmed: Option<Vec<String>>,
    refusal: Arc<Mutex<Option<Refusal>>>,
    end: Arc<Mutex<Option<Timestamp>>>,
}

impl Checker {
    /// With a confirmed fingerprint that certificate alone is trusted, else those of trusted authorities. There may be
    /// several, with spaces between them.
    pub fn new(confirmed: Option<&str>) -> Self {
        let confirmed = confirmed.map(|all| all.split_whitespace().map(str::to_owned).collect());
        Self { confirmed, refusal: Arc::default(), end: Arc::default() }
    }

    /// Why the last one was refused, if it was.
    pub fn refusal(&self) -> Option<Refusal> {
        self.refusal.lock().clone()
    }

    /// When the certificate that was last trusted ends.
    pub fn end(&self) -> Option<Timestamp> {
        *self.end.lock()
    }

    /// How to speak TLS with it, in these versions.
    pub fn config(&self, versions: &[&'static SupportedProtocolVersion]) -> ClientConfig {
        ClientConfig::builder_with_provider(PROVIDER.clone())
            .with_protocol_versions(versions)
            .expect("the provider speaks these versions")
            .dangerous()
            .with_custom_certificate_verifier(Arc::new(self.clone()))
            .with_no_client_auth()
    }
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
            (Some(confirmed), _) if confirmed.iter().any(|one| digits(one) == digits(&shown)) => Ok(()),
            (Some(confirmed), _) => Err(format!("confirmed was {}", confirmed.join(" or "))),
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
                *self.end.lock() = ends(certificate);
                Ok(ServerCertVerified::assertion())
            }
            Err(why) => {
                *refusal = Some(Refusal { shown, why });
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
