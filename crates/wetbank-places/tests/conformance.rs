//! One suite of facts, run on every back end against the real thing.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

mod support;

use std::{fs, os::unix::ffi::OsStrExt};

use futures_util::StreamExt;
use support::{Rig, Sshd, path, read, read_from, sftp_place, write};
use tempfile::TempDir;
use wetbank_core::{FtpSecurity, FtpSpec, Name, RelPath, WebdavSpec};
use wetbank_places::{Collision, Depth, EntryKind, Folder, Ftp, PlaceErrorKind, Webdav};
use wetbank_testbed::{Apache, FTP_USER, FtpOffer, Proftpd, WEBDAV_USER};

fn folder() -> Rig {
    let root = TempDir::new().unwrap();
    let place = Folder::new(Name::new("here").unwrap(), root.path());
    Rig { place: std::sync::Arc::new(place), root: root.path().to_owned(), guards: vec![Box::new(root)] }
}

fn sftp() -> Rig {
    let root = TempDir::new().unwrap();
    let sshd = Sshd::start();
    let place = sftp_place(&sshd, root.path());
    Rig {
        place: std::sync::Arc::new(place),
        root: root.path().to_owned(),
        guards: vec![Box::new(root), Box::new(sshd)],
    }
}

fn webdav() -> Rig {
    let apache = Apache::start(true);
    let spec = WebdavSpec {
        url: apache.url.clone(),
        sign_in: Some((WEBDAV_USER.0.to_owned(), Name::new("password").unwrap())),
        certificate: apache.certificate.as_ref().map(|c| c.fingerprint.clone()),
        connections: 8,
    };
    let place = Webdav::new(Name::new("server").unwrap(), spec, Some(WEBDAV_USER.1.into()));
    Rig { place: std::sync::Arc::new(place), root: apache.root.path().to_owned(), guards: vec![Box::new(apache)] }
}

fn ftp(offer: FtpOffer) -> Rig {
    let server = Proftpd::start(offer);
    let spec = FtpSpec {
        host: "127.0.0.1".to_owned(),
        port: server.port,
        user: FTP_USER.0.to_owned(),
        password: Name::new("password").unwrap(),
        security: match offer {
            FtpOffer::Tls => FtpSecurity::Tls,
            FtpOffer::TlsFromStart => FtpSecurity::TlsFromStart,
            FtpOffer::Plain | FtpOffer::Old => FtpSecurity::None,
        },
        certificate: Some(server.certificate.fingerprint.clone()),
        root: server.root.path().display().to_string(),
        connections: 8,
    };
    let place = Ftp::new(Name::new("server").unwrap(), spec, FTP_USER.1.into());
    Rig { place: std::sync::Arc::new(place), root: server.root.path().to_owned(), guards: vec![Box::new(server)] }
}

