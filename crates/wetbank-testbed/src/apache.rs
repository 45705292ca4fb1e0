//! Apache with mod_dav.

use std::{fs, os::unix::fs::PermissionsExt, path::Path, process::Command};

use tempfile::TempDir;

use crate::{Certificate, Server, free_port};

/// Who may sign in, and the password.
pub const WEBDAV_USER: (&str, &str) = ("merrow", "grey heron");

const MODULES: [&str; 12] = [
    "mpm_event",
    "authn_core",
    "authn_file",
    "authz_core",
    "authz_user",
    "auth_basic",
    "alias",
    "dav",
    "dav_fs",
    "setenvif",
    "socache_shmcb",
    "ssl",
];

/// A WebDAV server that serves one folder under `/dav/office`.
#[derive(Debug)]
pub struct Apache {
    /// The address of the folder.
    pub url: String,
    /// The folder it serves.
    pub root: TempDir,
    /// Its certificate, if it speaks TLS.
    pub certificate: Option<Certificate>,
    _folder: TempDir,
    server: Server,
}

fn open_to_all(folder: &Path) {
    fs::set_permissions(folder, fs::Permissions::from_mode(0o777)).unwrap();
}

impl Apache {
    /// Starts it, with TLS or without.
    pub fn start(tls: bool) -> Self {
        Self::configured(tls, "")
    }

    /// Starts it without TLS; it takes no body of more KiB than these.
    pub fn taking(kib: u32) -> Self {
        Self::configured(false, &format!("LimitRequestBody {}\n", u64::from(kib) << 10))
    }

    /// Starts it without TLS; whoever asks for a folder without a slash at its end is sent to the address with one.
    pub fn with_slashes() -> Self {
        Self::configured(false, "LoadModule dir_module /usr/lib/apache2/modules/mod_dir.so\n")
    }

    fn configured(tls: bool, more: &str) -> Self {
        let (folder, root, port) = (TempDir::new().unwrap(), TempDir::new().unwrap(), free_port());
        // Its workers run as another user when a test runs as root.
        open_to_all(folder.path());
        open_to_all(root.path());
        let certificate = tls.then(|| Certificate::in_folder(folder.path()));
        let at = folder.path().display();
        // {SHA} is the password's SHA-1: enough for a server that lives for one test.
        fs::write(folder.path().join("users"), format!("{}:{{SHA}}b4tsZtWufd1eWBCveRkZ609QDrA=\n", WEBDAV_USER.0))
            .unwrap();
        let mut config = more.to_owned();
        for module in MODULES {
            config += &format!("LoadModule {module}_module /usr/lib/apache2/modules/mod_{module}.so\n");
        }
        config += &format!(
            "ServerRoot {at}\nServerName 127.0.0.1\nListen 127.0.0.1:{port}\nPidFile {at}/pid\nErrorLog {at}/error\n\
             LogLevel crit\nDavLockDB {at}/locks\nDocumentRoot {at}\nUser www-data\nGroup www-data\nMutex file:{at}\n\
             Alias /dav/office {root}\n<Directory />\nRequire all denied\nAllowOverride None\n</Directory>\n\
             <Location /dav/office>\nDav On\nAuthType Basic\nAuthName office\nAuthUserFile {at}/users\nRequire valid-user\n</Location>\n\
             <Directory {root}>\nRequire valid-user\nOptions Indexes\n</Directory>\n",
            root = root.path().display(),
        );
        if let Some(certificate) = &certificate {
            config += &format!(
                "SSLEngine on\nSSLCertificateFile {}\nSSLCertificateKeyFile {}\nSSLSessionCache shmcb:{at}/sessions(65536)\n",
                certificate.file.display(),
                certificate.key.display()
            );
        }
        let file = folder.path().join("config");
        fs::write(&file, config).unwrap();
        let mut command = Command::new("/usr/sbin/apache2");
        command.arg("-DFOREGROUND").arg("-f").arg(file);
        let server = Server::start(&mut command, port);
        let scheme = if tls { "https" } else { "http" };
        let url = format!("{scheme}://127.0.0.1:{port}/dav/office");
        Self { url, root, certificate, _folder: folder, server }
    }

    /// Sends a signal to it and to everything it started.
    pub fn signal(&self, name: &str) {
        self.server.signal(name);
    }
}
