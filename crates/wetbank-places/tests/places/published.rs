//! Files that a web server publishes: a real one, and ones that do not tell enough.

use std::{
    fs,
    time::{Duration, SystemTime},
};

use futures_util::{StreamExt, TryStreamExt};
use wetbank_core::{Name, RelPath, SILENCE, WebSpec};
use wetbank_places::{Collision, Depth, Entry, EntryKind, Place, PlaceErrorKind, Published, probe};
use wetbank_testbed::{Apache, WEBDAV_USER};

use crate::support::{always, path, read, read_from};

fn place(url: &str, files: &[&str], password: Option<&str>) -> Published {
    let spec = WebSpec {
        url: url.to_owned(),
        files: files.iter().map(|file| path(file)).collect(),
        sign_in: password.map(|_| (WEBDAV_USER.0.to_owned(), Name::new("tables-password").unwrap())),
        certificate: None,
        connections: 2,
        silence: SILENCE,
    };
    Published::new(Name::new("tables").unwrap(), spec, password.map(Into::into))
}

async fn listed(place: &Published, folder: &str, depth: Depth) -> Vec<String> {
    let entries: Vec<Entry> = place.list(&path(folder), depth).try_collect().await.unwrap();
    let told = |entry: &Entry| format!("{:?} {}", entry.kind, entry.path);
    let mut told: Vec<String> = entries.iter().map(told).collect();
    told.sort();
    told
}

#[tokio::test(flavor = "multi_thread")]
async fn files_that_are_named_are_listed_read_and_seen_to_change() {
    let server = Apache::start(false);
    let content: Vec<u8> = (0..300_000u32).map(|at| (at % 251) as u8).collect();
    fs::create_dir_all(server.root.path().join("2026")).unwrap();
    fs::write(server.root.path().join("2026/a b.csv"), &content).unwrap();
    fs::write(server.root.path().join("north.csv"), "high 04:12\n").unwrap();
    fs::write(server.root.path().join("secret.csv"), "not named").unwrap();
    let tables = place(&server.url, &["north.csv", "2026/a b.csv", "not-yet.csv"], Some(WEBDAV_USER.1));
    assert!(tables.reach().await.unwrap().contains("3 files are named"));
    assert_eq!(listed(&tables, "", Depth::One).await, ["File north.csv", "Folder 2026"]);
    assert_eq!(listed(&tables, "", Depth::All).await, ["File 2026/a b.csv", "File north.csv", "Folder 2026"]);
    assert_eq!(listed(&tables, "2026", Depth::One).await, ["File 2026/a b.csv"]);
    assert_eq!(read(&tables, "2026/a b.csv").await.unwrap(), content);
    let rest = read_from(&tables, &path("2026/a b.csv"), 299_990).await.unwrap();
    assert_eq!(rest, content[299_990..]);
    assert!(read_from(&tables, &path("2026/a b.csv"), 300_000).await.unwrap().is_empty());
    let before = tables.stat(&path("north.csv")).await.unwrap();
    assert_eq!((before.kind, before.fingerprint.size), (EntryKind::File, 11));
    fs::write(server.root.path().join("north.csv"), "high 05:01\n").unwrap();
    let later = SystemTime::now() + Duration::from_secs(2);
    fs::File::options().write(true).open(server.root.path().join("north.csv")).unwrap().set_modified(later).unwrap();
    assert_ne!(tables.stat(&path("north.csv")).await.unwrap().fingerprint, before.fingerprint);
    // What the book does not name is not there, whatever the server has.
    assert_eq!(read(&tables, "secret.csv").await.unwrap_err().kind, PlaceErrorKind::NotFound);
    assert_eq!(tables.stat(&path("not-yet.csv")).await.unwrap_err().kind, PlaceErrorKind::NotFound);
    assert!(probe(&tables, false).await.iter().all(|step| step.outcome.is_ok()));
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_is_written_there_and_a_refused_sign_in_names_its_secret() {
    let server = Apache::start(false);
    fs::write(server.root.path().join("north.csv"), "high\n").unwrap();
    let tables = place(&server.url, &["north.csv"], Some(WEBDAV_USER.1));
    let kinds = [
        tables.delete(&path("north.csv")).await.unwrap_err().kind,
        tables.rename(&path("north.csv"), &path("south.csv"), Collision::Replace).await.unwrap_err().kind,
        tables.stage(&path(".wetbank-1"), &path("south.csv"), None).await.err().unwrap().kind,
        tables.make_folder(&path("new")).await.unwrap_err().kind,
        tables.remove_folder(&path("new")).await.unwrap_err().kind,
    ];
    assert!(kinds.iter().all(|kind| *kind == PlaceErrorKind::Unsupported), "{kinds:?}");
    assert_eq!(fs::read(server.root.path().join("north.csv")).unwrap(), b"high\n");
    let stranger = place(&server.url, &["north.csv"], Some("wrong"));
    let error = stranger.reach().await.unwrap_err();
    assert_eq!(error.kind, PlaceErrorKind::Refused, "{error}");
    assert!(error.remedy().contains("wetbank secret set tables-password"), "{}", error.remedy());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_server_that_tells_no_length_breaks_off_or_sends_us_away_is_not_believed() {
    let endless = "HTTP/1.1 200 OK\r\nTransfer-Encoding: chunked\r\nConnection: close\r\n\r\n3\r\nabc\r\n0\r\n\r\n";
    let tables = place(&always(endless.to_owned()).await, &["a.csv"], None);
    let error = tables.stat(&path("a.csv")).await.unwrap_err();
    assert_eq!(error.kind, PlaceErrorKind::Unsupported, "{error}");
    assert_eq!(read(&tables, "a.csv").await.unwrap_err().kind, PlaceErrorKind::Unsupported);
    let short = "HTTP/1.1 200 OK\r\nContent-Length: 100\r\nConnection: close\r\n\r\nhalf";
    let tables = place(&always(short.to_owned()).await, &["a.csv"], None);
    assert_eq!(read(&tables, "a.csv").await.unwrap_err().kind, PlaceErrorKind::Interrupted);
    let away = "HTTP/1.1 302 Found\r\nLocation: http://elsewhere.example/a.csv\r\nContent-Length: 0\r\nConnection: close\r\n\r\n";
    let tables = place(&always(away.to_owned()).await, &["a.csv"], None);
    let error = read(&tables, "a.csv").await.unwrap_err();
    assert!(error.detail.contains("elsewhere.example"), "{error}");
    let found: Vec<_> = tables.list(&RelPath::root(), Depth::All).collect().await;
    assert!(found.iter().any(Result::is_err), "a failure is never an empty list");
}