macro_rules! facts {
    ($($fact:ident),+ $(,)?) => {
        mod on_ftp { $(#[tokio::test(flavor = "multi_thread")] async fn $fact() { super::$fact(super::ftp(super::FtpOffer::Plain)).await })+ }
        mod on_ftp_with_tls { $(#[tokio::test(flavor = "multi_thread")] async fn $fact() { super::$fact(super::ftp(super::FtpOffer::Tls)).await })+ }
        mod on_ftp_with_tls_from_start { $(#[tokio::test(flavor = "multi_thread")] async fn $fact() { super::$fact(super::ftp(super::FtpOffer::TlsFromStart)).await })+ }
        mod on_old_ftp { $(#[tokio::test(flavor = "multi_thread")] async fn $fact() { super::$fact(super::ftp(super::FtpOffer::Old)).await })+ }
        mod on_webdav { $(#[tokio::test(flavor = "multi_thread")] async fn $fact() { super::$fact(super::webdav()).await })+ }
        mod on_folder { $(#[tokio::test(flavor = "multi_thread")] async fn $fact() { super::$fact(super::folder()).await })+ }
        mod on_sftp { $(#[tokio::test(flavor = "multi_thread")] async fn $fact() { super::$fact(super::sftp()).await })+ }
    };
}

facts!(
    what_is_written_is_read_back,
    nothing_is_visible_before_the_rename,
    rename_replaces_its_target_when_told,
    rename_refuses_a_taken_name_when_told,
    a_missing_file_is_not_found,
    a_missing_folder_is_not_found,
    a_large_file_is_read_from_any_offset,
    a_broken_write_is_resumed_behind_what_is_there,
    a_new_write_replaces_a_leftover,
    five_thousand_entries_are_listed_each_once,
    a_deep_listing_shows_what_lies_below,
    awkward_names_survive,
    a_name_of_255_bytes_is_fine_and_of_256_is_not,
    links_and_pipes_are_told_and_never_read,
    no_link_leads_out_of_the_root,
    folders_are_made_with_those_above_and_once_more_without_harm,
    delete_removes_a_file_and_no_folder,
    a_root_that_is_gone_is_no_empty_folder,
    many_writers_at_once_do_not_mix,
    an_unreadable_file_is_denied_or_read_by_root,
);

async fn what_is_written_is_read_back(rig: Rig) {
    for size in [0, 1, 32_768, 262_144, 262_145, 3_000_000] {
        let content: Vec<u8> = (0..size).map(|n: usize| (n * 7 % 251) as u8).collect();
        let entry = write(rig.place.as_ref(), "part", &content).await.unwrap();
        assert_eq!(entry.fingerprint.size, size as u64);
        rig.place.rename(&path("part"), &path("whole"), Collision::Replace).await.unwrap();
        assert_eq!(read(rig.place.as_ref(), "whole").await.unwrap(), content, "{size}");
        let after = rig.place.stat(&path("whole")).await.unwrap();
        assert_eq!(after.fingerprint, entry.fingerprint, "a rename keeps the state that finish told");
    }
}

async fn nothing_is_visible_before_the_rename(rig: Rig) {
    write(rig.place.as_ref(), ".wetbank-1", b"half").await.unwrap();
    assert_eq!(rig.place.stat(&path("whole")).await.unwrap_err().kind, PlaceErrorKind::NotFound);
    rig.place.rename(&path(".wetbank-1"), &path("whole"), Collision::Refuse).await.unwrap();
    assert_eq!(rig.place.stat(&path(".wetbank-1")).await.unwrap_err().kind, PlaceErrorKind::NotFound);
}

async fn rename_replaces_its_target_when_told(rig: Rig) {
    fs::write(rig.root.join("old"), "old").unwrap();
    fs::write(rig.root.join("new"), "new").unwrap();
    rig.place.rename(&path("new"), &path("old"), Collision::Replace).await.unwrap();
    assert_eq!(fs::read(rig.root.join("old")).unwrap(), b"new");
}

async fn rename_refuses_a_taken_name_when_told(rig: Rig) {
    fs::write(rig.root.join("old"), "old").unwrap();
    fs::write(rig.root.join("new"), "new").unwrap();
    let error = rig.place.rename(&path("new"), &path("old"), Collision::Refuse).await.unwrap_err();
    assert_eq!(error.kind, PlaceErrorKind::Exists, "{error}");
    assert_eq!(fs::read(rig.root.join("old")).unwrap(), b"old");
    assert_eq!(fs::read(rig.root.join("new")).unwrap(), b"new");
}

async fn a_missing_file_is_not_found(rig: Rig) {
    let place = &rig.place;
    for error in [
        place.stat(&path("no")).await.unwrap_err(),
        place.read(&path("no"), 0).await.err().unwrap(),
        place.delete(&path("no")).await.unwrap_err(),
        place.rename(&path("no"), &path("yes"), Collision::Refuse).await.unwrap_err(),
    ] {
        assert_eq!(error.kind, PlaceErrorKind::NotFound, "{error}");
        assert!(error.to_string().contains(place.name().as_str()), "{error}");
    }
}

async fn a_missing_folder_is_not_found(rig: Rig) {
    let listed = rig.place.list(&path("no"), Depth::One).next().await.unwrap();
    assert_eq!(listed.unwrap_err().kind, PlaceErrorKind::NotFound);
    let staged = rig.place.stage(&path("no/part"), None).await.err().unwrap();
    assert_eq!(staged.kind, PlaceErrorKind::NotFound, "{staged}");
}

async fn a_large_file_is_read_from_any_offset(rig: Rig) {
    let content: Vec<u8> = (0..5_000_000u32).map(|n| (n % 253) as u8).collect();
    fs::write(rig.root.join("large"), &content).unwrap();
    for offset in [0, 1, 261_119, 261_120, 4_999_999, 5_000_000] {
        let part = read_from(rig.place.as_ref(), &path("large"), offset).await.unwrap();
        assert!(part == content[offset as usize..], "from {offset}");
    }
}

async fn a_broken_write_is_resumed_behind_what_is_there(rig: Rig) {
    if !rig.place.capabilities().resumes {
        let refused = rig.place.stage(&path("part"), Some(10)).await.err().expect("it says that it cannot");
        assert_eq!(refused.kind, PlaceErrorKind::Unsupported);
        return;
    }
    let behind = if rig.place.capabilities().cuts_when_resuming { " and too much" } else { "ab" };
    fs::write(rig.root.join("part"), format!("0123456789{behind}")).unwrap();
    let mut staged = rig.place.stage(&path("part"), Some(10)).await.unwrap();
    staged.write("abc".into()).await.unwrap();
    assert_eq!(staged.finish().await.unwrap().fingerprint.size, 13);
    assert_eq!(fs::read(rig.root.join("part")).unwrap(), b"0123456789abc");
}

async fn a_new_write_replaces_a_leftover(rig: Rig) {
    fs::write(rig.root.join(".wetbank-1"), b"a leftover that is longer").unwrap();
    write(rig.place.as_ref(), ".wetbank-1", b"new").await.unwrap();
    assert_eq!(fs::read(rig.root.join(".wetbank-1")).unwrap(), b"new");
}

async fn five_thousand_entries_are_listed_each_once(rig: Rig) {
    for number in 0..5000 {
        fs::write(rig.root.join(format!("gauge-{number:04}.csv")), "x").unwrap();
    }
    let mut names: Vec<String> =
        rig.place.list(&RelPath::root(), Depth::One).map(|e| e.unwrap().path.to_string()).collect().await;
    names.sort();
    names.dedup();
    assert_eq!(names.len(), 5000);
}

async fn a_deep_listing_shows_what_lies_below(rig: Rig) {
    fs::create_dir_all(rig.root.join("a/b")).unwrap();
    fs::write(rig.root.join("a/b/c.csv"), "x").unwrap();
    let list = async |depth| {
        let mut paths: Vec<_> =
            rig.place.list(&RelPath::root(), depth).map(|e| e.unwrap().path.to_string()).collect().await;
        paths.sort();
        paths
    };
    assert_eq!(list(Depth::One).await, ["a"]);
    assert_eq!(list(Depth::All).await, ["a", "a/b", "a/b/c.csv"]);
}

async fn awkward_names_survive(rig: Rig) {
    for name in [
        &b"with space"[..],
        b"line\nbreak",
        b"caf\xe9-latin1",
        "gr\u{fc}\u{df}e-\u{1f6a2}".as_bytes(),
        b"-rf",
        b"*?[",
        b"back\\slash",
        b"quote'\"",
    ] {
        let whole = RelPath::root().join_name(name).unwrap();
        if !rig.place.capabilities().any_name && name.contains(&b'\n') {
            let error = rig.place.stat(&whole).await.unwrap_err();
            assert_eq!(error.kind, PlaceErrorKind::BadName, "{error}");
            continue;
        }
        write(rig.place.as_ref(), "part", name).await.unwrap();
        rig.place.rename(&path("part"), &whole, Collision::Refuse).await.unwrap();
        assert_eq!(read_from(rig.place.as_ref(), &whole, 0).await.unwrap(), name);
        assert!(fs::exists(rig.root.join(std::ffi::OsStr::from_bytes(name))).unwrap(), "{whole}");
        let listed: Vec<_> = rig.place.list(&RelPath::root(), Depth::One).map(|e| e.unwrap().path).collect().await;
        assert_eq!(listed, std::slice::from_ref(&whole));
        rig.place.delete(&whole).await.unwrap();
    }
}

async fn a_name_of_255_bytes_is_fine_and_of_256_is_not(rig: Rig) {
    write(rig.place.as_ref(), "part", b"x").await.unwrap();
    let error = rig.place.rename(&path("part"), &path(&"n".repeat(256)), Collision::Refuse).await.unwrap_err();
    assert_eq!(error.kind, PlaceErrorKind::BadName, "{error}");
    rig.place.rename(&path("part"), &path(&"n".repeat(255)), Collision::Refuse).await.unwrap();
}

async fn links_and_pipes_are_told_and_never_read(rig: Rig) {
    fs::write(rig.root.join("file"), "x").unwrap();
    std::os::unix::fs::symlink("file", rig.root.join("link")).unwrap();
    let pipe = rig.root.join("pipe");
    assert!(std::process::Command::new("mkfifo").arg(&pipe).status().unwrap().success());
    if rig.place.capabilities().tells_links {
        assert_eq!(rig.place.stat(&path("link")).await.unwrap().kind, EntryKind::Link);
        assert_eq!(rig.place.stat(&path("pipe")).await.unwrap().kind, EntryKind::Other);
    }
    for name in ["link", "pipe"] {
        let read = tokio::time::timeout(std::time::Duration::from_secs(10), rig.place.read(&path(name), 0)).await;
        let read = read.expect("it does not hang");
        // A server that does not tell them follows links within what it serves, and may tell a
        // pipe as a file without content.
        assert!(read.is_err() || !rig.place.capabilities().tells_links, "{name}");
    }
}

async fn no_link_leads_out_of_the_root(rig: Rig) {
    let outside = TempDir::new().unwrap();
    fs::write(outside.path().join("secret"), "x").unwrap();
    std::os::unix::fs::symlink(outside.path().join("secret"), rig.root.join("leaf")).unwrap();
    if rig.place.capabilities().tells_links {
        assert!(rig.place.read(&path("leaf"), 0).await.is_err());
    }
    // A server resolves its own links below a folder; on this machine none leads out.
    if rig.place.as_folder().is_some() {
        std::os::unix::fs::symlink(outside.path(), rig.root.join("way-out")).unwrap();
        assert_eq!(rig.place.read(&path("way-out/secret"), 0).await.err().unwrap().kind, PlaceErrorKind::Denied);
        assert_eq!(rig.place.stage(&path("way-out/new"), None).await.err().unwrap().kind, PlaceErrorKind::Denied);
        assert_eq!(rig.place.delete(&path("way-out/secret")).await.unwrap_err().kind, PlaceErrorKind::Denied);
    }
    assert!(outside.path().join("secret").exists());
}

async fn folders_are_made_with_those_above_and_once_more_without_harm(rig: Rig) {
    rig.place.make_folder(&path("2026/03/14")).await.unwrap();
    rig.place.make_folder(&path("2026/03/14")).await.unwrap();
    assert!(rig.root.join("2026/03/14").is_dir());
    fs::write(rig.root.join("file"), "x").unwrap();
    assert!(rig.place.make_folder(&path("file/below")).await.is_err());
}

async fn delete_removes_a_file_and_no_folder(rig: Rig) {
    fs::create_dir(rig.root.join("folder")).unwrap();
    fs::write(rig.root.join("file"), "x").unwrap();
    rig.place.delete(&path("file")).await.unwrap();
    assert!(!rig.root.join("file").exists());
    assert!(rig.place.delete(&path("folder")).await.is_err());
    assert!(rig.root.join("folder").is_dir());
}

async fn a_root_that_is_gone_is_no_empty_folder(rig: Rig) {
    rig.place.reach().await.unwrap();
    fs::remove_dir(&rig.root).unwrap();
    assert!(rig.place.reach().await.is_err());
    let listed = rig.place.list(&RelPath::root(), Depth::One).next().await;
    assert!(listed.expect("an error, not an end").is_err());
}

async fn many_writers_at_once_do_not_mix(rig: Rig) {
    let mut writers = tokio::task::JoinSet::new();
    for number in 0..64u8 {
        let place = rig.place.clone();
        writers.spawn(async move {
            let content = vec![number; 70_000 + usize::from(number)];
            let part = format!(".wetbank-{number}");
            write(place.as_ref(), &part, &content).await.unwrap();
            place.rename(&path(&part), &path(&format!("file-{number}")), Collision::Refuse).await.unwrap();
        });
    }
    while let Some(done) = writers.join_next().await {
        done.unwrap();
    }
    for number in 0..64u8 {
        let content = fs::read(rig.root.join(format!("file-{number}"))).unwrap();
        assert!(content == vec![number; 70_000 + usize::from(number)], "file {number}");
    }
    assert_eq!(fs::read_dir(&rig.root).unwrap().count(), 64);
}

async fn an_unreadable_file_is_denied_or_read_by_root(rig: Rig) {
    use std::os::unix::fs::PermissionsExt;
    fs::write(rig.root.join("shut"), "x").unwrap();
    fs::set_permissions(rig.root.join("shut"), fs::Permissions::from_mode(0o000)).unwrap();
    let readable = fs::read(rig.root.join("shut")).is_ok();
    match read(rig.place.as_ref(), "shut").await {
        Ok(content) => assert!(readable && content == b"x"),
        // A server may run as somebody else than this test.
        Err(error) => assert_eq!(error.kind, PlaceErrorKind::Denied, "{error}"),
    }
}
