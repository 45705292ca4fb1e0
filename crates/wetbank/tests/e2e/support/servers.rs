//! The places of servers that whole jobs need.

use std::{fs, os::unix::fs::PermissionsExt, path::Path};

use wetbank_standins::{SftpStandin, SftpStandinOptions};
use wetbank_testbed::{Apache, FTP_USER, MAIL_ADDRESS, MAIL_USER, PostOffice, Proftpd, Sshd, WEBDAV_USER, client_key};

use super::{Archive, Office};

/// Servers that a job needs, the office's secrets for them, and the office itself.
pub struct Scene {
    pub runtime: tokio::runtime::Runtime,
    pub office: Office,
}

const PLACES: &str = r#"
[place.office]
kind = "folder"
root = "@/office"
"#;

impl Default for Scene {
    fn default() -> Self {
        Self::new()
    }
}

impl Scene {
    /// An office that knows the secrets of all servers.
    pub fn new() -> Self {
        let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().unwrap();
        let office = Office::open();
        for (name, secret) in [
            ("ftp", FTP_USER.1),
            ("dav", WEBDAV_USER.1),
            ("machine", "grey heron"),
            ("post", MAIL_USER.1),
            ("desk-signal", "tide"),
        ] {
            assert!(office.wetbank_with(&["secret", "set", name], secret).status.success());
        }
        Self { runtime, office }
    }

    /// A bucket and its place.
    pub fn bucket(&self, name: &str) -> (Archive, String) {
        let archive = Archive::open();
        let place = archive.place(&self.office, name);
        (archive, place)
    }

    /// Puts the book in force; the places of the office and of the servers, then the rules.
    pub fn book(&self, parts: &[&str]) {
        self.office.book(&format!("{PLACES}{}", parts.join("\n")));
    }
}

/// An SFTP server for a folder of the office, and its place.
pub fn sftp(scene: &Scene, name: &str, below: &str) -> (SftpStandin, String) {
    let root = scene.office.path(below);
    fs::create_dir_all(&root).unwrap();
    let options = SftpStandinOptions {
        listen: ([127, 0, 0, 1], 0).into(),
        root,
        user: "merrow".to_owned(),
        password: "grey heron".to_owned(),
    };
    let server = scene.runtime.block_on(SftpStandin::start(options)).unwrap();
    let place = format!(
        "[place.{name}]\nkind = \"sftp\"\nhost = \"127.0.0.1\"\nport = {}\nuser = \"merrow\"\n\
         password = {{ secret = \"machine\" }}\nhost-key = \"{}\"\nroot = \"/\"\n",
        server.address().port(),
        server.fingerprint()
    );
    (server, place)
}

/// A place on a real OpenSSH server, its root a folder of the office: the key is authorised there and set as a secret.
pub fn openssh(office: &Office, sshd: &Sshd, name: &str, below: &str) -> String {
    let root = office.path(below);
    fs::create_dir_all(&root).unwrap();
    let (file, key) = client_key(sshd.folder.path(), &["ed25519"], "");
    sshd.authorize(&file);
    assert!(office.wetbank_with(&["secret", "set", &format!("{name}-ssh")], &key).status.success());
    format!(
        "[place.{name}]\nkind = \"sftp\"\nhost = \"127.0.0.1\"\nport = {}\nuser = \"{}\"\n\
         key = {{ secret = \"{name}-ssh\" }}\nhost-key = \"{}\"\nroot = \"{}\"\n",
        sshd.address.port(),
        sshd.user(),
        sshd.fingerprint,
        root.display()
    )
}

/// A place on a web server.
pub fn dav(name: &str, apache: &Apache) -> String {
    format!(
        "[place.{name}]\nkind = \"webdav\"\nurl = \"{}\"\nuser = \"merrow\"\npassword = {{ secret = \"dav\" }}\n",
        apache.url
    )
}

/// A place on an FTP server, its address as a person pastes it.
pub fn ftp(name: &str, server: &Proftpd) -> String {
    format!(
        "[place.{name}]\nkind = \"ftp\"\nhost = \" ftp://127.0.0.1:{}// \"\nuser = \"merrow\"\n\
         password = {{ secret = \"ftp\" }}\nsecurity = \"none\"\nroot = \"{}\"\n",
        server.port,
        server.root.path().display()
    )
}

/// A folder that the server's own user may write, too.
pub fn shared_folder(path: &Path) {
    fs::create_dir_all(path).unwrap();
    fs::set_permissions(path, fs::Permissions::from_mode(0o777)).unwrap();
}

/// A mailbox.
pub fn mailbox(name: &str, post: &PostOffice) -> String {
    format!(
        "[place.{name}]\nkind = \"mailbox\"\nhost = \"127.0.0.1\"\nport = {}\nuser = \"{}\"\npassword = {{ secret = \"post\" }}\n\
         send-by = \"127.0.0.1:{}\"\nsend-security = \"tls\"\nsender = \"{MAIL_ADDRESS}\"\ncertificate = \"{}\"\nsend-certificate = \"{}\"\n",
        post.imaps, MAIL_USER.0, post.smtp, post.certificate.fingerprint, post.send_certificate.fingerprint
    )
}
