//! Servers that do less, or otherwise, than the ones we know best.

use std::{path::Path, sync::Arc};

use crate::support::{client_key, ftp_spec, path, put, read, webdav_spec};
use futures_util::StreamExt;
use tempfile::TempDir;
use wetbank_core::{FtpSecurity, FtpSpec, Name, RelPath, SILENCE, SftpSignIn, SftpSpec};
use wetbank_places::{Depth, Ftp, Place, PlaceErrorKind, Sftp, SftpCredentials, Webdav, probe};
use wetbank_testbed::{Apache, Cutter, FTP_USER, FtpOffer, FtpServer, Proftpd, ProftpdSsh, WEBDAV_USER, WebServer};

fn name() -> Name {
    Name::new("server").unwrap()
}

fn ftp(server: &FtpServer, change: impl FnOnce(&mut FtpSpec)) -> Ftp {
    let mut spec = ftp_spec(server.port, FtpSecurity::None, Path::new(server.path));
    spec.user = server.user.to_owned();
    change(&mut spec);
    Ftp::new(name(), spec, FTP_USER.1.into())
}

#[tokio::test(flavor = "multi_thread")]
async fn a_server_that_takes_few_connections_gets_all_files_by_few() {
    let server = Proftpd::start(FtpOffer::Crowded(2));
    let place = Arc::new(Ftp::new(name(), crate::support::proftpd_spec(&server, FtpSecurity::None), FTP_USER.1.into()));
    let mut writers = tokio::task::JoinSet::new();
    for number in 0..60 {
        let place = place.clone();
        writers.spawn(async move {
            put(place.as_ref(), &format!(".wetbank-{number}"), &path(&format!("{number}.csv")), b"1").await
        });
    }
    while let Some(done) = writers.join_next().await {
        done.unwrap().unwrap();
    }
    assert_eq!(place.list(&RelPath::root(), Depth::One).count().await, 60);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_server_whose_connections_others_use_up_is_busy_and_not_locked() {
    let server = Proftpd::start(FtpOffer::Crowded(1));
    let spec = crate::support::proftpd_spec(&server, FtpSecurity::None);
    let first = Ftp::new(name(), spec.clone(), FTP_USER.1.into());
    first.reach().await.unwrap();
    let error = Ftp::new(name(), spec, FTP_USER.1.into()).reach().await.unwrap_err();
    assert_eq!(error.kind, PlaceErrorKind::Busy, "{error}");
    assert!(error.is_retryable() && error.detail.contains("maximum number of clients"), "{error}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_server_that_asks_for_tls_is_told_as_that_and_not_as_a_wrong_password() {
    let server = Proftpd::start(FtpOffer::Tls);
    let place = Ftp::new(name(), crate::support::proftpd_spec(&server, FtpSecurity::None), FTP_USER.1.into());
    let error = place.reach().await.unwrap_err();
    assert_eq!(error.kind, PlaceErrorKind::Security, "{error}");
    assert!(error.detail.contains("TLS") && !error.remedy().contains("secret"), "{error}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_wrong_password_is_told_in_the_servers_words() {
    let server = Proftpd::start(FtpOffer::Plain);
    let place = Ftp::new(name(), crate::support::proftpd_spec(&server, FtpSecurity::None), "bittern".into());
    let error = place.reach().await.unwrap_err();
    assert_eq!(error.kind, PlaceErrorKind::Refused, "{error}");
    assert!(error.detail.contains("530") && !error.to_string().contains("bittern"), "{error}");
}

#[tokio::test(flavor = "multi_thread")]
async fn data_comes_by_pasv_where_epsv_is_refused_and_from_the_server_where_it_is_told_to() {
    for (more, active) in [("cmds_denied=EPSV", false), ("pasv_enable=NO", true)] {
        let server = FtpServer::vsftpd(more);
        let place = ftp(&server, |spec| spec.active = active);
        put(&place, ".wetbank-1", &path("assay.csv"), b"grades").await.unwrap_or_else(|e| panic!("{more}: {e}"));
        assert_eq!(read(&place, "assay.csv").await.unwrap(), b"grades", "{more}");
        let missing = read(&place, "none.csv").await.unwrap_err();
        assert_eq!(missing.kind, PlaceErrorKind::NotFound, "{missing}");
        assert_eq!(place.list(&RelPath::root(), Depth::One).count().await, 1, "{more}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_on_its_way_takes_few_commands_once_its_folder_is_known() {
    for server in [FtpServer::vsftpd(""), FtpServer::pure()] {
        let line = Cutter::before(([127, 0, 0, 1], server.port).into());
        let place = ftp(&server, |spec| spec.port = line.address.port());
        let folder = path("2026/03/14");
        let bring = async |number: u32| {
            place.make_folder(&folder).await.unwrap();
            let name = folder.join_name(format!("{number}.csv").as_bytes()).unwrap();
            put(&place, &format!("2026/03/14/.wetbank-{number}"), &name, b"1").await.unwrap();
        };
        bring(1).await;
        line.cut_at(0);
        bring(2).await;
        // A connection asked by an address of its own is a few commands more.
        assert!(line.requests() <= 17, "{}: {} commands", server.user, line.requests());
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_folder_that_somebody_removed_is_not_taken_for_known() {
    let server = FtpServer::vsftpd("");
    let place = ftp(&server, |_| {});
    place.make_folder(&path("2026")).await.unwrap();
    put(&place, "2026/.wetbank-1", &path("2026/a.csv"), b"1").await.unwrap();
    std::fs::remove_dir_all(server.root.join("2026")).unwrap();
    let error = put(&place, "2026/.wetbank-2", &path("2026/b.csv"), b"2").await.unwrap_err();
    assert_eq!(error.kind, PlaceErrorKind::NotFound, "{error}");
    place.make_folder(&path("2026")).await.unwrap();
    put(&place, "2026/.wetbank-2", &path("2026/b.csv"), b"2").await.unwrap();
}

#[tokio::test(flavor = "multi_thread")]
async fn a_server_that_asks_for_key_and_password_gets_both_and_says_which_is_missing() {
    let keys = TempDir::new().unwrap();
    let (file, key) = client_key(keys.path(), &["rsa", "-b", "2048"], "");
    let server = ProftpdSsh::start(Some(&file.with_extension("pub")), "");
    let spec = |password: bool| SftpSpec {
        host: "127.0.0.1".to_owned(),
        port: server.port,
        user: FTP_USER.0.to_owned(),
        sign_in: SftpSignIn::Key {
            key: Name::new("our-key").unwrap(),
            passphrase: None,
            password: password.then(|| Name::new("our-password").unwrap()),
        },
        host_key: Some(server.fingerprint.clone()),
        root: server.root.path().display().to_string(),
        staged: true,
        connections: 2,
        silence: SILENCE,
    };
    let place = |password: Option<&str>| {
        let password = password.map(Into::into);
        let credentials = SftpCredentials::Key { key: key.clone().into(), passphrase: None, password };
        Sftp::new(name(), spec(credentials_have(&credentials)), credentials)
    };
    place(Some(FTP_USER.1)).reach().await.unwrap();
    let missing = place(None).reach().await.unwrap_err();
    assert_eq!(missing.kind, PlaceErrorKind::Security, "{missing}");
    assert!(missing.detail.contains("the key was accepted") && missing.detail.contains("password"), "{missing}");
    let wrong = place(Some("bittern")).reach().await.unwrap_err();
    assert_eq!(wrong.kind, PlaceErrorKind::Refused, "{wrong}");
    assert!(wrong.detail.contains("our-password") && wrong.remedy().contains("our-password"), "{wrong}");
}

fn credentials_have(credentials: &SftpCredentials) -> bool {
    matches!(credentials, SftpCredentials::Key { password: Some(_), .. })
}

#[tokio::test(flavor = "multi_thread")]
async fn whoever_tells_no_changes_says_so_in_any_folder_and_is_tested_with_a_folder() {
    let apache = Apache::with_slashes();
    let (nginx, lighttpd) = (WebServer::nginx(), WebServer::lighttpd());
    for (url, root) in
        [(&nginx.url, nginx.root.path()), (&lighttpd.url, lighttpd.root.path()), (&apache.url, apache.root.path())]
    {
        let place = Webdav::new(name(), webdav_spec(url, None), Some(WEBDAV_USER.1.into()));
        place.make_folder(&path("in")).await.unwrap();
        let told = place.changes(&path("in"), Depth::One, None).unwrap().next().await.unwrap().unwrap_err();
        assert_eq!(told.kind, PlaceErrorKind::Unsupported, "{told}");
        place.remove_folder(&path("in")).await.unwrap();
        let steps = probe(&place, true).await;
        assert!(steps.iter().all(|step| step.outcome.is_ok()), "{steps:?}");
        assert!(steps.iter().any(|step| step.what == "remove the folder"), "{steps:?}");
        assert_eq!(std::fs::read_dir(root).unwrap().count(), 0, "the probe leaves nothing behind");
    }
}
