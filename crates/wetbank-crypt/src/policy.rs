//! Which keys may be used, and why not.
//!
//! RFC 9580 section 5.2.3 in what matters here: the newest valid self-signature speaks for a
//! key; revocations are final; a subkey needs a valid binding, a signing subkey also a back
//! signature; flags say what a key is for; expiry counts from the key's creation.

use std::fmt;

use jiff::Timestamp;
use pgp::{
    composed::{SignedPublicKey, SignedPublicSubKey},
    crypto::hash::HashAlgorithm,
    packet::{Signature, SignatureType},
    types::{KeyDetails as _, PublicParams, Tag},
};

/// RSA keys under this many bits are no longer fit for anything.
const SHORTEST_RSA: usize = 2048;

/// Why a key may not be used.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Unfit {
    /// Its owner revoked it.
    Revoked,
    /// It ended on this date.
    Expired(Timestamp),
    /// It has no valid signature by itself.
    Unbound,
    /// It has no (sub)key for this purpose.
    NoSuchUse(Use),
    /// Its algorithm or length is too weak.
    Weak,
    /// It was made at a time that is still to come.
    Future,
}

/// What a key is wanted for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Use {
    /// Encrypting to it.
    Encrypt,
    /// Signing with it, or verifying what it signed.
    Sign,
}

impl fmt::Display for Unfit {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Revoked => f.write_str("its owner revoked it; ask for the new key and import it"),
            Self::Expired(on) => {
                write!(f, "it expired on {}; ask for the renewed key and import it", on.strftime("%-d %B %Y"))
            }
            Self::Unbound => f.write_str("it carries no valid signature by its owner"),
            Self::NoSuchUse(Use::Encrypt) => f.write_str("it is not meant for encryption"),
            Self::NoSuchUse(Use::Sign) => f.write_str("it is not meant for signing"),
            Self::Weak => f.write_str("its algorithm or length is too weak"),
            Self::Future => f.write_str("it is dated in the future; check the clocks"),
        }
    }
}

fn time(at: pgp::types::Timestamp) -> Timestamp {
    Timestamp::from_second(i64::from(at.as_secs())).unwrap_or(Timestamp::MAX)
}

fn made(signature: &Signature) -> Timestamp {
    signature.created().map_or(Timestamp::UNIX_EPOCH, time)
}

/// The newest of these signatures that is not from the future, not itself expired and has a
/// hash we trust; `check` proves the mathematics.
fn newest<'s>(
    signatures: impl Iterator<Item = &'s Signature>,
    now: Timestamp,
    check: impl Fn(&Signature) -> bool,
) -> Option<&'s Signature> {
    signatures
        .filter(|s| made(s) <= now && !ended(made(s), s.signature_expiration_time(), now) && check(s))
        .max_by_key(|s| made(s))
}

fn ended(start: Timestamp, validity: Option<pgp::types::Duration>, now: Timestamp) -> bool {
    end_of(start, validity).is_some_and(|end| now >= end)
}

fn end_of(start: Timestamp, validity: Option<pgp::types::Duration>) -> Option<Timestamp> {
    let validity = std::time::Duration::from(validity?);
    // Zero means that it never ends (section 5.2.3.13).
    if validity.is_zero() { None } else { start.checked_add(validity).ok() }
}

fn hash_is_fit(hash: Option<HashAlgorithm>) -> bool {
    matches!(
        hash,
        Some(
            HashAlgorithm::Sha256
                | HashAlgorithm::Sha384
                | HashAlgorithm::Sha512
                | HashAlgorithm::Sha224
                | HashAlgorithm::Sha3_256
                | HashAlgorithm::Sha3_512
        )
    )
}

fn weak(params: &PublicParams) -> bool {
    use rsa::traits::PublicKeyParts;
    match params {
        PublicParams::RSA(rsa) => rsa.key.size() * 8 < SHORTEST_RSA,
        PublicParams::DSA(_) | PublicParams::Elgamal(_) | PublicParams::Unknown { .. } => true,
        _ => false,
    }
}

/// The self-signature that speaks for the primary key now.
fn self_signature(certificate: &SignedPublicKey, now: Timestamp) -> Option<&Signature> {
    let primary = &certificate.primary_key;
    let direct = newest(certificate.details.direct_signatures.iter(), now, |s| s.verify_key(primary).is_ok());
    let users = certificate.details.users.iter().filter_map(|user| {
        let verify = |s: &Signature| s.verify_certification(primary, Tag::UserId, &user.id).is_ok();
        let own = newest(user.signatures.iter().filter(|s| s.is_certification()), now, verify)?;
        let revoked = user
            .signatures
            .iter()
            .any(|s| s.typ() == Some(SignatureType::CertRevocation) && made(s) >= made(own) && verify(s));
        (!revoked).then_some(own)
    });
    users.chain(direct).max_by_key(|s| made(s))
}

/// Checks the certificate as a whole and gives the signature that speaks for it.
fn standing(certificate: &SignedPublicKey, now: Timestamp) -> Result<&Signature, Unfit> {
    let primary = &certificate.primary_key;
    if certificate.details.revocation_signatures.iter().any(|s| s.verify_key(primary).is_ok()) {
        return Err(Unfit::Revoked);
    }
    if time(primary.created_at()) > now {
        return Err(Unfit::Future);
    }
    let own = self_signature(certificate, now).ok_or(Unfit::Unbound)?;
    if !hash_is_fit(own.hash_alg()) {
        return Err(Unfit::Weak);
    }
    match end_of(time(primary.created_at()), own.key_expiration_time()) {
        Some(end) if now >= end => Err(Unfit::Expired(end)),
        _ => Ok(own),
    }
}

