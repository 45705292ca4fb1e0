//! The certificate that a server shows, which is changed while it serves.

use std::sync::Arc;

use jiff::{SignedDuration, Timestamp};
use parking_lot::RwLock;
use rustls::{
    InconsistentKeys, ServerConfig,
    pki_types::{CertificateDer, PrivateKeyDer, pem::PemObject},
    server::{ClientHello, ResolvesServerCert},
    sign::CertifiedKey,
};
use tokio_rustls::TlsAcceptor;

use crate::{PROVIDER, facts};

/// What is shown.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Shown {
    /// Its fingerprint.
    pub fingerprint: String,
    /// The names and addresses that it is for.
    pub names: Vec<String>,
    /// When it began.
    pub began: Timestamp,
    /// When it ends.
    pub ends: Timestamp,
    /// No authority vouches for it.
    pub is_own: bool,
}

impl Shown {
    /// When it is time for another one: thirty days before it ends, or in the last third of one that is good for less long.
    pub fn renewed(&self) -> Timestamp {
        self.ends - (self.ends.duration_since(self.began) / 3).min(SignedDuration::from_hours(24 * 30))
    }
}

/// Why a certificate and its key cannot be shown.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum Unfit {
    /// There is none.
    #[error("there is no certificate in it (-----BEGIN CERTIFICATE-----)")]
    NoCertificate,
    /// It is none.
    #[error("its certificate cannot be read: {0}")]
    Unreadable(String),
    /// There is no key, or one that needs a passphrase.
    #[error("there is no private key in it, or one that is sealed with a passphrase")]
    NoKey,
    /// It is a key of a kind that nobody uses for this.
    #[error("its private key cannot be used: {0}")]
    BadKey(String),
    /// They do not belong together.
    #[error("the private key is not that of the certificate")]
    Mismatch,
    /// Nobody trusts it any more.
    #[error("the certificate ended at {0}")]
    Ended(Timestamp),
}

#[derive(Debug, Clone)]
struct Now {
    key: Arc<CertifiedKey>,
    shown: Shown,
}

#[derive(Debug)]
struct Held(RwLock<Now>);

impl ResolvesServerCert for Held {
    fn resolve(&self, _: ClientHello<'_>) -> Option<Arc<CertifiedKey>> {
        Some(self.0.read().key.clone())
    }
}

/// A server's side of TLS: 1.2 and 1.3 (RFC 8446).
#[derive(Clone)]
pub struct Served {
    held: Arc<Held>,
    config: Arc<ServerConfig>,
}

impl std::fmt::Debug for Served {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_tuple("Served").field(&self.held.0.read().shown).finish()
    }
}

fn read(chain: &[u8], key: &[u8], now: Timestamp) -> Result<Now, Unfit> {
    let chain = CertificateDer::pem_slice_iter(chain).collect::<Result<Vec<_>, _>>();
    let chain = chain.map_err(|error| Unfit::Unreadable(error.to_string()))?;
    let first = chain.first().ok_or(Unfit::NoCertificate)?;
    let good = facts::good(first).ok_or_else(|| Unfit::Unreadable("it is no X.509 certificate".to_owned()));
    let (began, ends) = good?;
    if ends < now {
        return Err(Unfit::Ended(ends));
    }
    let shown = Shown {
        fingerprint: facts::fingerprint(first),
        names: facts::names(first),
        began,
        ends,
        is_own: facts::is_own(first),
    };
    let key = PrivateKeyDer::from_pem_slice(key).map_err(|_| Unfit::NoKey)?;
    let key = PROVIDER.key_provider.load_private_key(key).map_err(|error| Unfit::BadKey(error.to_string()))?;
    let key = CertifiedKey::new(chain, key);
    match key.keys_match() {
        Ok(()) | Err(rustls::Error::InconsistentKeys(InconsistentKeys::Unknown)) => {}
        Err(rustls::Error::InconsistentKeys(_)) => return Err(Unfit::Mismatch),
        Err(error) => return Err(Unfit::Unreadable(error.to_string())),
    }
    Ok(Now { key: Arc::new(key), shown })
}

impl Served {
    /// Shows this certificate, with those above it, and proves it with this key; both are PEM (RFC 7468).
    ///
    /// # Errors
    ///
    /// If they cannot be shown.
    pub fn new(chain: &[u8], key: &[u8]) -> Result<Self, Unfit> {
        let held = Arc::new(Held(RwLock::new(read(chain, key, Timestamp::now())?)));
        let mut config = ServerConfig::builder_with_provider(PROVIDER.clone())
            .with_protocol_versions(rustls::DEFAULT_VERSIONS)
            .expect("the provider speaks these versions")
            .with_no_client_auth()
            .with_cert_resolver(held.clone());
        config.alpn_protocols = vec![b"http/1.1".to_vec()];
        Ok(Self { held, config: Arc::new(config) })
    }

    /// Shows what the other one shows from now on to whoever connects.
    pub fn show_as(&self, other: &Self) {
        let next = other.held.0.read().clone();
        *self.held.0.write() = next;
    }

    /// What is shown now.
    pub fn shown(&self) -> Shown {
        self.held.0.read().shown.clone()
    }

    /// What takes connections.
    pub fn acceptor(&self) -> TlsAcceptor {
        self.config.clone().into()
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::own;

    #[test]
    fn another_one_is_due_a_month_before_the_end_or_in_the_last_third() {
        for (days, due) in [(397, 367), (90, 60), (6, 4)] {
            let day = |days: i64| Timestamp::UNIX_EPOCH + SignedDuration::from_hours(24 * days);
            let shown =
                Shown { fingerprint: String::new(), names: Vec::new(), began: day(0), ends: day(days), is_own: false };
            assert_eq!(shown.renewed(), day(due), "{days} days");
        }
    }

    #[test]
    fn what_does_not_fit_is_refused_by_its_name() {
        let [one, other] = [(); 2].map(|()| own(&["files.merrow.example".to_owned()], Timestamp::now()).unwrap());
        let served = Served::new(one.0.as_bytes(), one.1.as_bytes()).unwrap();
        let shown = served.shown();
        assert_eq!((shown.names.as_slice(), shown.is_own), (&["files.merrow.example".to_owned()][..], true));
        let (chain, key) = (other.0.as_bytes(), other.1.as_bytes());
        for (chain, key, why) in [
            (chain, one.1.as_bytes(), Unfit::Mismatch),
            (&b"nothing"[..], key, Unfit::NoCertificate),
            (chain, &b"nothing"[..], Unfit::NoKey),
            (&chain[..chain.len() / 2], key, Unfit::NoCertificate),
        ] {
            let refused = Served::new(chain, key).unwrap_err();
            assert!(refused == why || why == Unfit::NoCertificate, "{refused}");
        }
        let long_ago = own(&["files.merrow.example".to_owned()], Timestamp::UNIX_EPOCH).unwrap();
        let ended = Served::new(long_ago.0.as_bytes(), long_ago.1.as_bytes());
        assert!(matches!(ended, Err(Unfit::Ended(_))), "{ended:?}");
        let next = Served::new(chain, key).unwrap();
        served.show_as(&next);
        assert_ne!(shown, next.shown());
        assert_eq!(served.shown(), next.shown());
    }
}
