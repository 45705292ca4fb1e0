//! Servers that are not there, end in the middle of something or fall silent: told each time,
//! soon, and never taken for the end of a file or of a listing.

use std::{sync::Arc, time::Duration};

use crate::support::{
    Outside, Sshd, bucket_spec, fresh_key, path, proftpd_spec, put, sftp_spec, share_spec, webdav_spec,
};
use bytes::Bytes;
use futures_util::StreamExt;
use tempfile::TempDir;
use wetbank_core::{FtpSecurity, FtpSpec, Name, RelPath, SILENCE, WebdavSpec};
use wetbank_places::{
    Bucket, Depth, Ftp, Place, PlaceError, PlaceErrorKind, Sftp, SftpCredentials, Share, Webdav, probe,
};
use wetbank_testbed::{
    Apache, FTP_USER, FtpOffer, Moto, Proftpd, SHARE_USER, Samba, ShareOffer, WEBDAV_USER, free_port,
};

/// Large enough that no buffer on the way holds all of it.
const LARGE: usize = 48 << 20;
const ENTRIES: usize = 3000;
/// An outage is told within this time when a second of silence is allowed.
const SOON: Duration = Duration::from_secs(25);

type Make = dyn Fn(&str, Option<u16>, Duration) -> Arc<dyn Place>;

/// A server, and the place on it as seen under another host, port or patience.
struct Rig {
    make: Box<Make>,
    signal: Box<dyn Fn(&str)>,
}

fn name() -> Name {
    Name::new("server").unwrap()
}

fn sftp() -> Rig {
    let (sshd, root) = (Arc::new(Sshd::start()), TempDir::new().unwrap());
    let key = fresh_key(&sshd, &["ed25519"], "");
    let server = sshd.clone();
    Rig {
        make: Box::new(move |host, port, silence| {
            let mut spec = sftp_spec(&sshd, root.path());
            spec.port = port.unwrap_or(spec.port);
            (spec.host, spec.silence) = (host.to_owned(), silence);
            Arc::new(Sftp::new(
                name(),
                spec,
                SftpCredentials::Key { key: key.clone(), passphrase: None, password: None },
            ))
        }),
        signal: Box::new(move |what| server.signal(what)),
    }
}

fn ftp() -> Rig {
    let server = Arc::new(Proftpd::start(FtpOffer::Tls));
    let same = server.clone();
    Rig {
        make: Box::new(move |host, port, silence| {
            let port = port.unwrap_or(server.port);
            let spec = proftpd_spec(&server, FtpSecurity::Tls);
            let spec = FtpSpec { host: host.to_owned(), port, connections: 3, silence, ..spec };
            Arc::new(Ftp::new(name(), spec, FTP_USER.1.into()))
        }),
        signal: Box::new(move |what| same.signal(what)),
    }
}

fn share() -> Rig {
    let server = Arc::new(Samba::start(ShareOffer::Usual));
    let same = server.clone();
    Rig {
        make: Box::new(move |host, port, silence| {
            let mut spec = share_spec(&server, true);
            spec.port = port.unwrap_or(spec.port);
            (spec.host, spec.silence) = (host.to_owned(), silence);
            Arc::new(Share::new(name(), spec, SHARE_USER.1.into()))
        }),
        signal: Box::new(move |what| same.signal(what)),
    }
}

/// An address with another host and port.
fn moved(url: &str, host: &str, port: Option<u16>) -> String {
    let (scheme, rest) = url.split_once("://").unwrap();
    let (server, path) = rest.split_once('/').unwrap_or((rest, ""));
    let port = port.map_or_else(|| server.rsplit(':').next().unwrap().to_owned(), |port| port.to_string());
    format!("{scheme}://{host}:{port}/{path}").trim_end_matches('/').to_owned()
}

fn webdav() -> Rig {
    let server = Arc::new(Apache::start(true));
    let same = server.clone();
    Rig {
        make: Box::new(move |host, port, silence| {
            let url = moved(&server.url, host, port);
            let spec =
                WebdavSpec { url, connections: 3, silence, ..webdav_spec(&server.url, server.certificate.as_ref()) };
            Arc::new(Webdav::new(name(), spec, Some(WEBDAV_USER.1.into())))
        }),
        signal: Box::new(move |what| same.signal(what)),
    }
}

