//! ProFTPD with its SFTP module.

use std::{fs, os::unix::fs::PermissionsExt, path::Path, process::Command};

use tempfile::TempDir;

use crate::{Server, free_port, proftpd::common, run};

/// An SFTP server that serves one folder; a password signs in, or a key, or both must.
#[derive(Debug)]
pub struct ProftpdSsh {
    /// The port it listens on.
    pub port: u16,
    /// The folder it serves.
    pub root: TempDir,
    /// Its host key's fingerprint, as `ssh-keygen -l` shows it.
    pub fingerprint: String,
    _folder: TempDir,
    _server: Server,
}

impl ProftpdSsh {
    /// Starts it: with the public key of a client, a sign-in needs that key and then the password, else only the
    /// password.
    pub fn start(client_key: Option<&Path>, more: &str) -> Self {
        let (folder, root, port) = (TempDir::new().unwrap(), TempDir::new().unwrap(), free_port());
        fs::set_permissions(folder.path(), fs::Permissions::from_mode(0o755)).unwrap();
        let at = folder.path().display();
        let host_key = folder.path().join("host-key");
        let file = host_key.to_str().unwrap();
        run("ssh-keygen", &["-q", "-N", "", "-t", "ecdsa", "-m", "PEM", "-f", file]);
        let fingerprint = run("ssh-keygen", &["-l", "-f", file]).split_whitespace().nth(1).unwrap().to_owned();
        let mut config = common(folder.path(), root.path(), port);
        config += &format!(
            "ModulePath /usr/lib/proftpd\nLoadModule mod_sftp.c\nSFTPEngine on\nSFTPLog {at}/sftp\nSFTPHostKey {file}\n\
             AllowOverwrite on\nAllowStoreRestart on\n{more}\n"
        );
        config += &match client_key {
            Some(key) => {
                // It reads keys in the form of RFC 4716.
                let keys = folder.path().join("keys");
                fs::write(&keys, run("ssh-keygen", &["-e", "-f", key.to_str().unwrap()])).unwrap();
                format!("SFTPAuthorizedUserKeys file:{}\nSFTPAuthMethods publickey+password\n", keys.display())
            }
            None => "SFTPAuthMethods password\n".to_owned(),
        };
        let file = folder.path().join("config");
        fs::write(&file, config).unwrap();
        let server = Server::start(Command::new("/usr/sbin/proftpd").arg("-n").arg("-c").arg(file), port);
        Self { port, root, fingerprint, _folder: folder, _server: server }
    }
}
