//! Servers and roots for the conformance suite.

#![allow(dead_code, reason = "each test file uses its part")]

use std::{
    ffi::OsStr,
    fs,
    os::unix::{ffi::OsStrExt, fs::PermissionsExt},
    path::{Path, PathBuf},
    sync::{Arc, LazyLock},
};

use bytes::Bytes;
use futures_util::StreamExt;
use reqwest::Method;
use secrecy::SecretString;
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::TcpListener,
};
use wetbank_core::{
    AgreedSpec, BucketAddressing, BucketSpec, FtpSecurity, FtpSpec, Name, RelPath, SILENCE, SftpSignIn, SftpSpec,
    ShareSpec, WebSignIn, WebdavSpec,
};
use wetbank_places::{Collision, Entry, GrantKeeper, Place, PlaceError, Sftp, SftpCredentials, Share, Webdav};
use wetbank_standins::{BucketStandin, DriveStandin, DriveStandinOptions, DriveUser};
use wetbank_testbed::{Certificate, Cutter, FTP_USER, Proftpd, SHARE_NAME, SHARE_USER, Samba, WEBDAV_USER};
pub use wetbank_testbed::{Sshd, client_key};

/// A fresh root with its place; the folder goes when this goes.
pub struct Rig {
    pub place: Arc<dyn Place>,
    pub outside: Outside,
    /// What lies between the place and its server, if it has one.
    pub line: Option<Cutter>,
    /// The server tells the file behind a link, not the link.
    pub hides_links: bool,
    /// The server refuses some names that its kind allows.
    pub is_choosy: bool,
    pub guards: Vec<Box<dyn std::any::Any + Send>>,
}

impl Rig {
    pub fn tells_links(&self) -> bool {
        self.place.capabilities().tells_links && !self.hides_links
    }
}

/// The same root as somebody else sees it, without any code of ours in between.
pub enum Outside {
    Folder(PathBuf),
    /// The address of a bucket that asks for no signature.
    Open(String),
    Standin(Arc<BucketStandin>),
    Drive(Arc<DriveStandin>),
}

/// A cloud drive whose user has agreed, and where the lasting half of that is kept.
pub struct AgreedDrive {
    pub drive: Arc<DriveStandin>,
    pub keeper: Arc<MemoryKeeper>,
}

/// Who has files on the drive.
pub const DRIVE_USER: &str = "tove";

#[derive(Debug, Default)]
pub struct MemoryKeeper(pub std::sync::Mutex<Option<SecretString>>);

#[async_trait::async_trait]
impl GrantKeeper for MemoryKeeper {
    async fn load(&self) -> Result<Option<SecretString>, String> {
        Ok(self.0.lock().unwrap().clone())
    }

    async fn keep(&self, lasting: &SecretString) -> Result<(), String> {
        *self.0.lock().unwrap() = Some(lasting.clone());
        Ok(())
    }
}

impl AgreedDrive {
    pub async fn start(change: impl FnOnce(&mut DriveStandinOptions)) -> Self {
        let user = |tenant: &str, name: &str| DriveUser {
            tenant: tenant.to_owned(),
            name: name.to_owned(),
            password: "grey heron".to_owned(),
        };
        let mut options = DriveStandinOptions::new(vec![user("merrow", DRIVE_USER), user("harlan", "odd")]);
        change(&mut options);
        let drive = Arc::new(DriveStandin::start(options).await.unwrap());
        let keeper = Arc::new(MemoryKeeper::default());
        let agreed = Self { drive, keeper };
        agreed.agree(&["files.read", "files.write"]);
        agreed
    }

    pub fn agree(&self, rights: &[&str]) {
        *self.keeper.0.lock().unwrap() = Some(self.drive.grant(DRIVE_USER, rights).into());
    }

    pub fn place(&self, tenant: &str) -> Webdav {
        self.place_at(self.drive.files(tenant))
    }

    /// The same at an address that leads there.
    pub fn place_at(&self, url: String) -> Webdav {
        let agreed = AgreedSpec {
            server: self.drive.url(),
            client: "wetbank".to_owned(),
            client_secret: None,
            rights: vec!["files.read".to_owned(), "files.write".to_owned()],
            grant: Name::new("grant").unwrap(),
        };
        let spec = WebdavSpec {
            url,
            sign_in: WebSignIn::Agreed(agreed.clone()),
            certificate: None,
            connections: 8,
            silence: SILENCE,
        };
        Webdav::agreed(Name::new("drive").unwrap(), spec, agreed, None, self.keeper.clone())
    }
}

