//! Checksums, the secret vault and OpenPGP.
//!
//! OpenPGP streams in constant memory. What the library below checks is signature mathematics;
//! whether a key may be used at all (revoked, expired, unfit) is decided in [`policy`].

mod detached;
mod digest;
mod keyring;
mod open;
pub mod policy;
mod seal;
mod vault;

pub use detached::{sign_detached, verify_detached};
pub use digest::{Digests, Hashing};
pub use keyring::{KeyError, PgpKey, SecretPart};
pub use open::{Opened, Opening, decrypt};
pub use seal::{Sealing, encrypt};
pub use vault::{Vault, VaultError};

/// Why a message could not be encrypted or decrypted.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum CryptError {
    /// A key that must not be used.
    #[error("the key \"{key}\" cannot be used: {reason}")]
    Unfit {
        /// Its name.
        key: String,
        /// Why.
        reason: policy::Unfit,
    },
    /// No key or passphrase of ours opens the message.
    #[error("none of our keys and passphrases opens this message")]
    NoKey,
    /// The message is no OpenPGP message, or was damaged or cut off.
    #[error("the message is damaged or no OpenPGP message")]
    Damaged,
    /// A signature that is wrong or missing.
    #[error("the signature was refused: {0}")]
    Signature(String),
    /// Reading or writing failed.
    #[error("{0}")]
    Io(#[from] std::io::Error),
    /// The library refused something else.
    #[error("OpenPGP: {0}")]
    Other(String),
}
