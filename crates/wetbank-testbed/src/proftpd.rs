//! ProFTPD.

use std::{fs, os::unix::fs::PermissionsExt, path::Path, process::Command};

use tempfile::TempDir;

use crate::{Certificate, Server, free_port, run};

/// Who may sign in, and the password.
pub const FTP_USER: (&str, &str) = ("merrow", "grey heron");

/// What a server offers.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FtpOffer {
    /// No TLS.
    Plain,
    /// TLS after the greeting, and nothing without it.
    Tls,
    /// TLS from the first byte.
    TlsFromStart,
    /// No TLS and no listing in the machine's form.
    Old,
    /// No TLS, and so many connections at once.
    Crowded(u32),
    /// No TLS, and so many KiB for all files together.
    Quota(u32),
}

/// An FTP server that serves one folder.
#[derive(Debug)]
pub struct Proftpd {
    /// The port it listens on.
    pub port: u16,
    /// The folder it serves.
    pub root: TempDir,
    /// Its certificate.
    pub certificate: Certificate,
    _folder: TempDir,
    server: Option<Server>,
}

impl Proftpd {
    /// Starts it.
    pub fn start(offer: FtpOffer) -> Self {
        let (folder, root, port) = (TempDir::new().unwrap(), TempDir::new().unwrap(), free_port());
        fs::set_permissions(folder.path(), fs::Permissions::from_mode(0o755)).unwrap();
        let certificate = Certificate::in_folder(folder.path());
        fs::set_permissions(&certificate.key, fs::Permissions::from_mode(0o600)).unwrap();
        let at = folder.path().display();
        let common = common(folder.path(), root.path(), port);
        // Data ports outside the range that free ports are taken from: a test that looks whether
        // its server listens must not be taken for the data connection of another.
        let mut config = format!(
            "{common}AllowOverwrite on\nAllowStoreRestart on\nAllowRetrieveRestart on\nPassivePorts 20000 30000\n"
        );
        if matches!(offer, FtpOffer::Tls | FtpOffer::TlsFromStart) {
            let options = if offer == FtpOffer::TlsFromStart { "TLSOptions UseImplicitSSL\n" } else { "" };
            config += &format!(
                "ModulePath /usr/lib/proftpd\nLoadModule mod_tls.c\nTLSEngine on\nTLSRequired on\nTLSLog {at}/tls\n{options}                 TLSECCertificateFile {}\nTLSECCertificateKeyFile {}\n",
                certificate.file.display(),
                certificate.key.display()
            );
        }
        if offer == FtpOffer::Old {
            config += "FactsAdvertise off\n";
        }
        if let FtpOffer::Crowded(most) = offer {
            config += &format!("MaxClientsPerUser {most}\n");
        }
        if let FtpOffer::Quota(kib) = offer {
            config += &quota(folder.path(), kib);
        }
        let file = folder.path().join("config");
        fs::write(&file, config).unwrap();
        fs::set_permissions(&file, fs::Permissions::from_mode(0o644)).unwrap();
        let mut command = Command::new("/usr/sbin/proftpd");
        command.arg("-n").arg("-c").arg(file);
        let server = Some(Server::start(&mut command, port));
        Self { port, root, certificate, _folder: folder, server }
    }

    /// Sends a signal to it and to everything it started.
    pub fn signal(&self, name: &str) {
        if let Some(server) = &self.server {
            server.signal(name);
        }
    }

    /// Ends it at once, with every connection.
    pub fn crash(&mut self) {
        self.server = None;
    }
}

/// What its configuration says whatever the protocol: one user, one folder, a port.
pub(crate) fn common(at: &Path, root: &Path, port: u16) -> String {
    let number = |flag| run("id", &[flag]).trim().to_owned();
    let (user, group) = (number("-un"), number("-gn"));
    let hash = r"$6$wetbank$tyC2PNAZyzYIbHDw2WJ2KI5UY7NtNXp8t0KVM591qn/peEOy64lOjI1ogciaRBcreXUiuKvOqXLXtdMVwT7eu/";
    let line = format!("{}:{hash}:{}:{}::{}:/bin/sh\n", FTP_USER.0, number("-u"), number("-g"), root.display());
    let users = at.join("users");
    fs::write(&users, line).unwrap();
    fs::set_permissions(&users, fs::Permissions::from_mode(0o600)).unwrap();
    let at = at.display();
    format!(
        "ServerType standalone\nServerName test\nDefaultAddress 127.0.0.1\nPort {port}\nUser {user}\nGroup {group}\n\
         UseReverseDNS off\nAuthUserFile {at}/users\nAuthOrder mod_auth_file.c\nRequireValidShell off\nRootLogin on\n\
         UseFtpUsers off\nPidFile {at}/pid\nScoreboardFile {at}/scores\nDelayTable none\nDelayEngine off\nWtmpLog off\n\
         TransferLog none\nSystemLog {at}/log\nMaxInstances 60\nUmask 022\nTimeoutIdle 120\n"
    )
}

/// The tables of a limit, and the lines of the configuration that put it in force.
fn quota(at: &Path, kib: u32) -> String {
    let (name, bytes) = (format!("--name={}", FTP_USER.0), format!("--bytes-upload={}", u64::from(kib) << 10));
    let table = |kind: &str| (format!("--type={kind}"), format!("--table-path={}/{kind}", at.display()));
    for kind in ["limit", "tally"] {
        let (kind, path) = table(kind);
        run("/usr/sbin/ftpquota", &["--create-table", &kind, &path]);
    }
    let (kind, path) = table("limit");
    let limit = ["--quota-type=user", "--limit-type=hard", "--units=byte"];
    run("/usr/sbin/ftpquota", &[&["--add-record", &kind, &path, &name, &bytes], &limit[..]].concat());
    let at = at.display();
    format!(
        "ModulePath /usr/lib/proftpd\nLoadModule mod_quotatab.c\nLoadModule mod_quotatab_file.c\nQuotaEngine on\n\
         QuotaLock {at}/lock\nQuotaLimitTable file:{at}/limit\nQuotaTallyTable file:{at}/tally\n"
    )
}
