//! Signatures that lie beside what they are about (RFC 9580, section 10.4).

use std::io::{self, Read};

use jiff::Timestamp;
use pgp::{
    composed::{ArmorOptions, Deserializable, DetachedSignature},
    crypto::hash::HashAlgorithm,
    ser::Serialize,
    types::Password,
};
use rand::rngs::OsRng;

use crate::{
    CryptError, PgpKey,
    open::issued,
    policy::{self, Usable, Use},
    seal::{Part, Signing, from_pgp},
};

/// Signatures of one file at most.
const MOST: usize = 32;

/// Signs what is read. Answers the signature, in ASCII armour or binary.
///
/// # Errors
///
/// `Unfit` if the key must not sign.
pub fn sign_detached(input: impl Read, signer: &PgpKey, armour: bool, now: Timestamp) -> Result<Vec<u8>, CryptError> {
    let other = |e: pgp::errors::Error| from_pgp(&e);
    let signing = Signing::of(signer, now)?;
    let (hash, password) = (HashAlgorithm::Sha256, Password::empty());
    let signature = match signing.part() {
        Part::Primary(key) => DetachedSignature::sign_binary_data(OsRng, key, &password, hash, input),
        Part::Subkey(key) => DetachedSignature::sign_binary_data(OsRng, key, &password, hash, input),
    };
    let signature = signature.map_err(other)?;
    if armour {
        return signature.to_armored_bytes(ArmorOptions::default()).map_err(other);
    }
    let mut bytes = Vec::new();
    signature.to_writer(&mut bytes).map_err(other)?;
    Ok(bytes)
}

/// Checks signatures against what `open` reads, which is read once for each signature of a wanted key.
/// Answers the names of the keys whose signatures hold; there is at least one.
///
/// # Errors
///
/// `Damaged` if this is no signature; `Signature` if none of a wanted key holds, or one of them is wrong.
pub fn verify_detached<R: Read>(
    mut open: impl FnMut() -> io::Result<R>,
    signatures: &[u8],
    wanted: &[&PgpKey],
    now: Timestamp,
) -> Result<Vec<String>, CryptError> {
    let (list, _) = DetachedSignature::from_reader_many(signatures).map_err(|_| CryptError::Damaged)?;
    let list: Vec<DetachedSignature> = list.take(MOST).collect::<Result<_, _>>().map_err(|_| CryptError::Damaged)?;
    if list.is_empty() {
        return Err(CryptError::Damaged);
    }
    let mut holding = Vec::new();
    for signature in list.iter().map(|one| &one.signature) {
        let Some(signer) = wanted.iter().find(|key| issued(key, signature)) else { continue };
        let refused = |why: String| CryptError::Signature(format!("by \"{}\": {why}", signer.name));
        policy::signature_is_fit(signature, now).map_err(refused)?;
        let keys = policy::usable(&signer.certificate, Use::Sign, policy::signed_at(signature))
            .and_then(|_| policy::usable(&signer.certificate, Use::Sign, now))
            .map_err(|reason| CryptError::Unfit { key: signer.name.clone(), reason })?;
        let mut holds = false;
        for key in keys {
            let mut watched = Watched { input: open()?, failed: None };
            holds |= match &key {
                Usable::Primary(primary) => signature.verify(*primary, &mut watched).is_ok(),
                Usable::Subkey(subkey) => signature.verify(&subkey.key, &mut watched).is_ok(),
            };
            if let Some(error) = watched.failed {
                return Err(error.into());
            }
            if holds {
                break;
            }
        }
        if !holds {
            return Err(refused("it does not belong to this content".to_owned()));
        }
        holding.push(signer.name.clone());
    }
    if holding.is_empty() {
        let names: Vec<_> = wanted.iter().map(|key| key.name.as_str()).collect();
        return Err(CryptError::Signature(format!("no valid one by {}", names.join(" or "))));
    }
    Ok(holding)
}

/// Input that tells a failure of its own from a signature that does not hold.
struct Watched<R> {
    input: R,
    failed: Option<io::Error>,
}

impl<R: Read> Read for Watched<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        self.input.read(buffer).map_err(|error| {
            let again = io::Error::new(error.kind(), error.to_string());
            self.failed = Some(error);
            again
        })
    }
}
