//! Decrypting a stream.

use std::{
    fmt,
    hash::Hasher as _,
    io::{BufRead, BufReader, Read, Write},
    sync::Arc,
};

use jiff::Timestamp;
use parking_lot::Mutex;
use pgp::{
    armor::{Dearmor, DearmorOptions},
    composed::{DecryptionOptions, Esk, Message, TheRing},
    types::{KeyDetails as _, Password, Seipdv1ReadMode, VerifyingKey},
};
use secrecy::{ExposeSecret, SecretString};

use crate::{
    CryptError, PgpKey, SecretPart,
    policy::{self, Usable, Use},
};

/// Layers of compression that an honest message has at most.
const LAYERS: usize = 4;
const CHUNK: usize = 256 << 10;

/// How a message is to be opened.
#[derive(Debug, Default)]
pub struct Opening<'a> {
    /// Our keys; those without a secret part serve to verify only.
    pub keys: Vec<&'a PgpKey>,
    /// Passphrases to try.
    pub passphrases: Vec<&'a SecretString>,
    /// If not empty, one of these keys must have signed.
    pub signed_by: Vec<&'a PgpKey>,
}

/// What is known of an opened message.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Opened {
    /// Names of the keys whose signatures hold.
    pub signed_by: Vec<String>,
}

/// Decrypts `input` into `output`.
///
/// Plaintext is written before the integrity check at the message's end: `output` must be a
/// file that is thrown away unless this returns `Ok`. It does so only when the whole message
/// was read, its integrity holds, nothing trails it and every rule about signatures is met.
pub fn decrypt(
    input: impl Read + Send + 'static,
    output: &mut dyn Write,
    opening: &Opening<'_>,
    now: Timestamp,
) -> Result<Opened, CryptError> {
    let mut source = Source::new(input);
    let watch = source.watch.clone();
    let start = source.fill_buf()?;
    let begins = start.trim_ascii_start();
    let is_armoured = begins.starts_with(b"-----BEGIN PGP ");
    // A packet begins with this bit (RFC 9580, section 4.2).
    if !is_armoured && start.first().is_none_or(|byte| byte & 0x80 == 0) {
        return Err(CryptError::NoMessage);
    }
    let message = if is_armoured {
        Message::from_bytes(BufReader::new(Armoured::new(source)))
    } else {
        Message::from_bytes(source)
    };
    let message = message.map_err(|_| watch.reason())?;
    let asked = asked(&message);
    match &message {
        Message::Encrypted { .. } => {}
        Message::Signed { .. } => return Err(CryptError::NotEncrypted("only signed")),
        Message::Compressed { .. } => return Err(CryptError::NotEncrypted("only compressed or signed")),
        Message::Literal { .. } => return Err(CryptError::NotEncrypted("plain")),
    }
    let passphrases: Vec<Password> = opening.passphrases.iter().map(|p| Password::from(p.expose_secret())).collect();
    // Only those that the message names are opened; one that names nobody may be for any.
    let secrets = opening.keys.iter().filter_map(|key| key.secret.as_ref()).filter(|secret| is_for(&message, secret));
    let secrets: Vec<_> = secrets
        .map(SecretPart::opened)
        .collect::<Result<_, _>>()
        .map_err(|error| CryptError::Other(error.to_string()))?;
    let ring = TheRing {
        secret_keys: secrets.iter().map(AsRef::as_ref).collect(),
        key_passwords: Vec::new(),
        message_password: passphrases.iter().collect(),
        session_keys: Vec::new(),
        decrypt_options: DecryptionOptions::new().enable_gnupg_aead().set_seipdv1_read_mode(Seipdv1ReadMode::Streaming),
    };
    let mut message = match message.decrypt_the_ring(ring, true) {
        // What it tells of each key speaks of the last recipient only.
        Ok((message, _)) => message,
        Err(_) if asked.is_by_passphrase_only() && !passphrases.is_empty() && !watch.has_failed() => {
            return Err(CryptError::WrongPassphrase);
        }
        Err(pgp::errors::Error::MissingKey) => return Err(CryptError::NoKey(asked.to_string())),
        Err(_) => return Err(watch.reason()),
    };
    for _ in 0..LAYERS {
        if !message.is_compressed() && !matches!(&message, Message::Signed { .. }) {
            break;
        }
        message = message.decompress().map_err(|_| watch.reason())?;
    }
    if message.is_encrypted() || message.is_compressed() {
        return Err(CryptError::Damaged);
    }
    let mut chunk = vec![0; CHUNK];
    loop {
        let read = match message.read(&mut chunk) {
            Ok(0) => break,
            Ok(read) => read,
            Err(_) => return Err(watch.reason()),
        };
        output.write_all(&chunk[..read])?;
    }
    let opened = verify(&message, opening, now)?;
    // Armour may be followed by blank lines or a signature of the mail it came in; a binary
    // message must be all there is.
    let seen = watch.seen();
    let is_whole = if is_armoured { seen.is_summed } else { seen.unused == 0 && seen.ended };
    if !is_whole {
        return Err(CryptError::Damaged);
    }
    drop(seen);
    Ok(opened)
}