impl Outside {
    /// The folder behind it on this machine.
    pub fn folder(&self) -> Option<&Path> {
        match self {
            Self::Folder(root) => Some(root),
            _ => None,
        }
    }

    /// A request to a store that looks only at who signed, not at the signature.
    pub fn open_request(method: reqwest::Method, url: &str) -> reqwest::RequestBuilder {
        static CLIENT: LazyLock<reqwest::Client> = LazyLock::new(reqwest::Client::new);
        let who =
            "AWS4-HMAC-SHA256 Credential=merrow/20260314/us-east-1/s3/aws4_request, SignedHeaders=host, Signature=0";
        CLIENT.request(method, url).header("authorization", who)
    }

    fn url(bucket: &str, name: &[u8]) -> String {
        format!("{bucket}/{}", percent_encoding::percent_encode(name, percent_encoding::NON_ALPHANUMERIC))
            .replace("%2F", "/")
    }

    /// Puts a file there, with the folders above it.
    pub async fn put(&self, name: impl AsRef<[u8]>, content: impl AsRef<[u8]>) {
        let (name, content) = (name.as_ref(), content.as_ref());
        match self {
            Self::Folder(root) => {
                let file = root.join(OsStr::from_bytes(name));
                fs::create_dir_all(file.parent().unwrap()).unwrap();
                fs::write(&file, content).unwrap();
                // The server may be another user.
                fs::set_permissions(file, fs::Permissions::from_mode(0o666)).unwrap();
            }
            Self::Open(bucket) => {
                let put = Self::open_request(Method::PUT, &Self::url(bucket, name)).body(content.to_vec()).send().await;
                assert!(put.unwrap().status().is_success());
            }
            Self::Standin(standin) => standin.put(std::str::from_utf8(name).unwrap(), content.to_vec()),
            Self::Drive(drive) => drive.put("merrow", name, content.to_vec(), "Tove"),
        }
    }

    /// The content of a file, if it is there.
    pub async fn get(&self, name: impl AsRef<[u8]>) -> Option<Vec<u8>> {
        let name = name.as_ref();
        match self {
            Self::Folder(root) => fs::read(root.join(OsStr::from_bytes(name))).ok(),
            Self::Open(bucket) => {
                let got = Self::open_request(Method::GET, &Self::url(bucket, name)).send().await.unwrap();
                if got.status().is_success() { Some(got.bytes().await.unwrap().to_vec()) } else { None }
            }
            Self::Standin(standin) => standin.object(std::str::from_utf8(name).unwrap()),
            Self::Drive(drive) => drive.get("merrow", name).map(|content| content.to_vec()),
        }
    }

    pub async fn make_folder(&self, name: &str) {
        match self {
            Self::Folder(root) => fs::create_dir_all(root.join(name)).unwrap(),
            Self::Drive(drive) => drive.make_folder("merrow", name),
            _ => self.put(format!("{name}/"), "").await,
        }
    }

    pub async fn has_folder(&self, name: &str) -> bool {
        match self {
            Self::Folder(root) => root.join(name).is_dir(),
            Self::Drive(drive) => drive.has_folder("merrow", name),
            _ => self.get(format!("{name}/")).await.is_some(),
        }
    }

    /// Takes the empty root away.
    pub async fn remove(&self) {
        match self {
            Self::Folder(root) => fs::remove_dir(root).unwrap(),
            Self::Open(bucket) => {
                let removed = Self::open_request(Method::DELETE, bucket).send().await.unwrap();
                assert!(removed.status().is_success());
            }
            Self::Standin(standin) => standin.remove_bucket(),
            Self::Drive(drive) => drive.remove("merrow"),
        }
    }
}

/// A web server that gives every request the same answer and then hangs up; its address.
pub async fn always(answer: String) -> String {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let url = format!("http://{}", listener.local_addr().unwrap());
    tokio::spawn(async move {
        while let Ok((mut stream, _)) = listener.accept().await {
            let mut request = [0; 65_536];
            let _ = stream.read(&mut request).await;
            let _ = stream.write_all(answer.as_bytes()).await;
            let _ = stream.shutdown().await;
        }
    });
    url
}

