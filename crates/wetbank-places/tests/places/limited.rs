//! A place within limits.

use std::{
    sync::Arc,
    time::{Duration, Instant},
};

use crate::support::{path, put, read, write};
use futures_util::StreamExt;
use tempfile::TempDir;
use wetbank_core::{Limits, Name, Rate};
use wetbank_places::{Collision, Depth, Folder, Limited, Place, PlaceErrorKind};

fn limited(root: &TempDir, limits: &Limits) -> Arc<dyn Place> {
    Limited::around(Arc::new(Folder::new(Name::new("here").unwrap(), root.path())), limits)
}

fn rate(most: u64) -> Limits {
    Limits { transfers: None, retry: None, rates: vec![Rate { most, hours: None }] }
}

#[tokio::test(flavor = "multi_thread")]
async fn no_more_passes_than_the_rate_in_both_directions_together() {
    let root = TempDir::new().unwrap();
    let place = limited(&root, &rate(1_000_000));
    let began = Instant::now();
    put(place.as_ref(), ".wetbank-1", &path("a"), &vec![7; 600_000]).await.unwrap();
    assert_eq!(read(place.as_ref(), "a").await.unwrap().len(), 600_000);
    // The first chunks may pass at once; what followed them had to wait.
    assert!(began.elapsed() > Duration::from_millis(700), "{:?}", began.elapsed());
    assert!(began.elapsed() < Duration::from_secs(5), "{:?}", began.elapsed());
}

#[tokio::test(flavor = "multi_thread")]
async fn one_transfer_at_a_time_means_one_in_each_direction() {
    let root = TempDir::new().unwrap();
    let place = limited(&root, &Limits { transfers: Some(1), retry: None, rates: Vec::new() });
    let first = place.stage(&path(".wetbank-1"), &path("a"), None).await.unwrap();
    let (part, whole) = (path(".wetbank-2"), path("b"));
    let second = place.stage(&part, &whole, None);
    assert!(tokio::time::timeout(Duration::from_millis(50), second).await.is_err(), "it waits for its turn");
    // A copy within the place reads while it writes.
    std::fs::write(root.path().join("c"), "c").unwrap();
    assert_eq!(read(place.as_ref(), "c").await.unwrap(), b"c");
    first.finish().await.unwrap();
    place.rename(&path(".wetbank-1"), &path("a"), Collision::Refuse).await.unwrap();
    write(place.as_ref(), ".wetbank-2", &path("b"), b"b").await.unwrap();
}

#[test]
fn without_limits_the_place_is_itself() {
    let root = TempDir::new().unwrap();
    assert!(!limited(&root, &Limits::default()).is_limited());
    assert!(limited(&root, &rate(1)).is_limited() && limited(&root, &rate(1)).as_folder().is_some());
}

#[tokio::test(flavor = "multi_thread")]
async fn a_share_that_is_not_mounted_is_unreachable_and_never_an_empty_folder() {
    // The empty folder that lies below a mount while nothing is mounted there.
    let bare = TempDir::new().unwrap();
    let place = Folder::mounted(Name::new("share").unwrap(), bare.path(), Some(bare.path()));
    let listed = place.list(&wetbank_core::RelPath::root(), Depth::One).next().await;
    for error in [
        place.reach().await.unwrap_err(),
        listed.expect("an error, not an end").unwrap_err(),
        place.stat(&path("a.csv")).await.unwrap_err(),
        write(&place, ".wetbank-1", &path("a"), b"x").await.unwrap_err(),
    ] {
        assert_eq!(error.kind, PlaceErrorKind::Unreachable, "{error}");
        assert!(error.detail.starts_with("nothing is mounted at "), "{error}");
    }
    assert_eq!(std::fs::read_dir(bare.path()).unwrap().count(), 0, "nothing was written beneath it");
    // A mount that every Linux has.
    let there = Folder::mounted(Name::new("share").unwrap(), "/proc/self", Some("/proc"));
    there.reach().await.unwrap();
    assert!(!there.capabilities().reports_changes, "a server does not tell what others change");
}