/// Who can open a message.
#[derive(Default)]
struct Asked {
    keys: Vec<String>,
    hidden: bool,
    passphrase: bool,
}

impl Asked {
    fn is_by_passphrase_only(&self) -> bool {
        self.passphrase && self.keys.is_empty() && !self.hidden
    }
}

impl fmt::Display for Asked {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let mut told = Vec::new();
        if !self.keys.is_empty() {
            told.push(format!("it is for {}", self.keys.join(", ")));
        }
        if self.hidden {
            told.push("it hides for whom it is".to_owned());
        }
        if self.passphrase {
            told.push("it is sealed with a passphrase".to_owned());
        }
        f.write_str(&told.join("; "))
    }
}

fn asked(message: &Message<'_>) -> Asked {
    /// More recipients are not told.
    const TOLD: usize = 10;
    let mut asked = Asked::default();
    let Message::Encrypted { esk, .. } = message else { return asked };
    for one in esk {
        let Esk::PublicKeyEncryptedSessionKey(one) = one else {
            asked.passphrase = true;
            continue;
        };
        let id = match (one.id(), one.fingerprint()) {
            (Ok(id), _) if !id.is_wildcard() => Some(id.to_string().to_uppercase()),
            (_, Ok(Some(print))) => Some(format!("{print:X}")),
            _ => None,
        };
        match id {
            Some(id) if asked.keys.len() < TOLD => asked.keys.push(id),
            Some(_) => {}
            None => asked.hidden = true,
        }
    }
    asked
}

/// Whether a message may be for a key.
fn is_for(message: &Message<'_>, secret: &SecretPart) -> bool {
    let Message::Encrypted { esk, .. } = message else { return true };
    let key = secret.closed();
    esk.iter().any(|one| match one {
        Esk::PublicKeyEncryptedSessionKey(one) => {
            one.match_identity(key.primary_key.public_key())
                || key.secret_subkeys.iter().any(|subkey| one.match_identity(subkey.key.public_key()))
        }
        Esk::SymKeyEncryptedSessionKey(_) => false,
    })
}

fn verify(message: &Message<'_>, opening: &Opening<'_>, now: Timestamp) -> Result<Opened, CryptError> {
    let (mut opened, mut signers) = (Opened::default(), Vec::new());
    if let Message::Signed { reader, .. } = message {
        for index in 0..reader.num_signatures() {
            let signature = reader.signature(index).ok_or(CryptError::Damaged)?;
            let known = opening.keys.iter().chain(&opening.signed_by).find(|key| issued(key, signature));
            // A signature by somebody unknown says nothing either way.
            let Some(signer) = known else { continue };
            let refused = |why: String| CryptError::Signature(format!("by \"{}\": {why}", signer.name));
            policy::signature_is_fit(signature, now).map_err(refused)?;
            let keys = policy::usable(&signer.certificate, Use::Sign, policy::signed_at(signature))
                .and_then(|_| policy::usable(&signer.certificate, Use::Sign, now))
                .map_err(|reason| CryptError::Unfit { key: signer.name.clone(), reason })?;
            let valid = keys.iter().any(|key| {
                let key: &dyn VerifyingKey = match key {
                    Usable::Primary(primary) => *primary,
                    Usable::Subkey(subkey) => &subkey.key,
                };
                message.verify_nested_explicit(index, key).is_ok()
            });
            if !valid {
                return Err(refused("it does not belong to this content".to_owned()));
            }
            opened.signed_by.push(signer.name.clone());
            signers.push(signer.certificate.primary_key.fingerprint());
        }
    }
    let wanted = &opening.signed_by;
    // Certificates are compared: one may have two names here.
    if !wanted.is_empty() && !wanted.iter().any(|key| signers.contains(&key.certificate.primary_key.fingerprint())) {
        let names: Vec<_> = wanted.iter().map(|key| key.name.as_str()).collect();
        return Err(CryptError::Signature(format!("no valid one by {}", names.join(" or "))));
    }
    Ok(opened)
}

