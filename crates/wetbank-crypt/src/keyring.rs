//! OpenPGP keys as we keep them.

use jiff::Timestamp;
use pgp::{
    composed::{
        ArmorOptions, EncryptionCaps, KeyType, PublicOrSecret, SecretKeyParamsBuilder, SignedPublicKey,
        SignedSecretKey, SubkeyParamsBuilder,
    },
    crypto::ecc_curve::ECCCurve,
    types::{KeyDetails as _, Password},
};
use secrecy::{ExposeSecret, SecretString};

use crate::policy::{self, Unfit, Use};

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
    pub(crate) key: SignedSecretKey,
    passphrase: Option<SecretString>,
    text: SecretString,
}

impl std::fmt::Debug for SecretPart {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("SecretPart")
    }
}

impl SecretPart {
    /// What opens the key, for one use by the library.
    pub(crate) fn password(&self) -> Password {
        password_of(self.passphrase.as_ref())
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
                    secret: Some(SecretPart { key, passphrase: passphrase.cloned(), text }),
                })
            }
        }
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

    /// Reads a key back from what was kept.
    pub fn from_kept(name: &str, certificate: &str, secret: Option<&SecretString>) -> Result<Self, KeyError> {
        let mut key = Self::import(name, certificate.as_bytes(), None)?;
        if let Some(text) = secret {
            let kept: Kept = serde_json::from_str(text.expose_secret()).map_err(|_| KeyError::NotAKey)?;
            let passphrase = (!kept.passphrase.is_empty()).then(|| SecretString::from(kept.passphrase));
            key.secret = Self::import(name, kept.armoured.as_bytes(), passphrase.as_ref())?.secret;
        }
        Ok(key)
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

fn opens(key: &SignedSecretKey, password: &Password) -> bool {
    let primary = key.primary_key.unlock(password, |_, _| Ok(())).is_ok();
    // A key whose primary part is kept offline still decrypts with its subkeys.
    primary && key.secret_subkeys.iter().all(|sub| sub.key.unlock(password, |_, _| Ok(())).is_ok())
}
