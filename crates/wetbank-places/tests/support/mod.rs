//! Servers and roots for the conformance suite.

#![allow(dead_code, reason = "each test file uses its part")]

use std::{
    fs,
    io::Write,
    net::{SocketAddr, TcpListener},
    os::unix::fs::PermissionsExt,
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
    sync::Arc,
    time::{Duration, Instant},
};

use bytes::Bytes;
use futures_util::StreamExt;
use secrecy::SecretString;
use tempfile::TempDir;
use wetbank_core::{Name, RelPath, SftpSignIn, SftpSpec};
use wetbank_places::{Entry, Place, PlaceError, Sftp, SftpCredentials};

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

/// An OpenSSH server of this test's own.
pub struct Sshd {
    pub address: SocketAddr,
    pub fingerprint: String,
    pub folder: TempDir,
    child: Child,
}

impl Drop for Sshd {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

fn run(program: &str, words: &[&str]) -> String {
    let output = Command::new(program).args(words).output().unwrap_or_else(|e| panic!("{program}: {e}"));
    assert!(output.status.success(), "{program} {words:?}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8_lossy(&output.stdout).into_owned()
}

/// A client key of a type, with or without a passphrase: where it is, and its text.
pub fn client_key(folder: &Path, kind: &[&str], passphrase: &str) -> (PathBuf, SecretString) {
    let file = folder.join(format!("client-{}-{}", kind.join(""), passphrase.len()));
    let mut words = vec!["-q", "-N", passphrase, "-C", "test", "-f", file.to_str().unwrap(), "-t"];
    words.extend(kind);
    run("ssh-keygen", &words);
    let text = fs::read_to_string(&file).unwrap();
    (file, SecretString::from(text))
}

impl Sshd {
    pub fn start() -> Self {
        Self::start_with("", None)
    }

    /// Starts with more lines of configuration, on a given port or a free one.
    pub fn start_with(more: &str, port: Option<u16>) -> Self {
        let folder = TempDir::new().unwrap();
        fs::set_permissions(folder.path(), fs::Permissions::from_mode(0o755)).unwrap();
        let key = folder.path().join("host-key");
        run("ssh-keygen", &["-q", "-N", "", "-t", "ed25519", "-f", key.to_str().unwrap()]);
        let shown = run("ssh-keygen", &["-l", "-f", key.to_str().unwrap()]);
        let fingerprint = shown.split_whitespace().nth(1).unwrap().to_owned();
        fs::write(folder.path().join("authorized"), "").unwrap();
        let port = port.unwrap_or_else(|| TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port());
        let config = format!(
            "Port {port}\nListenAddress 127.0.0.1\nHostKey {key}\nPidFile none\nUsePAM no\nStrictModes no\n\
             AuthorizedKeysFile {authorized}\nSubsystem sftp internal-sftp\nMaxStartups 100\nLogLevel ERROR\n{more}\n",
            key = key.display(),
            authorized = folder.path().join("authorized").display(),
        );
        let file = folder.path().join("config");
        fs::write(&file, config).unwrap();
        fs::create_dir_all("/run/sshd").unwrap();
        let child = Command::new("/usr/sbin/sshd")
            .args(["-D", "-e", "-f", file.to_str().unwrap()])
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .expect("sshd starts");
        let address = SocketAddr::from(([127, 0, 0, 1], port));
        let end = Instant::now() + Duration::from_secs(10);
        while std::net::TcpStream::connect(address).is_err() {
            assert!(Instant::now() < end, "sshd does not listen");
            std::thread::sleep(Duration::from_millis(20));
        }
        Self { address, fingerprint, folder, child }
    }

    /// Lets a key sign in as the user who runs this test.
    pub fn authorize(&self, key: &Path) {
        let public = fs::read_to_string(key.with_extension("pub")).unwrap();
        let mut file = fs::OpenOptions::new().append(true).open(self.folder.path().join("authorized")).unwrap();
        file.write_all(public.as_bytes()).unwrap();
    }

    pub fn spec(&self, root: &Path) -> SftpSpec {
        SftpSpec {
            host: self.address.ip().to_string(),
            port: self.address.port(),
            user: run("id", &["-un"]).trim().to_owned(),
            sign_in: SftpSignIn::Key { key: Name::new("key").unwrap(), passphrase: None },
            host_key: Some(self.fingerprint.clone()),
            root: root.display().to_string(),
            connections: 3,
        }
    }

    /// A place on it that signs in with a fresh key.
    pub fn place(&self, root: &Path) -> Sftp {
        let (file, key) = client_key(self.folder.path(), &["ed25519"], "");
        self.authorize(&file);
        Sftp::new(Name::new("server").unwrap(), self.spec(root), SftpCredentials::Key { key, passphrase: None })
    }
}
