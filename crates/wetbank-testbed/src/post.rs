//! Dovecot, where letters are read, and Exim, where they are handed in.

use std::{
    fs,
    os::unix::fs::{MetadataExt, PermissionsExt, chown},
    path::PathBuf,
    process::Command,
};

use tempfile::TempDir;

use crate::{Certificate, Server, free_port, run, wait_until};

/// Who may sign in, and the password.
pub const MAIL_USER: (&str, &str) = ("merrow", "grey heron");
/// The address that letters for this user go to.
pub const MAIL_ADDRESS: &str = "merrow@merrow.example";

/// A mailbox with its two servers. Letters handed in for [`MAIL_ADDRESS`] come into it; those for
/// `nobody@merrow.example` are refused, and all others are kept where [`PostOffice::sent`] finds them.
#[derive(Debug)]
pub struct PostOffice {
    /// Where letters are read, within TLS from the first byte.
    pub imaps: u16,
    /// Where letters are read, secured on demand.
    pub imap: u16,
    /// Where letters are handed in, secured on demand.
    pub smtp: u16,
    /// The certificate of the server where letters are read.
    pub certificate: Certificate,
    /// That of the other one.
    pub send_certificate: Certificate,
    folder: TempDir,
    reading: Option<Server>,
    sending: Option<Server>,
}

impl PostOffice {
    /// Starts both.
    pub fn start() -> Self {
        let folder = TempDir::new().unwrap();
        fs::set_permissions(folder.path(), fs::Permissions::from_mode(0o755)).unwrap();
        let certificate = Certificate::in_folder(folder.path());
        let own = folder.path().join("sending");
        fs::create_dir(&own).unwrap();
        let send_certificate = Certificate::in_folder(&own);
        let (imaps, imap, smtp) = (free_port(), free_port(), free_port());
        let mut office =
            Self { imaps, imap, smtp, certificate, send_certificate, folder, reading: None, sending: None };
        office.start_reading();
        office.start_sending();
        office
    }

    fn path(&self, name: &str) -> PathBuf {
        self.folder.path().join(name)
    }

    /// The folder with the letters (in the form of Maildir).
    pub fn maildir(&self) -> PathBuf {
        self.path("mail")
    }

    fn start_reading(&mut self) {
        let mail = self.maildir();
        for name in ["cur", "new", "tmp"] {
            fs::create_dir_all(mail.join(name)).unwrap();
        }
        let number = |name: &str| run("id", &["-u", name]).trim().parse::<u32>().unwrap();
        let (user, group) = (number("mail"), run("id", &["-g", "mail"]).trim().parse::<u32>().unwrap());
        for path in [mail.clone(), mail.join("cur"), mail.join("new"), mail.join("tmp")] {
            chown(path, Some(user), Some(group)).unwrap();
        }
        let at = self.folder.path().display().to_string();
        let line = format!("{}:{{PLAIN}}{}:{user}:{group}::{at}::\n", MAIL_USER.0, MAIL_USER.1);
        fs::write(self.path("users"), line).unwrap();
        let Certificate { file, key, .. } = &self.certificate;
        let config = format!(
            "base_dir = {at}/run\nstate_dir = {at}/state\nlog_path = {at}/imap.log\nprotocols = imap\nlisten = 127.0.0.1\n\
             ssl = yes\nssl_cert = <{cert}\nssl_key = <{key}\ndisable_plaintext_auth = no\nauth_mechanisms = plain login\n\
             mail_location = maildir:{mail}\nfirst_valid_uid = 1\nfirst_valid_gid = 1\ndefault_internal_user = mail\n\
             default_login_user = mail\ndefault_internal_group = mail\nmaildir_very_dirty_syncs = no\n\
             namespace inbox {{\n inbox = yes\n separator = /\n}}\n\
             passdb {{\n driver = passwd-file\n args = {at}/users\n}}\nuserdb {{\n driver = passwd-file\n args = {at}/users\n}}\n\
             service imap-login {{\n chroot =\n inet_listener imap {{\n  port = {imap}\n }}\n inet_listener imaps {{\n  port = {imaps}\n  ssl = yes\n }}\n}}\n\
             service anvil {{\n chroot =\n}}\nservice stats {{\n chroot =\n}}\n",
            cert = file.display(),
            key = key.display(),
            mail = mail.display(),
            imap = self.imap,
            imaps = self.imaps,
        );
        let config_file = self.path("imap.conf");
        fs::write(&config_file, config).unwrap();
        let mut command = Command::new("/usr/sbin/dovecot");
        command.arg("-F").arg("-c").arg(config_file);
        self.reading = Some(Server::start(&mut command, self.imap));
    }

