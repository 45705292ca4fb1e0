//! OpenSSH's server.

use std::{
    fs,
    io::Write,
    net::SocketAddr,
    os::unix::fs::PermissionsExt,
    path::{Path, PathBuf},
    process::Command,
};

use tempfile::TempDir;

use crate::{Server, free_port, run};

/// An OpenSSH server of a test's own.
#[derive(Debug)]
pub struct Sshd {
    /// Where it listens.
    pub address: SocketAddr,
    /// Its host key's fingerprint, as `ssh-keygen -l` shows it.
    pub fingerprint: String,
    /// Its configuration and keys.
    pub folder: TempDir,
    server: Option<Server>,
}

/// A client key of a type, with or without a passphrase: where it is, and its text.
pub fn client_key(folder: &Path, kind: &[&str], passphrase: &str) -> (PathBuf, String) {
    let file = folder.join(format!("client-{}-{}", kind.join(""), passphrase.len()));
    let mut words = vec!["-q", "-N", passphrase, "-C", "test", "-f", file.to_str().unwrap(), "-t"];
    words.extend(kind);
    run("ssh-keygen", &words);
    let text = fs::read_to_string(&file).unwrap();
    (file, text)
}

impl Sshd {
    /// Starts with what every test needs.
    pub fn start() -> Self {
        Self::start_with("")
    }

    /// Starts with more lines of configuration, which come first and so count.
    pub fn start_with(more: &str) -> Self {
        let folder = TempDir::new().unwrap();
        fs::set_permissions(folder.path(), fs::Permissions::from_mode(0o755)).unwrap();
        fs::write(folder.path().join("authorized"), "").unwrap();
        fs::create_dir_all("/run/sshd").unwrap();
        let address = SocketAddr::from(([127, 0, 0, 1], free_port()));
        let at = folder.path().display();
        let config = format!(
            "{more}\nPort {}\nListenAddress 127.0.0.1\nHostKey {at}/host-key\nPidFile none\nUsePAM no\nStrictModes no\n\
             AuthorizedKeysFile {at}/authorized\nSubsystem sftp internal-sftp\nMaxStartups 100\nLogLevel ERROR\n",
            address.port(),
        );
        fs::write(folder.path().join("config"), config).unwrap();
        let mut sshd = Self { address, fingerprint: String::new(), folder, server: None };
        sshd.change_host_key();
        sshd.go_on();
        sshd
    }

    /// Lets a key sign in as the user who runs this test.
    pub fn authorize(&self, key: &Path) {
        let public = fs::read_to_string(key.with_extension("pub")).unwrap();
        let mut file = fs::OpenOptions::new().append(true).open(self.folder.path().join("authorized")).unwrap();
        file.write_all(public.as_bytes()).unwrap();
    }

    /// The user who may sign in.
    pub fn user(&self) -> String {
        run("id", &["-un"]).trim().to_owned()
    }

    /// Ends it at once, with every connection.
    pub fn crash(&mut self) {
        self.server = None;
    }

    /// Starts it again after a crash, on the same port.
    pub fn go_on(&mut self) {
        let config = self.folder.path().join("config");
        let mut command = Command::new("/usr/sbin/sshd");
        command.args(["-D", "-e", "-f"]).arg(config);
        self.server = Some(Server::start(&mut command, self.address.port()));
    }

    /// Sends a signal to it and to its connections.
    pub fn signal(&self, name: &str) {
        if let Some(server) = &self.server {
            server.signal(name);
        }
    }

    /// Gives it another host key, which counts from its next start on.
    pub fn change_host_key(&mut self) {
        let key = self.folder.path().join("host-key");
        let _ = fs::remove_file(&key);
        run("ssh-keygen", &["-q", "-N", "", "-t", "ed25519", "-f", key.to_str().unwrap()]);
        let shown = run("ssh-keygen", &["-l", "-f", key.to_str().unwrap()]);
        self.fingerprint = shown.split_whitespace().nth(1).unwrap().to_owned();
    }
}