async fn bucket() -> Rig {
    let server = Arc::new(Moto::own());
    let bucket = format!("{}/tidewatch", server.url);
    Outside::open_request(reqwest::Method::PUT, &bucket).send().await.unwrap().error_for_status().unwrap();
    let same = server.clone();
    Rig {
        make: Box::new(move |host, port, silence| {
            let mut spec = bucket_spec(&moved(&server.url, host, port), "tidewatch");
            spec.silence = silence;
            Arc::new(Bucket::new(name(), spec, Some("any".into())).unwrap())
        }),
        signal: Box::new(move |what| same.signal(what)),
    }
}

impl Rig {
    fn place(&self, silence: Duration) -> Arc<dyn Place> {
        (self.make)("127.0.0.1", None, silence)
    }

    fn end(&self) {
        (self.signal)("KILL");
    }
}

/// Reads a file to its end, or to the failure; answers how much came.
async fn drain(content: &mut wetbank_places::ReadStream) -> Result<usize, PlaceError> {
    let mut length = 0;
    while let Some(chunk) = content.next().await {
        length += chunk?.len();
    }
    Ok(length)
}

/// Writes until it fails, as it must.
async fn write_on(place: &dyn Place, after: usize, then: impl Fn()) -> PlaceError {
    let written = async {
        let mut staged = place.stage(&path(".wetbank-1"), &path("whole"), None).await?;
        for n in 0..400 {
            if n == after {
                then();
            }
            staged.write(Bytes::from(vec![7; 1 << 20])).await?;
        }
        staged.finish().await
    };
    let written = tokio::time::timeout(SOON, written).await.expect("it is told, it does not hang");
    written.expect_err("nobody was there to take it")
}

fn is_outage(error: &PlaceError) -> bool {
    matches!(error.kind, PlaceErrorKind::Interrupted | PlaceErrorKind::Unreachable)
}

async fn a_host_that_has_no_address_is_told_by_its_name(rig: Rig) {
    let place = (rig.make)("files.merrow.invalid", None, SILENCE);
    let steps = probe(place.as_ref(), false).await;
    let error = steps.last().unwrap().outcome.as_ref().unwrap_err();
    assert_eq!((steps.len(), steps[0].what, error.kind), (1, "find the host", PlaceErrorKind::Unreachable));
    assert!(error.detail.contains("files.merrow.invalid"), "{error}");
    assert_eq!(place.reach().await.unwrap_err().kind, PlaceErrorKind::Unreachable);
}

async fn where_nothing_listens_nothing_is_reached(rig: Rig) {
    let place = (rig.make)("127.0.0.1", Some(free_port()), SILENCE);
    let error = place.reach().await.unwrap_err();
    assert_eq!(error.kind, PlaceErrorKind::Unreachable);
    assert!(error.detail.contains("nothing listens"), "{error}");
    let steps = probe(place.as_ref(), false).await;
    assert_eq!((steps.len(), steps[1].what, steps[1].outcome.is_err()), (2, "connect", true));
}

async fn a_server_that_ends_in_mid_file_ends_no_file(rig: Rig) {
    let place = rig.place(SILENCE);
    put(place.as_ref(), ".wetbank-0", &path("large"), &vec![3; LARGE]).await.unwrap();
    let mut content = place.read(&path("large"), 0).await.unwrap();
    let first = content.next().await.unwrap().unwrap().len();
    rig.end();
    let rest = tokio::time::timeout(SOON, drain(&mut content)).await.expect("it is told, it does not hang");
    let error = rest.expect_err(&format!("{first} bytes and then an end"));
    assert!(is_outage(&error), "{error}");
}

async fn a_server_that_ends_in_mid_upload_took_nothing(rig: Rig) {
    let place = rig.place(SILENCE);
    let error = write_on(place.as_ref(), 4, || rig.end()).await;
    assert!(is_outage(&error), "{error}");
}

