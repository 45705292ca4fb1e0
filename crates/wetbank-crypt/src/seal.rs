//! Encrypting a stream.

use std::{
    io::{Read, Write},
    sync::Arc,
};

use jiff::Timestamp;
use pgp::{
    composed::{ArmorOptions, MessageBuilder, SignedSecretKey},
    crypto::{hash::HashAlgorithm, sym::SymmetricKeyAlgorithm},
    packet::{SecretKey, SecretSubkey},
    types::{Fingerprint, KeyDetails as _, Password, SigningKey, StringToKey},
};
use rand::rngs::OsRng;
use secrecy::{ExposeSecret, SecretString};

use crate::{
    CryptError, PgpKey,
    policy::{self, Usable, Use},
};

/// How a message is to be encrypted.
#[derive(Debug, Default)]
pub struct Sealing<'a> {
    /// Who can read it. Every key is checked before a byte is written.
    pub recipients: Vec<&'a PgpKey>,
    /// A passphrase that opens it too, or alone.
    pub passphrase: Option<&'a SecretString>,
    /// Who signs it.
    pub signer: Option<&'a PgpKey>,
    /// ASCII armour instead of binary.
    pub armour: bool,
    /// The file name told inside the message; may be empty.
    pub file_name: String,
}

/// Encrypts `input` into `output`: AES-256, integrity protected, not compressed (what travels
/// here is often compressed already, and compression costs more time than the line).
pub fn encrypt(input: impl Read, output: impl Write, sealing: &Sealing<'_>, now: Timestamp) -> Result<(), CryptError> {
    let other = |e: pgp::errors::Error| from_pgp(&e);
    let signing = sealing.signer.map(|signer| Signing::of(signer, now)).transpose()?;
    let mut message =
        MessageBuilder::from_reader(sealing.file_name.clone(), input).seipd_v1(OsRng, SymmetricKeyAlgorithm::AES256);
    for key in &sealing.recipients {
        let usable = policy::usable(&key.certificate, Use::Encrypt, now)
            .map_err(|reason| CryptError::Unfit { key: key.name.clone(), reason })?;
        // A partner with several encryption subkeys may hold only one of them where it decrypts.
        for one in usable {
            match one {
                Usable::Primary(primary) => message.encrypt_to_key(OsRng, primary).map_err(other)?,
                Usable::Subkey(subkey) => message.encrypt_to_key(OsRng, subkey).map_err(other)?,
            };
        }
    }
    if let Some(passphrase) = sealing.passphrase {
        let derivation = StringToKey::new_default(OsRng);
        message.encrypt_with_password(derivation, &Password::from(passphrase.expose_secret())).map_err(other)?;
    }
    if let Some(signing) = &signing {
        let key: &dyn SigningKey = match signing.part() {
            Part::Primary(key) => key,
            Part::Subkey(key) => key,
        };
        message.sign(key, Password::empty(), HashAlgorithm::Sha256);
    }
    if sealing.armour {
        message.to_armored_writer(OsRng, ArmorOptions::default(), output).map_err(other)
    } else {
        message.to_writer(OsRng, output).map_err(other)
    }
}

/// An opened key that signs, and with which of its parts.
pub(crate) struct Signing {
    key: Arc<SignedSecretKey>,
    /// The subkey; nothing means the primary key.
    subkey: Option<Fingerprint>,
}

/// A part of a key.
pub(crate) enum Part<'k> {
    Primary(&'k SecretKey),
    Subkey(&'k SecretSubkey),
}

impl Signing {
    /// Opens the part of a key that signs.
    pub fn of(signer: &PgpKey, now: Timestamp) -> Result<Self, CryptError> {
        let unfit = |reason| CryptError::Unfit { key: signer.name.clone(), reason };
        let usable = policy::usable(&signer.certificate, Use::Sign, now).map_err(unfit)?;
        let secret = signer.secret.as_ref().ok_or_else(|| {
            CryptError::Other(format!("the key \"{}\" has no secret part here, so it cannot sign", signer.name))
        })?;
        let there =
            |wanted: &Fingerprint| secret.closed().secret_subkeys.iter().any(|s| s.key.fingerprint() == *wanted);
        let subkey = usable.into_iter().find_map(|one| match one {
            Usable::Primary(_) => Some(None),
            Usable::Subkey(public) => Some(public.key.fingerprint()).filter(there).map(Some),
        });
        let subkey = subkey.ok_or_else(|| unfit(policy::Unfit::NoSuchUse(Use::Sign)))?;
        let opened = secret.opened().map_err(|error| CryptError::Other(error.to_string()))?;
        Ok(Self { key: opened, subkey })
    }

    /// The part, which needs no password.
    pub fn part(&self) -> Part<'_> {
        let wanted = self.subkey.as_ref();
        let subkey = wanted.and_then(|print| self.key.secret_subkeys.iter().find(|s| s.key.fingerprint() == *print));
        subkey.map_or(Part::Primary(&self.key.primary_key), |subkey| Part::Subkey(&subkey.key))
    }
}

/// Tells a failure of the disk from one of the message. The library's own words stay out of
/// messages: they may carry backtraces and detail that a remote sender must not learn.
pub(crate) fn from_pgp(error: &pgp::errors::Error) -> CryptError {
    let mut cause: Option<&(dyn std::error::Error + 'static)> = Some(error);
    while let Some(one) = cause {
        if let Some(io) = one.downcast_ref::<std::io::Error>()
            && (io.raw_os_error().is_some() || io.kind() == std::io::ErrorKind::Interrupted)
        {
            let again = io.raw_os_error().map_or_else(|| io.kind().into(), std::io::Error::from_raw_os_error);
            return CryptError::Io(again);
        }
        cause = one.source();
    }
    CryptError::Other("the key or message was refused by the OpenPGP library".to_owned())
}
