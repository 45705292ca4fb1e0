//! Keys, signatures and encryption ([MS-SMB2], sections 3.1.4 and 3.1.5).

use std::{
    fmt,
    sync::atomic::{AtomicU64, Ordering},
};

use aws_lc_rs::{
    aead::{AES_128_GCM, AES_256_GCM, Aad, LessSafeKey, NONCE_LEN, Nonce, UnboundKey},
    cmac,
    digest::{Context, SHA512},
    hmac,
};

use crate::{
    Malformed,
    message::{Dialect, HEADER},
    wire::{Fields, Writer},
};

const SIGNATURE: std::ops::Range<usize> = 48..64;
/// The header in front of what is encrypted (section 2.2.41).
pub(crate) const SEALED_HEADER: usize = 52;
const SEALED_MARK: &[u8; 4] = b"\xfdSMB";

/// Ways to sign (section 2.2.3.1.7).
pub(crate) const SIGN_CMAC: u16 = 1;
pub(crate) const SIGN_GMAC: u16 = 2;
/// Ways to encrypt (section 2.2.3.1.2).
pub(crate) const AES_128: u16 = 2;
pub(crate) const AES_256: u16 = 4;

/// The running hash over everything that was said before the keys stood (section 3.1.4.4.1).
#[derive(Clone)]
pub(crate) struct Said([u8; 64]);

impl Default for Said {
    fn default() -> Self {
        Self([0; 64])
    }
}

impl Said {
    pub fn add(&mut self, message: &[u8]) {
        let mut hash = Context::new(&SHA512);
        hash.update(&self.0);
        hash.update(message);
        self.0.copy_from_slice(hash.finish().as_ref());
    }
}

/// Derives a key (NIST SP 800-108 in counter mode; section 3.1.4.2). The label ends with a zero.
fn derive(key: &[u8; 16], label: &[u8], context: &[u8], length: usize) -> Vec<u8> {
    let bits = u32::try_from(length * 8).expect("a key's length");
    let message = [&1_u32.to_be_bytes(), label, &[0], context, &bits.to_be_bytes()].concat();
    hmac::sign(&hmac::Key::new(hmac::HMAC_SHA256, key), &message).as_ref()[..length].to_vec()
}

enum Signing {
    Hmac(Box<hmac::Key>),
    Cmac(cmac::Key),
    Gmac(Box<LessSafeKey>),
}

struct Sealing {
    ours: LessSafeKey,
    theirs: LessSafeKey,
    /// A nonce is never used twice with one key.
    next: AtomicU64,
}

/// What protects the messages of a session.
pub(crate) struct Keys {
    signing: Signing,
    sealing: Option<Sealing>,
}

impl fmt::Debug for Keys {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Keys")
    }
}

fn aead(key: &[u8]) -> LessSafeKey {
    let algorithm = if key.len() == 16 { &AES_128_GCM } else { &AES_256_GCM };
    LessSafeKey::new(UnboundKey::new(algorithm, key).expect("a key of the algorithm's length"))
}

fn cmac_key(key: &[u8]) -> Signing {
    Signing::Cmac(cmac::Key::new(cmac::AES_128, key).expect("a key of 16 bytes"))
}

/// The nonce of a signature: the message's number, and whether a server or a cancelling speaks.
fn signature_nonce(message: &[u8]) -> Result<Nonce, Malformed> {
    let is_answer = message.u32_at(16)? & 1;
    let mut nonce = [0; NONCE_LEN];
    nonce[..8].copy_from_slice(&message.u64_at(24)?.to_le_bytes());
    nonce[8..].copy_from_slice(&is_answer.to_le_bytes());
    Ok(Nonce::assume_unique_for_key(nonce))
}

impl Keys {
    /// The keys of a session in a dialect.
    pub fn new(session: &[u8; 16], dialect: Dialect, signing: u16, cipher: Option<u16>, said: &Said) -> Self {
        let said = &said.0;
        match dialect {
            Dialect::Smb21 => {
                Self { signing: Signing::Hmac(Box::new(hmac::Key::new(hmac::HMAC_SHA256, session))), sealing: None }
            }
            Dialect::Smb30 => {
                let key = derive(session, b"SMB2AESCMAC\0", b"SmbSign\0", 16);
                Self { signing: cmac_key(&key), sealing: None }
            }
            Dialect::Smb311 => {
                let key = derive(session, b"SMBSigningKey\0", said, 16);
                let signing = match signing {
                    SIGN_GMAC => Signing::Gmac(Box::new(aead(&key))),
                    _ => cmac_key(&key),
                };
                let sealing = cipher.map(|cipher| {
                    let length = if cipher == AES_256 { 32 } else { 16 };
                    Sealing {
                        ours: aead(&derive(session, b"SMBC2SCipherKey\0", said, length)),
                        theirs: aead(&derive(session, b"SMBS2CCipherKey\0", said, length)),
                        next: AtomicU64::new(1),
                    }
                });
                Self { signing, sealing }
            }
        }
    }

    pub fn can_seal(&self) -> bool {
        self.sealing.is_some()
    }

    /// Signs a message whose signature is still zero.
    pub fn sign(&self, message: &mut [u8]) {
        let tag: [u8; 16] = match &self.signing {
            Signing::Hmac(key) => hmac::sign(key, message).as_ref()[..16].try_into().expect("16 bytes"),
            Signing::Cmac(key) => cmac::sign(key, message).expect("AES works").as_ref().try_into().expect("16 bytes"),
            Signing::Gmac(key) => {
                let nonce = signature_nonce(message).expect("a whole header");
                let tag = key.seal_in_place_separate_tag(nonce, Aad::from(&*message), &mut []);
                tag.expect("AES works").as_ref().try_into().expect("16 bytes")
            }
        };
        message[SIGNATURE].copy_from_slice(&tag);
    }