async fn a_server_that_ends_in_mid_listing_ends_no_listing(rig: Rig) {
    let place = rig.place(SILENCE);
    let add = |n: usize| {
        let place = place.clone();
        async move {
            let name = format!("a-reading-of-the-gauge-with-a-long-name-{n:05}.csv");
            put(place.as_ref(), &format!(".wetbank-{n}"), &path(&name), b"").await
        }
    };
    futures_util::stream::iter(0..ENTRIES).map(add).buffer_unordered(8).for_each(|done| async { done.unwrap() }).await;
    let mut listing = place.list(&RelPath::root(), Depth::One);
    let first = listing.next().await.unwrap();
    first.unwrap();
    rig.end();
    let rest = async {
        let mut count = 1;
        while let Some(entry) = listing.next().await {
            entry?;
            count += 1;
        }
        Ok::<_, PlaceError>(count)
    };
    match tokio::time::timeout(SOON, rest).await.expect("it is told, it does not hang") {
        // All of it may have been on its way already.
        Ok(count) => assert_eq!(count, ENTRIES),
        Err(error) => assert!(is_outage(&error), "{error}"),
    }
}

async fn a_server_that_falls_silent_is_given_up_soon(rig: Rig) {
    let place = rig.place(Duration::from_secs(1));
    put(place.as_ref(), ".wetbank-0", &path("large"), &vec![3; LARGE]).await.unwrap();
    let mut content = place.read(&path("large"), 0).await.unwrap();
    content.next().await.unwrap().unwrap();
    (rig.signal)("STOP");
    let read = tokio::time::timeout(SOON, drain(&mut content)).await;
    let looked = tokio::time::timeout(SOON, place.stat(&path("large"))).await;
    (rig.signal)("CONT");
    for outcome in [read.map(|read| read.map(drop)), looked.map(|looked| looked.map(drop))] {
        let error = outcome.expect("it is told, it does not hang").expect_err("nobody answered");
        assert!(is_outage(&error), "{error}");
    }
    let found = place.stat(&path("large")).await.unwrap();
    assert_eq!(found.fingerprint.size, LARGE as u64, "it works again");
}

async fn a_server_that_falls_silent_in_mid_upload_is_given_up_soon(rig: Rig) {
    let place = rig.place(Duration::from_secs(1));
    place.reach().await.unwrap();
    let error = write_on(place.as_ref(), 4, || (rig.signal)("STOP")).await;
    (rig.signal)("CONT");
    assert!(is_outage(&error), "{error}");
}

async fn a_file_that_comes_slowly_is_no_outage(rig: Rig) {
    let place = rig.place(Duration::from_secs(1));
    let mut staged = place.stage(&path(".wetbank-1"), &path("whole"), None).await.unwrap();
    for _ in 0..5 {
        staged.write(Bytes::from(vec![7; 300 << 10])).await.unwrap();
        tokio::time::sleep(Duration::from_millis(500)).await;
    }
    assert_eq!(staged.finish().await.unwrap().fingerprint.size, 5 * (300 << 10));
}

macro_rules! facts {
    ($($fact:ident),+ $(,)?) => {
        mod of_sftp { $(#[tokio::test(flavor = "multi_thread")] async fn $fact() { super::$fact(super::sftp()).await })+ }
        mod of_ftp { $(#[tokio::test(flavor = "multi_thread")] async fn $fact() { super::$fact(super::ftp()).await })+ }
        mod of_share { $(#[tokio::test(flavor = "multi_thread")] async fn $fact() { super::$fact(super::share()).await })+ }
        mod of_webdav { $(#[tokio::test(flavor = "multi_thread")] async fn $fact() { super::$fact(super::webdav()).await })+ }
        mod of_bucket { $(#[tokio::test(flavor = "multi_thread")] async fn $fact() { super::$fact(super::bucket().await).await })+ }
    };
}

facts!(
    a_host_that_has_no_address_is_told_by_its_name,
    where_nothing_listens_nothing_is_reached,
    a_server_that_ends_in_mid_file_ends_no_file,
    a_server_that_ends_in_mid_upload_took_nothing,
    a_server_that_ends_in_mid_listing_ends_no_listing,
    a_server_that_falls_silent_is_given_up_soon,
    a_server_that_falls_silent_in_mid_upload_is_given_up_soon,
    a_file_that_comes_slowly_is_no_outage,
);
