//! A disk or an allowance that is full: told as that, and nothing half is taken for a file.

use std::{any::Any, path::Path};

use crate::support::{path, proftpd_spec, put, read, sftp_place, share_place, webdav_spec, write};
use tempfile::TempDir;
use wetbank_core::{FtpSecurity, Name};
use wetbank_places::{Folder, Ftp, Place, PlaceError, PlaceErrorKind, Webdav};
use wetbank_testbed::{Apache, FTP_USER, FtpOffer, Proftpd, Samba, ShareOffer, SmallDisk, Sshd, WEBDAV_USER};

/// Room in KiB, and what does not fit.
const ROOM: u32 = 1024;
const TOO_LARGE: usize = 3 << 20;

fn ftp(server: &Proftpd) -> Ftp {
    Ftp::new(Name::new("server").unwrap(), proftpd_spec(server, FtpSecurity::None), FTP_USER.1.into())
}

fn webdav(server: &Apache) -> Webdav {
    Webdav::new(
        Name::new("server").unwrap(),
        webdav_spec(&server.url, server.certificate.as_ref()),
        Some(WEBDAV_USER.1.into()),
    )
}

/// What does not fit is refused as that.
async fn refuses_what_does_not_fit(place: &dyn Place) {
    let error = large_and_small(place).await;
    assert_eq!(error.kind, PlaceErrorKind::NoSpace, "{error}");
    assert!(error.remedy().contains("Free space"), "{}", error.remedy());
}

/// What does not fit has no name, and leaves its room to others when it is removed.
async fn large_and_small(place: &dyn Place) -> PlaceError {
    let error = write(place, ".wetbank-1", &path("large.csv"), &vec![1; TOO_LARGE]).await.unwrap_err();
    assert_eq!(place.stat(&path("large.csv")).await.unwrap_err().kind, PlaceErrorKind::NotFound);
    match place.delete(&path(".wetbank-1")).await {
        Err(error) if error.kind != PlaceErrorKind::NotFound => panic!("{error}"),
        _ => {}
    }
    put(place, ".wetbank-2", &path("small.csv"), b"07:00;2.31").await.unwrap();
    assert_eq!(read(place, "small.csv").await.unwrap(), b"07:00;2.31");
    error
}

/// The same where the server's folder lies on a small disk. Only root may mount one.
async fn on_a_small_disk(server: impl Any, folder: &Path, place: impl Place) {
    let Some(disk) = SmallDisk::over(folder, ROOM) else { return };
    refuses_what_does_not_fit(&place).await;
    drop(server);
    drop(disk);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_full_disk_of_this_machine() {
    let root = TempDir::new().unwrap();
    let place = Folder::new(Name::new("here").unwrap(), root.path());
    on_a_small_disk((), root.path(), place).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_full_disk_of_an_sftp_server() {
    let (server, root) = (Sshd::start(), TempDir::new().unwrap());
    let place = sftp_place(&server, root.path());
    on_a_small_disk(server, root.path(), place).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_full_disk_of_a_share() {
    let server = Samba::start(ShareOffer::Usual);
    let (root, place) = (server.root.path().to_owned(), share_place(&server, true));
    on_a_small_disk(server, &root, place).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_full_disk_of_an_ftp_server() {
    let server = Proftpd::start(FtpOffer::Plain);
    let Some(_disk) = SmallDisk::over(server.root.path(), ROOM) else { return };
    // This server says only that it could not write.
    let error = large_and_small(&ftp(&server)).await;
    assert!(error.detail.contains("the server's disk may be full"), "{error}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_full_disk_of_a_webdav_server() {
    let server = Apache::start(false);
    let (root, place) = (server.root.path().to_owned(), webdav(&server));
    on_a_small_disk(server, &root, place).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn an_allowance_of_an_ftp_server() {
    let server = Proftpd::start(FtpOffer::Quota(ROOM));
    refuses_what_does_not_fit(&ftp(&server)).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_longest_body_that_a_webdav_server_takes() {
    let server = Apache::taking(ROOM);
    refuses_what_does_not_fit(&webdav(&server)).await;
}
