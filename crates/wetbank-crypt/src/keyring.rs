//! OpenPGP keys as we keep them.

use std::{
    sync::Arc,
    time::{Duration, Instant},
};

use jiff::Timestamp;
use parking_lot::Mutex;
use pgp::{
    composed::{
        ArmorOptions, Deserializable as _, EncryptionCaps, KeyType, PublicOrSecret, SecretKeyParamsBuilder,
        SignedPublicKey, SignedSecretKey, SubkeyParamsBuilder,
    },
    crypto::ecc_curve::ECCCurve,
    types::{KeyDetails as _, Password},
};
use secrecy::{ExposeSecret, SecretString};

use crate::{
    merge,
    policy::{self, Unfit, Use},
};

/// A named key: a certificate, and its secret part if it is ours.
#[derive(Debug)]
pub struct PgpKey {
    /// Its name in the book.
    pub name: String,
    /// The public part.
    pub certificate: SignedPublicKey,
    /// The secret part with the passphrase that opens it.
    pub secret: Option<SecretPart>,
}

/// A secret key and what opens it. Its `Debug` shows neither.
pub struct SecretPart {
    key: Arc<SignedSecretKey>,
    passphrase: Option<SecretString>,
    text: SecretString,
    /// The key without its passphrase, while it is in use, and when it was used last. To derive what opens a key
    /// from a passphrase is made hard on purpose: half a second for each part of it.
    open: Mutex<Option<(Instant, Arc<SignedSecretKey>)>>,
}

/// An opened key is forgotten when nobody used it for this time.
pub const KEPT_OPEN: Duration = Duration::from_secs(5 * 60);

impl std::fmt::Debug for SecretPart {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("SecretPart")
    }
}

impl SecretPart {
    fn new(key: SignedSecretKey, passphrase: Option<SecretString>, text: SecretString) -> Self {
        Self { key: Arc::new(key), passphrase, text, open: Mutex::default() }
    }

    /// The key as it is kept: to see what it is for.
    pub(crate) fn closed(&self) -> &SignedSecretKey {
        &self.key
    }

    /// The key without a passphrase. The first use is hard work and belongs on a thread of its own.
    pub(crate) fn opened(&self) -> Result<Arc<SignedSecretKey>, KeyError> {
        let Some(passphrase) = &self.passphrase else { return Ok(self.key.clone()) };
        let mut open = self.open.lock();
        let key = match &*open {
            Some((_, key)) => key.clone(),
            None => Arc::new(without_passphrase(&self.key, &password_of(Some(passphrase)))?),
        };
        *open = Some((Instant::now(), key.clone()));
        Ok(key)
    }

    /// Forgets the opened key if nobody used it lately; its memory is overwritten.
    fn close_unused(&self, now: Instant) {
        let mut open = self.open.lock();
        if open.as_ref().is_some_and(|(used, _)| now.saturating_duration_since(*used) >= KEPT_OPEN) {
            *open = None;
        }
    }
}

fn password_of(passphrase: Option<&SecretString>) -> Password {
    passphrase.map_or_else(Password::empty, |p| Password::from(p.expose_secret()))
}

/// Why a key cannot be imported or read.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum KeyError {
    /// The text holds no key.
    #[error("this is no OpenPGP key: give it as exported, armoured or binary")]
    NotAKey,
    /// The text holds several.
    #[error("this holds {0} keys; import one at a time, so that each gets its own name")]
    Several(usize),
    /// The passphrase does not open the secret key.
    #[error("the passphrase does not open this secret key")]
    WrongPassphrase,
    /// The secret key needs one.
    #[error("this secret key is protected by a passphrase; give it too")]
    NeedsPassphrase,
    /// The text revokes a key, but was kept from doing so by accident.
    #[error(
        "this revokes a key, and a colon before its first dashes keeps it from doing so by accident; remove the colon if you mean it"
    )]
    HeldBack,
    /// The text revokes another key.
    #[error("this revokes another key than \"{0}\"")]
    RevokesAnother(String),
}

/// What the vault keeps of a secret key.
#[derive(serde::Serialize, serde::Deserialize)]
struct Kept {
    armoured: String,
    passphrase: String,
}

impl PgpKey {
    /// Reads one key from an export, armoured or binary. A protected secret key is opened once
    /// to prove the passphrase.
    pub fn import(name: &str, export: &[u8], passphrase: Option<&SecretString>) -> Result<Self, KeyError> {
        let (keys, _) = PublicOrSecret::from_reader_many(export).map_err(|_| KeyError::NotAKey)?;
        let mut keys = keys.collect::<Result<Vec<_>, _>>().map_err(|_| KeyError::NotAKey)?;
        if keys.len() > 1 {
            return Err(KeyError::Several(keys.len()));
        }
        match keys.pop().ok_or(KeyError::NotAKey)? {
            PublicOrSecret::Public(certificate) => Ok(Self { name: name.to_owned(), certificate, secret: None }),
            PublicOrSecret::Secret(key) => {
                let password = password_of(passphrase);
                if !opens(&key, &password) {
                    return Err(if passphrase.is_some() {
                        KeyError::WrongPassphrase
                    } else {
                        KeyError::NeedsPassphrase
                    });
                }
                let armoured = key.to_armored_string(ArmorOptions::default()).map_err(|_| KeyError::NotAKey)?;
                let kept =
                    Kept { armoured, passphrase: passphrase.map(|p| p.expose_secret().to_owned()).unwrap_or_default() };
                let text = serde_json::to_string(&kept).map_err(|_| KeyError::NotAKey)?.into();
                let certificate = key.to_public_key();
                Ok(Self {
                    name: name.to_owned(),
                    certificate,
                    secret: Some(SecretPart::new(key, passphrase.cloned(), text)),
                })
            }
        }
    }

