//! Decrypting a stream.

use std::{
    io::{BufRead, Read, Write},
    sync::{Arc, Mutex},
};

use jiff::Timestamp;
use pgp::{
    composed::{DecryptionOptions, InnerRingResult, Message, TheRing},
    types::{KeyDetails as _, Password, Seipdv1ReadMode, VerifyingKey},
};
use secrecy::{ExposeSecret, SecretString};

use crate::{
    CryptError, PgpKey,
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
    let source = Source::new(input);
    let watch = source.watch.clone();
    let (message, headers) = Message::from_reader(source).map_err(|_| watch.reason())?;
    if !message.is_encrypted() {
        return Err(CryptError::Damaged);
    }
    let secrets: Vec<_> = opening.keys.iter().filter_map(|key| key.secret.as_ref()).collect();
    let passphrases: Vec<Password> = opening.passphrases.iter().map(|p| Password::from(p.expose_secret())).collect();
    let passwords: Vec<Password> = secrets.iter().map(|secret| secret.password()).collect();
    let ring = TheRing {
        secret_keys: secrets.iter().map(|secret| &secret.key).collect(),
        key_passwords: passwords.iter().collect(),
        message_password: passphrases.iter().collect(),
        session_keys: Vec::new(),
        decrypt_options: DecryptionOptions::new().enable_gnupg_aead().set_seipdv1_read_mode(Seipdv1ReadMode::Streaming),
    };
    let mut message = match message.decrypt_the_ring(ring, true) {
        Ok((message, result)) => {
            let opened = result.secret_keys.iter().chain(&result.message_password);
            if !opened.into_iter().any(|one| *one == InnerRingResult::Ok) {
                return Err(CryptError::NoKey);
            }
            message
        }
        Err(pgp::errors::Error::MissingKey) => return Err(CryptError::NoKey),
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
    if headers.is_none() && (seen.unused > 0 || !seen.ended) {
        return Err(CryptError::Damaged);
    }
    drop(seen);
    Ok(opened)
}

fn verify(message: &Message<'_>, opening: &Opening<'_>, now: Timestamp) -> Result<Opened, CryptError> {
    let mut opened = Opened::default();
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
        }
    }
    let wanted = &opening.signed_by;
    if !wanted.is_empty() && !wanted.iter().any(|key| opened.signed_by.contains(&key.name)) {
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
}

impl std::fmt::Debug for Source {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Source")
    }
}

impl Watch {
    fn seen(&self) -> std::sync::MutexGuard<'_, Seen> {
        self.0.lock().unwrap_or_else(std::sync::PoisonError::into_inner)
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