pub fn path(text: &str) -> RelPath {
    RelPath::parse(text).unwrap()
}

/// Stages a file under a temporary name, to become another.
pub async fn write(place: &dyn Place, part: &str, to: &RelPath, content: &[u8]) -> Result<Entry, PlaceError> {
    let mut staged = place.stage(&path(part), to, None).await?;
    for piece in content.chunks(100_000) {
        staged.write(Bytes::copy_from_slice(piece)).await?;
    }
    staged.finish().await
}

/// Writes a file as the engine does: aside, then under a name that must be free.
pub async fn put(place: &dyn Place, part: &str, to: &RelPath, content: &[u8]) -> Result<(), PlaceError> {
    write(place, part, to, content).await?;
    place.rename(&path(part), to, Collision::Refuse).await.map(drop)
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

pub fn bucket_spec(url: &str, bucket: &str) -> BucketSpec {
    BucketSpec {
        url: url.to_owned(),
        bucket: bucket.to_owned(),
        region: "us-east-1".to_owned(),
        addressing: BucketAddressing::Path,
        sign_in: Some(("merrow".to_owned(), Name::new("secret-key").unwrap())),
        root: String::new(),
        certificate: None,
        connections: 8,
        silence: SILENCE,
    }
}

pub fn sftp_spec(sshd: &Sshd, root: &Path) -> SftpSpec {
    SftpSpec {
        host: sshd.address.ip().to_string(),
        port: sshd.address.port(),
        user: sshd.user(),
        sign_in: SftpSignIn::Key { key: Name::new("key").unwrap(), passphrase: None, password: None },
        host_key: Some(sshd.fingerprint.clone()),
        root: root.display().to_string(),
        staged: true,
        connections: 3,
        silence: SILENCE,
    }
}

/// A place on a server that signs in with a fresh key.
pub fn sftp_place(sshd: &Sshd, root: &Path) -> Sftp {
    let key = fresh_key(sshd, &["ed25519"], "");
    let credentials = SftpCredentials::Key { key, passphrase: None, password: None };
    Sftp::new(Name::new("server").unwrap(), sftp_spec(sshd, root), credentials)
}

/// The share of a server, as its user.
pub fn share_place(server: &Samba, encrypted: bool) -> Share {
    Share::new(Name::new("server").unwrap(), share_spec(server, encrypted), SHARE_USER.1.into())
}

/// How to reach it.
pub fn share_spec(server: &Samba, encrypted: bool) -> ShareSpec {
    ShareSpec {
        host: "127.0.0.1".to_owned(),
        port: server.port,
        share: SHARE_NAME.to_owned(),
        domain: String::new(),
        user: SHARE_USER.0.to_owned(),
        password: Name::new("password").unwrap(),
        encrypted,
        root: String::new(),
        connections: 4,
        silence: SILENCE,
    }
}

/// How to reach an FTP server on this port, as the user of all of ours.
pub fn ftp_spec(port: u16, security: FtpSecurity, root: &Path) -> FtpSpec {
    FtpSpec {
        host: "127.0.0.1".to_owned(),
        port,
        user: FTP_USER.0.to_owned(),
        password: Name::new("password").unwrap(),
        security,
        active: false,
        certificate: None,
        root: root.display().to_string(),
        staged: true,
        connections: 8,
        silence: SILENCE,
    }
}

/// The same for a real one, whose certificate is known.
pub fn proftpd_spec(server: &Proftpd, security: FtpSecurity) -> FtpSpec {
    let certificate = Some(server.certificate.fingerprint.clone());
    FtpSpec { certificate, ..ftp_spec(server.port, security, server.root.path()) }
}

/// How to reach a WebDAV server, whose certificate is known if it has one.
pub fn webdav_spec(url: &str, certificate: Option<&Certificate>) -> WebdavSpec {
    WebdavSpec {
        url: url.to_owned(),
        sign_in: WebSignIn::Password(WEBDAV_USER.0.to_owned(), Name::new("password").unwrap()),
        certificate: certificate.map(|c| c.fingerprint.clone()),
        connections: 8,
        silence: SILENCE,
    }
}
