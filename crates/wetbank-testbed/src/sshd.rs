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
    program: PathBuf,
    server: Option<Server>,
    /// Removed with the server.
    pam: Option<Removed>,
}

/// A file that goes when this goes.
#[derive(Debug)]
struct Removed(PathBuf);

impl Drop for Removed {
    fn drop(&mut self) {
        let _ = fs::remove_file(&self.0);
    }
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
        let program = PathBuf::from("/usr/sbin/sshd");
        let mut sshd = Self { address, fingerprint: String::new(), folder, program, server: None, pam: None };
        sshd.change_host_key();
        sshd.go_on();
        sshd
    }

    /// Starts one that asks questions (keyboard-interactive) through a PAM service of its own and
    /// takes no key and no plain password. Nothing where the system's folder of PAM services
    /// cannot be written: only root may.
    pub fn start_asking(password: &str) -> Option<Self> {
        let mut sshd = Self::start_with(
            "UsePAM yes\nKbdInteractiveAuthentication yes\nPasswordAuthentication no\nPubkeyAuthentication no\nPermitRootLogin yes",
        );
        sshd.crash();
        // The server asks the PAM service of the name it was started under.
        let name = format!("wetbank-test-{}", sshd.address.port());
        let script = sshd.folder.path().join("check");
        fs::write(&script, format!("#!/bin/sh\nread -r given\n[ \"$given\" = \"{password}\" ]\n")).unwrap();
        fs::set_permissions(&script, fs::Permissions::from_mode(0o755)).unwrap();
        let service = PathBuf::from("/etc/pam.d").join(&name);
        let rules = format!(
            "auth required pam_exec.so quiet expose_authtok {}\n\
             auth required pam_permit.so\naccount required pam_permit.so\nsession required pam_permit.so\n",
            script.display()
        );
        fs::write(&service, rules).ok()?;
        sshd.pam = Some(Removed(service));
        sshd.program = sshd.folder.path().join(name);
        std::os::unix::fs::symlink("/usr/sbin/sshd", &sshd.program).unwrap();
        sshd.go_on();
        Some(sshd)
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
        let mut command = Command::new(&self.program);
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