    /// Adds what another copy of the same certificate knows besides; nothing is forgotten.
    pub fn learn(&mut self, other: &Self) {
        merge::merge(&mut self.certificate, other.certificate.clone());
    }

    /// Takes revocations that a file holds by themselves. Answers whether it holds any.
    ///
    /// # Errors
    ///
    /// If it holds some and none of them revokes this key, or they are held back.
    pub fn revoke_by(&mut self, export: &[u8]) -> Result<bool, KeyError> {
        if export.windows(16).any(|bytes| bytes == b":-----BEGIN PGP ") {
            return Err(KeyError::HeldBack);
        }
        let revocations = merge::revocations(export);
        if revocations.is_empty() {
            return Ok(false);
        }
        let primary = &self.certificate.primary_key;
        let own: Vec<_> = revocations.into_iter().filter(|signature| signature.verify_key(primary).is_ok()).collect();
        if own.is_empty() {
            return Err(KeyError::RevokesAnother(self.name.clone()));
        }
        self.certificate.details.revocation_signatures.extend(own);
        Ok(true)
    }

    /// Makes a key of our own: Ed25519 to sign, Curve25519 to encrypt to, readable by everybody
    /// who reads OpenPGP today.
    pub fn generate(name: &str, user: &str) -> Result<Self, KeyError> {
        let refused = |_| KeyError::NotAKey;
        let subkey = SubkeyParamsBuilder::default()
            .key_type(KeyType::ECDH(ECCCurve::Curve25519Legacy))
            .can_encrypt(EncryptionCaps::All)
            .build()
            .map_err(|_| KeyError::NotAKey)?;
        let parameters = SecretKeyParamsBuilder::default()
            .key_type(KeyType::Ed25519Legacy)
            .can_certify(true)
            .can_sign(true)
            .primary_user_id(user.to_owned())
            .subkeys(vec![subkey])
            .build()
            .map_err(|_| KeyError::NotAKey)?;
        let key = parameters.generate(rand::rngs::OsRng).map_err(refused)?;
        let text = key.to_armored_string(ArmorOptions::default()).map_err(refused)?;
        Self::import(name, text.as_bytes(), None)
    }

    /// Reads a key back from what was kept. Nothing is opened: that was proved when it was imported.
    pub fn from_kept(name: &str, certificate: &str, secret: Option<&SecretString>) -> Result<Self, KeyError> {
        let mut key = Self::import(name, certificate.as_bytes(), None)?;
        if let Some(text) = secret {
            let kept: Kept = serde_json::from_str(text.expose_secret()).map_err(|_| KeyError::NotAKey)?;
            let passphrase = (!kept.passphrase.is_empty()).then(|| SecretString::from(kept.passphrase));
            let (secret, _) =
                SignedSecretKey::from_armor_single(kept.armoured.as_bytes()).map_err(|_| KeyError::NotAKey)?;
            key.secret = Some(SecretPart::new(secret, passphrase, text.clone()));
        }
        Ok(key)
    }

    /// Forgets the opened secret part if nobody used it for [`KEPT_OPEN`] at this time.
    pub fn close_unused(&self, now: Instant) {
        if let Some(secret) = &self.secret {
            secret.close_unused(now);
        }
    }

    /// The certificate, armoured: fit to be given to partners.
    pub fn certificate_text(&self) -> Result<String, KeyError> {
        self.certificate.to_armored_string(ArmorOptions::default()).map_err(|_| KeyError::NotAKey)
    }

    /// The secret part, armoured, still under its passphrase. For a deliberate export only.
    pub fn secret_text(&self) -> Option<String> {
        self.secret.as_ref()?.key.to_armored_string(ArmorOptions::default()).ok()
    }

    /// What the vault must keep of the secret part.
    pub fn to_keep(&self) -> Option<&SecretString> {
        self.secret.as_ref().map(|secret| &secret.text)
    }

    /// The fingerprint in upper-case hexadecimal.
    pub fn fingerprint(&self) -> String {
        format!("{:X}", self.certificate.primary_key.fingerprint())
    }

    /// The user ids, as text.
    pub fn users(&self) -> Vec<String> {
        self.certificate.details.users.iter().map(|user| String::from_utf8_lossy(user.id.id()).into_owned()).collect()
    }

    /// Whether it can be used for a purpose now, and until when.
    pub fn fitness(&self, wanted: Use, now: Timestamp) -> Result<Option<Timestamp>, Unfit> {
        policy::usable(&self.certificate, wanted, now)?;
        Ok(policy::expires(&self.certificate, wanted, now))
    }
}

fn without_passphrase(key: &SignedSecretKey, password: &Password) -> Result<SignedSecretKey, KeyError> {
    let mut key = key.clone();
    // A primary part that is kept elsewhere cannot be opened here; its subkeys can.
    let primary = key.primary_key.remove_password(password);
    let mut opened = usize::from(primary.is_ok());
    for subkey in &mut key.secret_subkeys {
        opened += usize::from(subkey.key.remove_password(password).is_ok());
    }
    if opened == 0 { Err(KeyError::WrongPassphrase) } else { Ok(key) }
}

/// Whether a passphrase opens a key: its primary part, and with it all the others, or if that is kept elsewhere
/// (offline), one of its subkeys.
fn opens(key: &SignedSecretKey, password: &Password) -> bool {
    let subkeys = || {
        key.secret_subkeys.iter().map(|sub| sub.key.unlock(password, |_, _| Ok(())).is_ok_and(|opened| opened.is_ok()))
    };
    let primary = key.primary_key.unlock(password, |_, _| Ok(())).is_ok_and(|opened| opened.is_ok());
    if primary { subkeys().all(|opens| opens) } else { subkeys().any(|opens| opens) }
}
