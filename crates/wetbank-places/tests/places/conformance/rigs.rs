//! A place of each kind on its real server, and a line to it that can be cut.

use std::{any::Any, path::Path, sync::Arc};

use tempfile::TempDir;
use wetbank_core::{BucketAddressing, FtpSecurity, FtpSpec, Name, SILENCE, SftpSignIn, SftpSpec, ShareSpec};
use wetbank_places::{Bucket, Folder, Ftp, Sftp, SftpCredentials, Share, Webdav};
use wetbank_standins::{BucketStandin, BucketStandinOptions, FtpStandin, FtpStandinOptions};
use wetbank_testbed::{
    Apache, Certificate, Cutter, FTP_USER, FtpOffer, FtpServer, Moto, Proftpd, ProftpdSsh, SHARE_USER, Samba,
    ShareOffer, WEBDAV_USER, WebServer,
};

use crate::support::{
    AgreedDrive, Outside, Rig, Sshd, bucket_spec, fresh_key, ftp_spec, proftpd_spec, sftp_spec, share_spec, webdav_spec,
};

pub fn folder() -> Rig {
    let root = TempDir::new().unwrap();
    let place = Folder::new(Name::new("here").unwrap(), root.path());
    let outside = Outside::Folder(root.path().to_owned());
    Rig {
        place: Arc::new(place),
        outside,
        line: None,
        hides_links: false,
        is_choosy: false,
        guards: vec![Box::new(root)],
    }
}

pub fn sftp() -> Rig {
    let root = TempDir::new().unwrap();
    let sshd = Sshd::start();
    let line = Cutter::before(sshd.address);
    let spec = SftpSpec { port: line.address.port(), ..sftp_spec(&sshd, root.path()) };
    let credentials =
        SftpCredentials::Key { key: fresh_key(&sshd, &["ed25519"], ""), passphrase: None, password: None };
    Rig {
        place: Arc::new(Sftp::new(Name::new("server").unwrap(), spec, credentials)),
        outside: Outside::Folder(root.path().to_owned()),
        line: Some(line),
        hides_links: false,
        is_choosy: false,
        guards: vec![Box::new(root), Box::new(sshd)],
    }
}

pub fn webdav() -> Rig {
    let apache = Apache::start(true);
    let (url, root) = (apache.url.clone(), apache.root.path().to_owned());
    web(&url, &root, apache.certificate.clone(), Box::new(apache))
}

pub fn webdav_with_slashes() -> Rig {
    let apache = Apache::with_slashes();
    let (url, root) = (apache.url.clone(), apache.root.path().to_owned());
    web(&url, &root, None, Box::new(apache))
}

pub fn webdav_on(server: WebServer) -> Rig {
    let (url, root) = (server.url.clone(), server.root.path().to_owned());
    Rig { is_choosy: true, ..web(&url, &root, None, Box::new(server)) }
}

fn web(url: &str, root: &Path, certificate: Option<Certificate>, server: Box<dyn Any + Send>) -> Rig {
    let (line, url) = before(url);
    let place =
        Webdav::new(Name::new("server").unwrap(), webdav_spec(&url, certificate.as_ref()), Some(WEBDAV_USER.1.into()));
    let outside = Outside::Folder(root.to_owned());
    Rig {
        place: Arc::new(place),
        outside,
        line: Some(line),
        hides_links: false,
        is_choosy: false,
        guards: vec![server],
    }
}

pub fn ftp(offer: FtpOffer) -> Rig {
    let server = Proftpd::start(offer);
    let security = match offer {
        FtpOffer::Tls => FtpSecurity::Tls,
        FtpOffer::TlsFromStart => FtpSecurity::TlsFromStart,
        FtpOffer::Plain | FtpOffer::Old | FtpOffer::Crowded(_) | FtpOffer::Quota(_) => FtpSecurity::None,
    };
    let line = Cutter::before(([127, 0, 0, 1], server.port).into());
    let spec = FtpSpec { port: line.address.port(), ..proftpd_spec(&server, security) };
    let place = Ftp::new(Name::new("server").unwrap(), spec, FTP_USER.1.into());
    Rig {
        place: Arc::new(place),
        outside: Outside::Folder(server.root.path().to_owned()),
        line: Some(line),
        hides_links: false,
        is_choosy: false,
        guards: vec![Box::new(server)],
    }
}

pub fn ftp_on(server: FtpServer) -> Rig {
    let line = Cutter::before(([127, 0, 0, 1], server.port).into());
    let spec = FtpSpec {
        user: server.user.to_owned(),
        ..ftp_spec(line.address.port(), FtpSecurity::None, Path::new(server.path))
    };
    let place = Ftp::new(Name::new("server").unwrap(), spec, FTP_USER.1.into());
    let outside = Outside::Folder(server.root.clone());
    Rig {
        place: Arc::new(place),
        outside,
        line: Some(line),
        hides_links: false,
        is_choosy: true,
        guards: vec![Box::new(server)],
    }
}

