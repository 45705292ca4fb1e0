//! The vault: secrets at rest, sealed with XChaCha20-Poly1305.

use std::{fs, io::Write, os::unix::fs::OpenOptionsExt, path::Path};

use chacha20poly1305::{
    XChaCha20Poly1305, XNonce,
    aead::{Aead, KeyInit, Payload},
};
use rand::RngCore;
use secrecy::{ExposeSecret, SecretString};
use zeroize::Zeroizing;

/// The environment variable that may hold the vault's key instead of the file: 64 hex digits.
const KEY_VARIABLE: &str = "WETBANK_VAULT_KEY";
const NONCE: usize = 24;

/// Seals and opens secrets. Each sealed secret is bound to its name.
pub struct Vault {
    cipher: XChaCha20Poly1305,
}

/// Why the vault cannot be used.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum VaultError {
    /// The key file cannot be read or made.
    #[error("vault key {path} cannot be used")]
    KeyFile {
        /// The file.
        path: String,
        /// Why.
        #[source]
        source: std::io::Error,
    },
    /// The key file can be read by others.
    #[error("vault key {0} can be read by others; make it private with: chmod 600 {0}")]
    Exposed(String),
    /// There is no key, and there are secrets that another one would not open.
    #[error(
        "vault key {0} is missing, and the journal has secrets that only this key opens; put it back from a backup. If \
         it is lost, start once with: wetbank serve --new-vault-key; then set each secret and import each own key again"
    )]
    Missing(String),
    /// The key is not 64 hexadecimal digits.
    #[error("the vault key in {0} must be 64 hexadecimal digits")]
    BadKey(String),
    /// The sealed value was not made by this vault under this name.
    #[error("secret \"{0}\" cannot be opened with this vault key; set it again, or restore the key it was sealed with")]
    Sealed(String),
}

impl std::fmt::Debug for Vault {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Vault")
    }
}

impl Vault {
    /// Opens the vault of a data folder. Its key is taken from `WETBANK_VAULT_KEY`, or from the
    /// file `vault.key`; where there is none, one is made with mode 0600 if `makes_key`.
    ///
    /// # Errors
    ///
    /// If the key cannot be used, or there is none and none is to be made: what was sealed could not be opened
    /// with another one.
    pub fn open(folder: &Path, makes_key: bool) -> Result<Self, VaultError> {
        if let Some(key) = std::env::var_os(KEY_VARIABLE) {
            // One that is no text is a wrong key, not a missing one.
            return Self::from_hex(&Zeroizing::new(key.to_string_lossy().into_owned()), KEY_VARIABLE);
        }
        let path = folder.join("vault.key");
        let shown = path.display().to_string();
        let failed = |source| VaultError::KeyFile { path: shown.clone(), source };
        match fs::metadata(&path) {
            Ok(metadata) => {
                use std::os::unix::fs::PermissionsExt;
                if metadata.permissions().mode() & 0o077 != 0 {
                    return Err(VaultError::Exposed(shown));
                }
            }
            Err(e) if e.kind() == std::io::ErrorKind::NotFound && !makes_key => {
                return Err(VaultError::Missing(shown));
            }
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => {
                let mut key = Zeroizing::new([0u8; 32]);
                rand::rngs::OsRng.fill_bytes(&mut *key);
                let text = hex::encode(*key);
                write_whole(folder, &path, Zeroizing::new(text).as_bytes()).map_err(failed)?;
            }
            Err(e) => return Err(failed(e)),
        }
        let text = Zeroizing::new(fs::read_to_string(&path).map_err(failed)?);
        Self::from_hex(&text, &shown)
    }

    fn from_hex(text: &str, from: &str) -> Result<Self, VaultError> {
        let bad = || VaultError::BadKey(from.to_owned());
        let text = text.trim();
        let mut key = Zeroizing::new([0u8; 32]);
        hex::decode_to_slice(text, &mut *key).map_err(|_| bad())?;
        Ok(Self { cipher: XChaCha20Poly1305::new((&*key).into()) })
    }

    /// Seals a secret under its name.
    pub fn seal(&self, name: &str, secret: &SecretString) -> Vec<u8> {
        let mut nonce = [0u8; NONCE];
        rand::rngs::OsRng.fill_bytes(&mut nonce);
        let payload = Payload { msg: secret.expose_secret().as_bytes(), aad: name.as_bytes() };
        let mut sealed = nonce.to_vec();
        sealed.extend(
            self.cipher
                .encrypt(&XNonce::from(nonce), payload)
                .expect("only a secret of hundreds of gigabytes is too long to seal"),
        );
        sealed
    }

    /// Opens what was sealed under this name.
    pub fn open_sealed(&self, name: &str, sealed: &[u8]) -> Result<SecretString, VaultError> {
        let wrong = || VaultError::Sealed(name.to_owned());
        let (nonce, text) = sealed.split_first_chunk::<NONCE>().ok_or_else(wrong)?;
        let payload = Payload { msg: text, aad: name.as_bytes() };
        let plain = self.cipher.decrypt(&XNonce::from(*nonce), payload).map_err(|_| wrong())?;
        String::from_utf8(plain).map(SecretString::from).map_err(|_| wrong())
    }
}

/// Under its name the file is whole and on the disk, or not there at all.
fn write_whole(folder: &Path, path: &Path, text: &[u8]) -> std::io::Result<()> {
    let part = path.with_extension("key.part");
    let mut file = fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(&part)?;
    file.write_all(text)?;
    file.sync_all()?;
    fs::rename(&part, path)?;
    fs::File::open(folder)?.sync_all()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn vault(digit: &str) -> Vault {
        Vault::from_hex(&digit.repeat(64), "test").unwrap()
    }

    #[test]
    fn a_sealed_secret_opens_only_under_its_name_and_key() {
        let sealed = vault("1").seal("harbour", &SecretString::from("heron"));
        assert_eq!(vault("1").open_sealed("harbour", &sealed).unwrap().expose_secret(), "heron");
        assert!(vault("1").open_sealed("archive", &sealed).is_err());
        assert!(vault("2").open_sealed("harbour", &sealed).is_err());
        assert!(!sealed.windows(5).any(|w| w == b"heron"));
    }

    #[test]
    fn a_key_file_that_others_can_read_is_refused() {
        use std::os::unix::fs::PermissionsExt;
        let folder = tempfile::tempdir().unwrap();
        Vault::open(folder.path(), true).unwrap();
        let path = folder.path().join("vault.key");
        assert_eq!(fs::metadata(&path).unwrap().permissions().mode() & 0o777, 0o600);
        fs::set_permissions(&path, fs::Permissions::from_mode(0o640)).unwrap();
        assert!(matches!(Vault::open(folder.path(), true), Err(VaultError::Exposed(_))));
    }
}
