//! What our server proves itself with over SSH.

use std::{
    fs,
    io::{self, Write},
    os::unix::fs::OpenOptionsExt,
    path::{Path, PathBuf},
};

use russh::keys::{Algorithm, HashAlg, PrivateKey, ssh_key::LineEnding};

/// The bits of an RSA key.
const RSA_BITS: usize = 3072;
/// The kinds of keys, each with the name of its file.
const KINDS: [&str; 2] = ["ed25519", "rsa"];

/// Our host keys, each in a file that only we may read.
#[derive(Debug)]
pub struct HostKeys {
    folder: PathBuf,
    keys: Vec<PrivateKey>,
    next: Vec<PrivateKey>,
}

/// What partners are told of a host key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct HostKey {
    /// `ssh-ed25519` or `ssh-rsa`.
    pub kind: String,
    /// `SHA256:…`.
    pub fingerprint: String,
    /// The key as a file of known hosts has it, without the host.
    pub line: String,
    /// Whether it is not shown yet: it will be once the keys are changed.
    pub is_next: bool,
}

fn make(kind: &str) -> io::Result<PrivateKey> {
    let mut random = rand10::rng();
    match kind {
        "rsa" => russh::keys::ssh_key::private::RsaKeypair::random(&mut random, RSA_BITS)
            .map_err(io::Error::other)
            .and_then(|pair| PrivateKey::new(pair.into(), "wetbank").map_err(io::Error::other)),
        _ => PrivateKey::random(&mut random, Algorithm::Ed25519).map_err(io::Error::other),
    }
}

/// Writes a file whole or not at all.
fn write(path: &Path, key: &PrivateKey) -> io::Result<()> {
    let text = key.to_openssh(LineEnding::LF).map_err(io::Error::other)?;
    let beside = path.with_extension("part");
    let _ = fs::remove_file(&beside);
    let mut file = fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(&beside)?;
    file.write_all(text.as_bytes())?;
    file.sync_all()?;
    fs::rename(&beside, path)?;
    fs::File::open(path.parent().unwrap_or(Path::new(".")))?.sync_all()
}

fn read(path: &Path) -> io::Result<Option<PrivateKey>> {
    match fs::read_to_string(path) {
        Ok(text) => {
            let wrong = |error| {
                io::Error::new(io::ErrorKind::InvalidData, format!("{} is no key of ours: {error}", path.display()))
            };
            PrivateKey::from_openssh(text).map(Some).map_err(wrong)
        }
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(error),
    }
}

impl HostKeys {
    /// Reads the keys of a folder; what is not there is made.
    ///
    /// # Errors
    ///
    /// If a key cannot be read or written. It is never made anew then: partners know the one that is there.
    pub fn open(folder: &Path) -> io::Result<Self> {
        let mut keys = Vec::new();
        for kind in KINDS {
            let path = folder.join(format!("host-{kind}"));
            keys.push(match read(&path)? {
                Some(key) => key,
                None => {
                    let key = make(kind)?;
                    write(&path, &key)?;
                    key
                }
            });
        }
        let next = KINDS.into_iter().map(|kind| read(&folder.join(format!("next-{kind}"))));
        let next = next.collect::<io::Result<Vec<_>>>()?.into_iter().flatten().collect();
        Ok(Self { folder: folder.to_owned(), keys, next })
    }

    /// The keys that are shown.
    pub fn keys(&self) -> &[PrivateKey] {
        &self.keys
    }

    /// What partners are told: the keys that are shown, then those that come after them.
    pub fn told(&self) -> Vec<HostKey> {
        let told = |key: &PrivateKey, is_next| HostKey {
            kind: if key.algorithm() == Algorithm::Ed25519 { "ssh-ed25519".to_owned() } else { "ssh-rsa".to_owned() },
            fingerprint: key.public_key().fingerprint(HashAlg::Sha256).to_string(),
            line: key.public_key().to_openssh().unwrap_or_default().split(' ').take(2).collect::<Vec<_>>().join(" "),
            is_next,
        };
        let now = self.keys.iter().map(|key| told(key, false));
        now.chain(self.next.iter().map(|key| told(key, true))).collect()
    }

    /// Makes the keys that come after these, so that partners can be told before they are shown.
    ///
    /// # Errors
    ///
    /// If they cannot be written.
    pub fn prepare(&mut self) -> io::Result<()> {
        let mut next = Vec::new();
        for kind in KINDS {
            let key = make(kind)?;
            write(&self.folder.join(format!("next-{kind}")), &key)?;
            next.push(key);
        }
        self.next = next;
        Ok(())
    }

    /// Shows the keys that were prepared from now on. Answers whether there were any.
    ///
    /// # Errors
    ///
    /// If the files cannot be renamed.
    pub fn change(&mut self) -> io::Result<bool> {
        if self.next.is_empty() {
            return Ok(false);
        }
        for kind in KINDS {
            let next = self.folder.join(format!("next-{kind}"));
            if next.exists() {
                fs::rename(next, self.folder.join(format!("host-{kind}")))?;
            }
        }
        *self = Self::open(&self.folder.clone())?;
        Ok(true)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_stay_the_same_until_prepared_ones_take_their_place() {
        let folder = tempfile::tempdir().unwrap();
        let mut keys = HostKeys::open(folder.path()).unwrap();
        let first = keys.told();
        assert_eq!(first.iter().map(|key| key.kind.as_str()).collect::<Vec<_>>(), ["ssh-ed25519", "ssh-rsa"]);
        assert_eq!(HostKeys::open(folder.path()).unwrap().told(), first);
        use std::os::unix::fs::PermissionsExt;
        let mode = fs::metadata(folder.path().join("host-rsa")).unwrap().permissions().mode();
        assert_eq!(mode & 0o777, 0o600);
        assert!(!keys.change().unwrap(), "nothing is prepared");
        keys.prepare().unwrap();
        let prepared: Vec<String> =
            keys.told().into_iter().filter(|key| key.is_next).map(|key| key.fingerprint).collect();
        assert_eq!(HostKeys::open(folder.path()).unwrap().told().len(), 4);
        assert!(keys.change().unwrap());
        let shown: Vec<String> = keys.told().into_iter().map(|key| key.fingerprint).collect();
        assert_eq!(shown, prepared);
    }

    #[test]
    fn a_key_that_cannot_be_read_is_not_made_anew() {
        let folder = tempfile::tempdir().unwrap();
        fs::write(folder.path().join("host-ed25519"), "something else").unwrap();
        assert_eq!(HostKeys::open(folder.path()).unwrap_err().kind(), io::ErrorKind::InvalidData);
        assert_eq!(fs::read(folder.path().join("host-ed25519")).unwrap(), b"something else");
    }
}
