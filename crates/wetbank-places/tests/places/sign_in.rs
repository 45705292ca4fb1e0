//! Signing in to a real OpenSSH server, in every way and in every wrong way.

use crate::support::{Sshd, client_key, fresh_key, path, read, sftp_place, sftp_spec, write};
use secrecy::SecretString;
use tempfile::TempDir;
use wetbank_core::{Name, SftpSignIn};
use wetbank_places::{Collision, HostKey, Place, PlaceErrorKind, Sftp, SftpCredentials, probe};
use wetbank_standins::{SftpStandin, SftpStandinOptions};

fn name() -> Name {
    Name::new("server").unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn every_type_of_key_signs_in_with_and_without_passphrase() {
    let (sshd, root) = (Sshd::start(), TempDir::new().unwrap());
    for kind in [&["ed25519"][..], &["ecdsa"], &["rsa", "-b", "2048"]] {
        for passphrase in ["", "grey heron"] {
            let key = fresh_key(&sshd, kind, passphrase);
            let opens = (!passphrase.is_empty()).then(|| SecretString::from(passphrase));
            let place = Sftp::new(
                name(),
                sftp_spec(&sshd, root.path()),
                SftpCredentials::Key { key, passphrase: opens, password: None },
            );
            place.reach().await.unwrap_or_else(|e| panic!("{kind:?} {passphrase:?}: {e}"));
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_wrong_passphrase_and_an_unknown_key_are_refused_with_the_reason() {
    let (sshd, root) = (Sshd::start(), TempDir::new().unwrap());
    let key = SecretString::from(client_key(sshd.folder.path(), &["ed25519"], "grey heron").1);
    let wrong = SftpCredentials::Key { key: key.clone(), passphrase: Some("bittern".into()), password: None };
    let error = Sftp::new(name(), sftp_spec(&sshd, root.path()), wrong).reach().await.unwrap_err();
    assert_eq!(error.kind, PlaceErrorKind::Refused);
    assert!(error.detail.contains("passphrase does not open"), "{error}");
    let right = SftpCredentials::Key { key, passphrase: Some("grey heron".into()), password: None };
    let error = Sftp::new(name(), sftp_spec(&sshd, root.path()), right).reach().await.unwrap_err();
    assert_eq!(error.kind, PlaceErrorKind::Refused);
    assert!(error.detail.contains("by key SHA256:"), "{error}");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_unknown_or_changed_host_key_is_never_trusted() {
    let (sshd, root) = (Sshd::start(), TempDir::new().unwrap());
    let key = fresh_key(&sshd, &["ed25519"], "");
    let credentials = SftpCredentials::Key { key, passphrase: None, password: None };
    let mut spec = sftp_spec(&sshd, root.path());
    assert_eq!(HostKey::fetch(&name(), &spec).await.unwrap().to_string(), sshd.fingerprint);
    for pinned in [None, Some("SHA256:AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA".to_owned())] {
        spec.host_key = pinned;
        let error = Sftp::new(name(), spec.clone(), credentials.clone()).reach().await.unwrap_err();
        assert_eq!(error.kind, PlaceErrorKind::HostKey);
        assert!(error.detail.contains(&sshd.fingerprint), "{error}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_password_signs_in_and_a_wrong_one_is_refused_without_being_told() {
    let root = TempDir::new().unwrap();
    let server = SftpStandin::start(SftpStandinOptions {
        listen: ([127, 0, 0, 1], 0).into(),
        root: root.path().to_owned(),
        user: "merrow".to_owned(),
        password: "grey heron".to_owned(),
    })
    .await
    .unwrap();
    let spec = wetbank_core::SftpSpec {
        host: "127.0.0.1".to_owned(),
        port: server.address().port(),
        user: "merrow".to_owned(),
        sign_in: SftpSignIn::Password(name()),
        host_key: Some(server.fingerprint().to_owned()),
        root: String::new(),
        staged: true,
        connections: 2,
        silence: wetbank_core::SILENCE,
    };
    let place = Sftp::new(name(), spec.clone(), SftpCredentials::Password("grey heron".into()));
    write(&place, "part", &path("whole"), b"hello").await.unwrap();
    place.rename(&path("part"), &path("whole"), Collision::Refuse).await.unwrap();
    assert_eq!(read(&place, "whole").await.unwrap(), b"hello");
    let steps = probe(&place, true).await;
    assert!(steps.iter().all(|step| step.outcome.is_ok()), "{steps:?}");
    assert_eq!(std::fs::read_dir(root.path()).unwrap().count(), 1, "the probe leaves nothing behind");
    let wrong = Sftp::new(name(), spec, SftpCredentials::Password("bittern".into())).reach().await.unwrap_err();
    assert_eq!(wrong.kind, PlaceErrorKind::Refused);
    assert!(!format!("{wrong} {wrong:?}").contains("bittern"));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_server_that_is_not_there_is_unreachable() {
    let root = TempDir::new().unwrap();
    let sshd = Sshd::start();
    let place = sftp_place(&sshd, root.path());
    drop(sshd);
    let error = place.reach().await.unwrap_err();
    assert_eq!(error.kind, PlaceErrorKind::Unreachable);
    assert!(error.is_retryable());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_server_that_only_asks_questions_is_answered_with_the_password() {
    // Only root may set such a server up.
    let Some(sshd) = Sshd::start_asking("grey heron") else { return };
    let root = TempDir::new().unwrap();
    let spec = wetbank_core::SftpSpec { sign_in: SftpSignIn::Password(name()), ..sftp_spec(&sshd, root.path()) };
    let place = Sftp::new(name(), spec.clone(), SftpCredentials::Password("grey heron".into()));
    write(&place, "part", &path("whole"), b"hello").await.unwrap();
    assert_eq!(read(&place, "part").await.unwrap(), b"hello");
    let wrong = Sftp::new(name(), spec, SftpCredentials::Password("bittern".into())).reach().await.unwrap_err();
    assert_eq!(wrong.kind, PlaceErrorKind::Refused, "{wrong}");
}

#[tokio::test(flavor = "multi_thread")]
async fn new_session_keys_in_mid_file_are_not_noticed() {
    let (sshd, root) = (Sshd::start_with("RekeyLimit 1M"), TempDir::new().unwrap());
    let place = sftp_place(&sshd, root.path());
    let content: Vec<u8> = (0..20_000_000u32).map(|n| (n % 251) as u8).collect();
    write(&place, "part", &path("whole"), &content).await.unwrap();
    assert!(read(&place, "part").await.unwrap() == content);
}
