//! Checksums, the secret vault and OpenPGP.
//!
//! OpenPGP streams in constant memory. What the library below checks is signature mathematics;
//! whether a key may be used at all (revoked, expired, unfit) is decided in [`policy`].

mod detached;
mod digest;
mod keyring;
mod merge;
mod open;
pub mod policy;
mod seal;
mod vault;

pub use detached::{sign_detached, verify_detached};
pub use digest::{Digests, Hashing};
pub use keyring::{KEPT_OPEN, KeyError, PgpKey, SecretPart};
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
    /// No key or passphrase of ours opens the message: for whom it is, as far as it tells.
    #[error("none of our keys and passphrases opens this message; {0}")]
    NoKey(String),
    /// The message is sealed with a passphrase, and not with this one.
    #[error("the passphrase does not open this message")]
    WrongPassphrase,
    /// The message was damaged or cut off.
    #[error("the message is damaged or was cut off")]
    Damaged,
    /// The file is no message of OpenPGP at all.
    #[error("this is no OpenPGP message")]
    NoMessage,
    /// The message can be read by everybody.
    #[error("the message is {0}, not encrypted")]
    NotEncrypted(&'static str),
    /// A signature that is wrong or missing.
    #[error("the signature was refused: {0}")]
    Signature(String),
    /// Reading or writing failed.
    #[error(transparent)]
    Io(#[from] std::io::Error),
    /// The library refused something else.
    #[error("OpenPGP: {0}")]
    Other(String),
}