fn has_use(signature: &Signature, wanted: Use) -> bool {
    let flags = signature.key_flags();
    match wanted {
        Use::Encrypt => flags.encrypt_comms() || flags.encrypt_storage(),
        Use::Sign => flags.sign(),
    }
}

/// Checks one subkey and says why not.
fn subkey(
    certificate: &SignedPublicKey,
    subkey: &SignedPublicSubKey,
    wanted: Use,
    now: Timestamp,
) -> Result<(), Unfit> {
    let primary = &certificate.primary_key;
    let bound = |s: &Signature| s.verify_subkey_binding(primary, &subkey.key).is_ok();
    let bindings = subkey.signatures.iter().filter(|s| s.typ() == Some(SignatureType::SubkeyBinding));
    let binding = newest(bindings, now, bound).ok_or(Unfit::Unbound)?;
    if !has_use(binding, wanted) {
        return Err(Unfit::NoSuchUse(wanted));
    }
    if subkey.signatures.iter().any(|s| s.typ() == Some(SignatureType::SubkeyRevocation) && bound(s)) {
        return Err(Unfit::Revoked);
    }
    if wanted == Use::Sign {
        let back = binding.embedded_signature().ok_or(Unfit::Unbound)?;
        back.verify_primary_key_binding(&subkey.key, primary).map_err(|_| Unfit::Unbound)?;
    }
    let algorithm = subkey.key.algorithm();
    let able = if wanted == Use::Encrypt { algorithm.can_encrypt() } else { algorithm.can_sign() };
    if !able || weak(subkey.key.public_params()) || !hash_is_fit(binding.hash_alg()) {
        return Err(Unfit::Weak);
    }
    match end_of(time(subkey.key.created_at()), binding.key_expiration_time()) {
        Some(end) if now >= end => Err(Unfit::Expired(end)),
        _ => Ok(()),
    }
}

/// A (sub)key that may be used.
#[derive(Debug, Clone, Copy)]
pub enum Usable<'c> {
    /// The primary key itself.
    Primary(&'c pgp::packet::PublicKey),
    /// One of its subkeys.
    Subkey(&'c SignedPublicSubKey),
}

/// Every (sub)key of a certificate that may be used for a purpose now; at least one, or why not.
pub fn usable(certificate: &SignedPublicKey, wanted: Use, now: Timestamp) -> Result<Vec<Usable<'_>>, Unfit> {
    let own = standing(certificate, now)?;
    let mut usable = Vec::new();
    let mut reason = Unfit::NoSuchUse(wanted);
    for one in &certificate.public_subkeys {
        match subkey(certificate, one, wanted, now) {
            Ok(()) => usable.push(Usable::Subkey(one)),
            // "Revoked" or "expired" of a fitting subkey says more than "none is meant for it".
            Err(Unfit::NoSuchUse(_)) => {}
            Err(why) => reason = why,
        }
    }
    let primary = &certificate.primary_key;
    let algorithm = primary.algorithm();
    let able = if wanted == Use::Encrypt { algorithm.can_encrypt() } else { algorithm.can_sign() };
    if able && has_use(own, wanted) {
        if weak(primary.public_params()) {
            reason = Unfit::Weak;
        } else {
            usable.push(Usable::Primary(primary));
        }
    }
    if usable.is_empty() { Err(reason) } else { Ok(usable) }
}

/// When the certificate or its last key for a purpose ends, if it ever does.
pub fn expires(certificate: &SignedPublicKey, wanted: Use, now: Timestamp) -> Option<Timestamp> {
    let own = self_signature(certificate, now)?;
    let whole = end_of(time(certificate.primary_key.created_at()), own.key_expiration_time());
    let last = usable(certificate, wanted, now)
        .ok()?
        .into_iter()
        .map(|key| match key {
            Usable::Primary(_) => whole,
            Usable::Subkey(one) => one
                .signatures
                .iter()
                .filter(|s| s.typ() == Some(SignatureType::SubkeyBinding))
                .max_by_key(|s| made(s))
                .and_then(|s| end_of(time(one.key.created_at()), s.key_expiration_time())),
        })
        .max_by_key(|end| end.unwrap_or(Timestamp::MAX))?;
    match (whole, last) {
        (Some(a), Some(b)) => Some(a.min(b)),
        (a, b) => a.or(b),
    }
}

/// Checks a data signature's own attributes: hash, type, age.
pub(crate) fn signature_is_fit(signature: &Signature, now: Timestamp) -> Result<(), String> {
    if !hash_is_fit(signature.hash_alg()) {
        return Err("it uses a hash that is no longer safe".to_owned());
    }
    if !matches!(signature.typ(), Some(SignatureType::Binary | SignatureType::Text)) {
        return Err("it is no signature of a document".to_owned());
    }
    if ended(made(signature), signature.signature_expiration_time(), now) {
        return Err("it has expired".to_owned());
    }
    if made(signature) > now {
        return Err("it is dated in the future; check the clocks".to_owned());
    }
    Ok(())
}

/// When a signature was made.
pub(crate) fn signed_at(signature: &Signature) -> Timestamp {
    made(signature)
}