    /// Whether a message is truly the server's. Its signature is zero afterwards.
    pub fn is_signed(&self, message: &mut [u8]) -> Result<bool, Malformed> {
        let tag: [u8; 16] = message.array_at(SIGNATURE.start)?;
        message[SIGNATURE].fill(0);
        Ok(match &self.signing {
            // The tag is cut to half of its length, which the library does not verify.
            Signing::Hmac(key) => {
                let right = hmac::sign(key, message);
                aws_lc_rs::constant_time::verify_slices_are_equal(&right.as_ref()[..16], &tag).is_ok()
            }
            Signing::Cmac(key) => cmac::verify(key, message, &tag).is_ok(),
            Signing::Gmac(key) => {
                let nonce = signature_nonce(message)?;
                key.open_in_place_separate_tag(nonce, Aad::from(&*message), &tag, &mut []).is_ok()
            }
        })
    }

    /// Encrypts a message; in front of it there is room for the header.
    pub fn seal(&self, room_and_message: &mut [u8], session: u64) {
        let sealing = self.sealing.as_ref().expect("asked only where there are keys");
        let (room, message) = room_and_message.split_at_mut(SEALED_HEADER);
        let mut nonce = [0; 16];
        nonce[..8].copy_from_slice(&sealing.next.fetch_add(1, Ordering::Relaxed).to_le_bytes());
        let length = u32::try_from(message.len()).expect("messages are short");
        let header = Writer::default().raw(SEALED_MARK).zeros(16).raw(&nonce).u32(length).u16(0).u16(1).u64(session).0;
        room.copy_from_slice(&header);
        let unique = Nonce::assume_unique_for_key(nonce[..NONCE_LEN].try_into().expect("as long"));
        let tag = sealing.ours.seal_in_place_separate_tag(unique, Aad::from(&header[20..]), message);
        room[4..20].copy_from_slice(tag.expect("AES works").as_ref());
    }

    /// Decrypts a message in place, behind its header; nothing if it is not truly the server's.
    pub fn open(&self, sealed: &mut [u8]) -> Result<bool, Malformed> {
        let Some(sealing) = &self.sealing else { return Ok(false) };
        if sealed.len() < SEALED_HEADER + HEADER || sealed.u32_at(36)? as usize != sealed.len() - SEALED_HEADER {
            return Err(Malformed("an encrypted message of the wrong length"));
        }
        let (header, message) = sealed.split_at_mut(SEALED_HEADER);
        let nonce: [u8; NONCE_LEN] = header.array_at(20)?;
        let nonce = Nonce::assume_unique_for_key(nonce);
        Ok(sealing.theirs.open_in_place_separate_tag(nonce, Aad::from(&header[20..]), &header[4..20], message).is_ok())
    }
}

/// Whether a message is encrypted.
pub(crate) fn is_sealed(message: &[u8]) -> bool {
    message.starts_with(SEALED_MARK)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn keys(dialect: Dialect, signing: u16) -> Keys {
        Keys::new(&[7; 16], dialect, signing, Some(AES_128), &Said::default())
    }

    fn message() -> Vec<u8> {
        let mut message = Writer::default().raw(b"\xfeSMB").zeros(60).raw(b"a body").0;
        message[24] = 9;
        message
    }

    #[test]
    fn a_changed_message_is_not_signed_in_any_way() {
        for (dialect, signing) in
            [(Dialect::Smb21, 0), (Dialect::Smb30, 0), (Dialect::Smb311, SIGN_CMAC), (Dialect::Smb311, SIGN_GMAC)]
        {
            let keys = keys(dialect, signing);
            let mut signed = message();
            keys.sign(&mut signed);
            for at in (4..signed.len()).step_by(7) {
                let mut changed = signed.clone();
                changed[at] ^= 1;
                assert_eq!(keys.is_signed(&mut changed), Ok(false), "{dialect:?}, byte {at}");
            }
            assert_eq!(keys.is_signed(&mut signed), Ok(true), "{dialect:?}");
        }
    }

    #[test]
    fn what_is_sealed_says_nothing_and_opens_only_unchanged() {
        let ours = keys(Dialect::Smb311, SIGN_GMAC);
        // Their keys are ours the other way round.
        let mut theirs = keys(Dialect::Smb311, SIGN_GMAC);
        if let Some(sealing) = &mut theirs.sealing {
            std::mem::swap(&mut sealing.ours, &mut sealing.theirs);
        }
        let plain = message();
        let mut sealed = [vec![0; SEALED_HEADER], plain.clone()].concat();
        ours.seal(&mut sealed, 5);
        assert!(is_sealed(&sealed) && !sealed.windows(6).any(|part| part == b"a body"));
        for at in (4..sealed.len()).step_by(5) {
            let mut changed = sealed.clone();
            changed[at] ^= 1;
            assert_ne!(theirs.open(&mut changed), Ok(true), "byte {at}");
        }
        assert_eq!(theirs.open(&mut sealed), Ok(true));
        assert_eq!(&sealed[SEALED_HEADER..], plain);
        assert!(ours.open(&mut sealed[..20].to_vec()).is_err());
    }
}
