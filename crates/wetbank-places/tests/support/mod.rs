//! Servers and roots for the conformance suite.

#![allow(dead_code, reason = "each test file uses its part")]

use std::{
    path::{Path, PathBuf},
    sync::Arc,
};

use bytes::Bytes;
use futures_util::StreamExt;
use secrecy::SecretString;
use wetbank_core::{Name, RelPath, SftpSignIn, SftpSpec};
use wetbank_places::{Entry, Place, PlaceError, Sftp, SftpCredentials};
pub use wetbank_testbed::{Sshd, client_key};

/// A fresh root with its place; the folder goes when this goes.
pub struct Rig {
    pub place: Arc<dyn Place>,
    pub root: PathBuf,
    pub guards: Vec<Box<dyn std::any::Any + Send>>,
}

pub fn path(text: &str) -> RelPath {
    RelPath::parse(text).unwrap()
}

pub async fn write(place: &dyn Place, to: &str, content: &[u8]) -> Result<Entry, PlaceError> {
    let mut staged = place.stage(&path(to), None).await?;
    for piece in content.chunks(100_000) {
        staged.write(Bytes::copy_from_slice(piece)).await?;
    }
    staged.finish().await
}

pub async fn read(place: &dyn Place, from: &str) -> Result<Vec<u8>, PlaceError> {
    read_from(place, &path(from), 0).await
}

pub async fn read_from(place: &dyn Place, from: &RelPath, offset: u64) -> Result<Vec<u8>, PlaceError> {
    let mut stream = place.read(from, offset).await?;
    let mut content = Vec::new();
    while let Some(chunk) = stream.next().await {
        content.extend_from_slice(&chunk?);
    }
    Ok(content)
}

/// A fresh key that signs in.
pub fn fresh_key(sshd: &Sshd, kind: &[&str], passphrase: &str) -> SecretString {
    let (file, key) = client_key(sshd.folder.path(), kind, passphrase);
    sshd.authorize(&file);
    key.into()
}

pub fn sftp_spec(sshd: &Sshd, root: &Path) -> SftpSpec {
    SftpSpec {
        host: sshd.address.ip().to_string(),
        port: sshd.address.port(),
        user: sshd.user(),
        sign_in: SftpSignIn::Key { key: Name::new("key").unwrap(), passphrase: None },
        host_key: Some(sshd.fingerprint.clone()),
        root: root.display().to_string(),
        connections: 3,
    }
}

/// A place on a server that signs in with a fresh key.
pub fn sftp_place(sshd: &Sshd, root: &Path) -> Sftp {
    let key = fresh_key(sshd, &["ed25519"], "");
    let credentials = SftpCredentials::Key { key, passphrase: None };
    Sftp::new(Name::new("server").unwrap(), sftp_spec(sshd, root), credentials)
}