    /// Starts the server for sending, if it does not run.
    pub fn start_sending(&mut self) {
        let at = self.folder.path().display().to_string();
        for name in ["spool", "sent"] {
            fs::create_dir_all(self.path(name)).unwrap();
            chown(self.path(name), Some(run("id", &["-u", "Debian-exim"]).trim().parse().unwrap()), None).unwrap();
        }
        let Certificate { file, key, .. } = &self.send_certificate;
        // The server gives its rights up before it reads the key.
        let (cert, private) = (self.path("smtp.crt"), self.path("smtp.key"));
        fs::copy(file, &cert).unwrap();
        fs::copy(key, &private).unwrap();
        fs::set_permissions(&private, fs::Permissions::from_mode(0o644)).unwrap();
        let config = format!(
            "primary_hostname = post.merrow.example\nspool_directory = {at}/spool\nlog_file_path = {at}/spool/%slog\n\
             daemon_smtp_ports = {port}\nlocal_interfaces = 127.0.0.1\ntls_advertise_hosts = *\ntls_certificate = {cert}\n\
             tls_privatekey = {private}\nhost_lookup =\nrfc1413_query_timeout = 0s\nmessage_size_limit = 60M\n\
             auth_advertise_hosts = *\nacl_smtp_rcpt = acl_rcpt\nacl_smtp_data = acl_data\nnever_users =\n\
             queue_run_max = 0\nsmtp_accept_max = 50\nsmtp_enforce_sync = false\nkeep_environment =\n\
             begin acl\nacl_rcpt:\n deny message = no such user here\n  recipients = nobody@merrow.example\n\
             accept authenticated = *\n deny message = sign in first\nacl_data:\n accept\n\
             begin routers\nin:\n driver = accept\n condition = ${{if eq{{$local_part}}{{{user}}}}}\n transport = mailbox\n\
             out:\n driver = accept\n transport = kept\n\
             begin transports\nmailbox:\n driver = appendfile\n directory = {mail}\n maildir_format\n user = mail\n group = mail\n\
             kept:\n driver = appendfile\n directory = {at}/sent\n maildir_format\n user = Debian-exim\n group = Debian-exim\n\
             envelope_to_add\n\
             begin authenticators\nplain:\n driver = plaintext\n public_name = PLAIN\n server_prompts = :\n\
             server_condition = ${{if and{{{{eq{{$auth2}}{{{user}}}}}{{eq{{$auth3}}{{{password}}}}}}}}}\n server_set_id = $auth2\n",
            port = self.smtp,
            cert = cert.display(),
            private = private.display(),
            mail = self.maildir().display(),
            user = MAIL_USER.0,
            password = MAIL_USER.1,
        );
        let config_file = self.path("smtp.conf");
        fs::write(&config_file, config).unwrap();
        fs::set_permissions(&config_file, fs::Permissions::from_mode(0o644)).unwrap();
        let mut command = Command::new("/usr/sbin/exim4");
        command.arg("-C").arg(config_file).args(["-bdf", "-q1m"]);
        self.sending = Some(Server::start(&mut command, self.smtp));
    }

    /// Ends the server for sending.
    pub fn stop_sending(&mut self) {
        self.sending = None;
    }

    /// Ends the server for reading, with every connection.
    pub fn stop_reading(&mut self) {
        self.reading = None;
    }

    /// Puts a letter into the mailbox as another server would.
    pub fn bring(&self, name: &str, letter: &[u8]) {
        let (aside, there) = (self.maildir().join("tmp").join(name), self.maildir().join("new").join(name));
        let owner = fs::metadata(self.maildir()).unwrap();
        fs::write(&aside, letter).unwrap();
        chown(&aside, Some(owner.uid()), Some(owner.gid())).unwrap();
        fs::rename(aside, there).unwrap();
    }

    fn letters(folder: PathBuf) -> Vec<String> {
        let mut letters = Vec::new();
        for below in ["new", "cur"] {
            for entry in fs::read_dir(folder.join(below)).into_iter().flatten().flatten() {
                letters.push(String::from_utf8_lossy(&fs::read(entry.path()).unwrap()).into_owned());
            }
        }
        letters.sort();
        letters
    }

    /// The letters in a folder of the mailbox; an empty name is where they come in.
    pub fn folder(&self, name: &str) -> Vec<String> {
        let path =
            if name.is_empty() { self.maildir() } else { self.maildir().join(format!(".{}", name.replace('/', "."))) };
        Self::letters(path)
    }

    /// The letters that were handed in for others.
    pub fn sent(&self) -> Vec<String> {
        Self::letters(self.path("sent"))
    }

    /// Waits until so many were handed in for others.
    pub fn wait_sent(&self, count: usize) -> Vec<String> {
        wait_until(&format!("{count} letters are handed in, there are {}", self.sent().len()), || {
            self.sent().len() >= count
        });
        self.sent()
    }
}