pub(crate) fn issued(key: &PgpKey, signature: &pgp::packet::Signature) -> bool {
    let primary = &key.certificate.primary_key;
    let mut ids = vec![(primary.fingerprint(), primary.legacy_key_id())];
    ids.extend(key.certificate.public_subkeys.iter().map(|s| (s.key.fingerprint(), s.key.legacy_key_id())));
    let (prints, short) = (signature.issuer_fingerprint(), signature.issuer_key_id());
    ids.iter().any(|(print, id)| prints.contains(&print) || short.contains(&id))
}

/// The input with a window into it, so that we can look behind the message after it was read,
/// and tell a failing disk from a damaged message.
struct Source {
    input: Box<dyn Read + Send>,
    buffer: Vec<u8>,
    used: usize,
    watch: Watch,
}

/// What the source tells while the message owns it.
#[derive(Clone, Default)]
struct Watch(Arc<Mutex<Seen>>);

#[derive(Default)]
struct Seen {
    failed: Option<std::io::Error>,
    /// Bytes read but not yet taken by the message.
    unused: usize,
    ended: bool,
    /// The armour came to its end, and its checksum is right if it has one.
    is_summed: bool,
}

/// A message in armour. Its checksum (RFC 4880, section 6.1) is optional; one that is there counts.
struct Armoured {
    dearmour: Dearmor<Source>,
    sum: crc24::Crc24Hasher,
    watch: Watch,
}

impl fmt::Debug for Armoured {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Armoured")
    }
}

impl Armoured {
    fn new(source: Source) -> Self {
        let watch = source.watch.clone();
        let options = DearmorOptions::new().set_limit(usize::MAX);
        Self { dearmour: Dearmor::with_options(source, options), sum: crc24::Crc24Hasher::default(), watch }
    }
}

impl Read for Armoured {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let read = self.dearmour.read(buffer)?;
        self.sum.write(&buffer[..read]);
        if read == 0 && !buffer.is_empty() {
            let right = self.dearmour.checksum.is_none_or(|told| told == self.sum.finish());
            self.watch.seen().is_summed = right;
            if !right {
                return Err(std::io::Error::other("the checksum of the armour is wrong"));
            }
        }
        Ok(read)
    }
}

impl std::fmt::Debug for Source {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Source")
    }
}

impl Watch {
    fn seen(&self) -> parking_lot::MutexGuard<'_, Seen> {
        self.0.lock()
    }

    fn has_failed(&self) -> bool {
        self.seen().failed.is_some()
    }

    fn reason(&self) -> CryptError {
        self.seen().failed.take().map_or(CryptError::Damaged, CryptError::Io)
    }
}

impl Source {
    fn new(input: impl Read + Send + 'static) -> Self {
        Self { input: Box::new(input), buffer: Vec::new(), used: 0, watch: Watch::default() }
    }
}

impl Read for Source {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let mut available = self.fill_buf()?;
        let read = available.read(buffer)?;
        self.consume(read);
        Ok(read)
    }
}

impl BufRead for Source {
    fn fill_buf(&mut self) -> std::io::Result<&[u8]> {
        if self.used >= self.buffer.len() {
            self.buffer.resize(CHUNK, 0);
            self.used = 0;
            let read = self.input.read(&mut self.buffer);
            let mut seen = self.watch.seen();
            match &read {
                Ok(read) => {
                    self.buffer.truncate(*read);
                    seen.unused = *read;
                    seen.ended = *read == 0;
                }
                Err(e) => {
                    self.buffer.clear();
                    seen.failed =
                        Some(e.raw_os_error().map_or_else(|| e.kind().into(), std::io::Error::from_raw_os_error));
                }
            }
            drop(seen);
            read?;
        }
        Ok(&self.buffer[self.used..])
    }

    fn consume(&mut self, amount: usize) {
        self.used += amount;
        let mut seen = self.watch.seen();
        seen.unused = seen.unused.saturating_sub(amount);
    }
}