pub fn proftpd_ssh() -> Rig {
    let server = ProftpdSsh::start(None, "");
    let line = Cutter::before(([127, 0, 0, 1], server.port).into());
    let spec = SftpSpec {
        host: "127.0.0.1".to_owned(),
        port: line.address.port(),
        user: FTP_USER.0.to_owned(),
        sign_in: SftpSignIn::Password(Name::new("password").unwrap()),
        host_key: Some(server.fingerprint.clone()),
        root: server.root.path().display().to_string(),
        staged: true,
        connections: 3,
        silence: SILENCE,
    };
    let place = Sftp::new(Name::new("server").unwrap(), spec, SftpCredentials::Password(FTP_USER.1.into()));
    let outside = Outside::Folder(server.root.path().to_owned());
    Rig {
        place: Arc::new(place),
        outside,
        line: Some(line),
        hides_links: true,
        is_choosy: false,
        guards: vec![Box::new(server)],
    }
}

pub fn share(offer: ShareOffer) -> Rig {
    let server = Samba::start(offer);
    let line = Cutter::before(([127, 0, 0, 1], server.port).into());
    let encrypted = matches!(offer, ShareOffer::Usual | ShareOffer::OnlyEncrypted);
    let spec = ShareSpec { port: line.address.port(), ..share_spec(&server, encrypted) };
    let place = Share::new(Name::new("server").unwrap(), spec, SHARE_USER.1.into());
    let outside = Outside::Folder(server.root.path().to_owned());
    Rig {
        place: Arc::new(place),
        outside,
        line: Some(line),
        hides_links: false,
        is_choosy: false,
        guards: vec![Box::new(server)],
    }
}

pub async fn bucket(addressing: BucketAddressing) -> Rig {
    let moto = Moto::shared();
    let name = format!("tidewatch-{:x}", rand10::random::<u64>());
    let url = format!("{}/{name}", moto.url);
    let made = Outside::open_request(reqwest::Method::PUT, &url).send().await.unwrap();
    assert!(made.status().is_success());
    let (line, behind) = before(&moto.url);
    let mut spec = bucket_spec(&behind, &name);
    if addressing == BucketAddressing::Host {
        // A name before this one leads here, too.
        spec.url = behind.replace("127.0.0.1", "localhost");
        spec.addressing = addressing;
    }
    let place = Bucket::new(Name::new("server").unwrap(), spec, Some("any".into())).unwrap();
    Rig {
        place: Arc::new(place),
        outside: Outside::Open(url),
        line: Some(line),
        hides_links: false,
        is_choosy: false,
        guards: Vec::new(),
    }
}

pub async fn drive() -> Rig {
    let agreed = AgreedDrive::start(|_| {}).await;
    let (line, url) = before(&agreed.drive.files("merrow"));
    let place = Arc::new(agreed.place_at(url));
    Rig {
        place,
        outside: Outside::Drive(agreed.drive.clone()),
        line: Some(line),
        hides_links: false,
        is_choosy: false,
        guards: Vec::new(),
    }
}

pub async fn small_bucket() -> Rig {
    let options = BucketStandinOptions {
        listen: ([127, 0, 0, 1], 0).into(),
        bucket: "tidewatch".to_owned(),
        access_key: "merrow".to_owned(),
        secret_key: "grey heron".to_owned(),
    };
    let standin = Arc::new(BucketStandin::start(options).await.unwrap());
    let (line, url) = before(&standin.url());
    let spec = bucket_spec(&url, "tidewatch");
    let place = Bucket::new(Name::new("server").unwrap(), spec, Some("grey heron".into())).unwrap();
    Rig {
        place: Arc::new(place),
        outside: Outside::Standin(standin),
        line: Some(line),
        hides_links: false,
        is_choosy: false,
        guards: Vec::new(),
    }
}

pub async fn small_ftp() -> Rig {
    let root = TempDir::new().unwrap();
    let options = FtpStandinOptions {
        listen: ([127, 0, 0, 1], 0).into(),
        root: root.path().to_owned(),
        user: "merrow".to_owned(),
        password: "grey heron".to_owned(),
    };
    let standin = FtpStandin::start(options).await.unwrap();
    let line = Cutter::before(standin.address());
    let spec = ftp_spec(line.address.port(), FtpSecurity::None, Path::new(""));
    let place = Ftp::new(Name::new("server").unwrap(), spec, "grey heron".into());
    let outside = Outside::Folder(root.path().to_owned());
    Rig {
        place: Arc::new(place),
        outside,
        line: Some(line),
        hides_links: false,
        is_choosy: false,
        guards: vec![Box::new(root), Box::new(standin)],
    }
}

/// A line to a server that can be cut, and the server's address at the near end of it.
fn before(url: &str) -> (Cutter, String) {
    let url = reqwest::Url::parse(url).unwrap();
    let port = url.port().unwrap();
    let line = Cutter::before(([127, 0, 0, 1], port).into());
    let behind = url.as_str().trim_end_matches('/').replace(&format!(":{port}"), &format!(":{}", line.address.port()));
    (line, behind)
}
