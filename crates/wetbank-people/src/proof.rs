//! What nobody can guess: made here, kept as a sum only.

use std::fmt;

use rand::RngCore;
use secrecy::{ExposeSecret, SecretString};

/// The sum under which a [`Secret`] is kept.
pub(crate) type Sum = [u8; 32];

/// 32 bytes of chance as text. Who has it is let in; on record is only its BLAKE3 sum, which opens nothing.
#[derive(Clone)]
pub struct Secret(SecretString);

impl fmt::Debug for Secret {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("Secret")
    }
}

impl Secret {
    pub(crate) fn new() -> Self {
        let mut bytes = [0; 32];
        rand::rngs::OsRng.fill_bytes(&mut bytes);
        Self(hex::encode(bytes).into())
    }

    /// The secret itself, for whom it is made.
    pub fn reveal(&self) -> &str {
        self.0.expose_secret()
    }

    pub(crate) fn sum(&self) -> Sum {
        sum(self.reveal())
    }
}

/// The sum of what somebody shows. Whoever looks it up learns nothing of those that are kept: a time that depends on the
/// sum tells nothing of the secret.
pub(crate) fn sum(shown: &str) -> Sum {
    blake3::hash(shown.as_bytes()).into()
}
