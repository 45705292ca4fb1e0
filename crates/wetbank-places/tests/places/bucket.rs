//! What only a bucket does: uploads in parts, marks, keys that no folder tree has.

use std::sync::Arc;

use crate::support::{bucket_spec, path, put, write};
use futures_util::StreamExt;
use wetbank_core::{BucketAddressing, Name, RelPath};
use wetbank_places::{Bucket, Collision, Cut, Depth, Entry, EntryKind, Place, PlaceError, PlaceErrorKind, probe};
use wetbank_standins::{BucketStandin, BucketStandinOptions};
use wetbank_testbed::wait_until;

const LARGE: usize = 9_000_000;

async fn store() -> Arc<BucketStandin> {
    let options = BucketStandinOptions {
        listen: ([127, 0, 0, 1], 0).into(),
        bucket: "tidewatch".to_owned(),
        access_key: "merrow".to_owned(),
        secret_key: "grey heron".to_owned(),
    };
    Arc::new(BucketStandin::start(options).await.unwrap())
}

fn bucket(store: &BucketStandin, secret: &str) -> Bucket {
    Bucket::new(Name::new("archive").unwrap(), bucket_spec(&store.url(), "tidewatch"), Some(secret.into())).unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn an_upload_that_is_given_up_leaves_no_parts() {
    let store = store().await;
    let place = bucket(&store, "grey heron");
    let mut staged = place.stage(&path(".wetbank-1"), &path("whole"), None).await.unwrap();
    staged.write(vec![7; LARGE].into()).await.unwrap();
    assert_eq!((store.open_uploads(), store.keys()), (1, vec![".wetbank-1".to_owned()]));
    drop(staged);
    wait_until("the parts are gone", || store.open_uploads() == 0 && store.keys().is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn after_a_stop_the_parts_of_an_upload_are_found_and_removed() {
    let store = store().await;
    let entry = write(&bucket(&store, "grey heron"), ".wetbank-1", &path("whole"), &vec![1; LARGE]).await.unwrap();
    // Another process, that knows nothing but what the journal kept.
    let place = bucket(&store, "grey heron");
    let cut = place.after_cut(&path(".wetbank-1"), &path("whole"), &entry.fingerprint).await.unwrap();
    assert_eq!(cut, Cut::Undone);
    put(&place, ".wetbank-1", &path("whole"), &vec![2; LARGE]).await.unwrap();
    assert_eq!((store.open_uploads(), store.keys()), (0, vec!["whole".to_owned()]));
}

#[tokio::test(flavor = "multi_thread")]
async fn an_upload_whose_id_was_not_written_down_before_a_stop_is_found_by_its_name_and_time() {
    let store = store().await;
    store.begin_upload("whole-2");
    store.put(".wetbank-1", r#"{"target":"whole","upload":null}"#);
    store.begin_upload("whole");
    let place = bucket(&store, "grey heron");
    place.delete(&path(".wetbank-1")).await.unwrap();
    assert_eq!((store.open_uploads(), store.keys().len()), (1, 0), "that of another file stays");
}

#[tokio::test(flavor = "multi_thread")]
async fn after_a_stop_a_file_that_has_its_name_is_known_by_its_mark() {
    for size in [3, LARGE] {
        let store = store().await;
        let first = bucket(&store, "grey heron");
        let entry = write(&first, ".wetbank-1", &path("whole"), &vec![1; size]).await.unwrap();
        let now = first.rename(&path(".wetbank-1"), &path("whole"), Collision::Refuse).await.unwrap().unwrap();
        let place = bucket(&store, "grey heron");
        if size == LARGE {
            // The note was not removed yet.
            store.put(".wetbank-1", r#"{"target":"whole","upload":"upload-1"}"#);
        }
        let cut = place.after_cut(&path(".wetbank-1"), &path("whole"), &entry.fingerprint).await.unwrap();
        assert_eq!(cut, Cut::Done(now));
        assert_eq!(store.keys(), ["whole"], "no note stays");
        // Somebody fetched it: what was put at once can be put again, what was joined is joined.
        place.delete(&path("whole")).await.unwrap();
        let cut = place.after_cut(&path(".wetbank-1"), &path("whole"), &entry.fingerprint).await.unwrap();
        assert_eq!(cut, if size == LARGE { Cut::Look } else { Cut::Undone });
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_of_somebody_else_under_the_name_is_not_taken_for_ours() {
    let store = store().await;
    let place = bucket(&store, "grey heron");
    let entry = write(&place, ".wetbank-1", &path("whole"), b"same").await.unwrap();
    store.put("whole", "same");
    let cut = place.after_cut(&path(".wetbank-1"), &path("whole"), &entry.fingerprint).await.unwrap();
    assert_eq!(cut, Cut::Undone);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_move_within_the_bucket_is_known_after_a_stop_and_sends_no_byte() {
    let store = store().await;
    let place = bucket(&store, "grey heron");
    store.put("in/a.csv", "levels");
    let state = place.stat(&path("in/a.csv")).await.unwrap().fingerprint;
    let now = place.rename(&path("in/a.csv"), &path("done/a.csv"), Collision::Refuse).await.unwrap().unwrap();
    assert_eq!(store.keys(), ["done/a.csv"]);
    let cut = place.after_cut(&path("in/a.csv"), &path("done/a.csv"), &state).await.unwrap();
    assert_eq!(cut, Cut::Done(now));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_that_was_replaced_while_it_was_moved_is_not_removed() {
    let store = store().await;
    let place = bucket(&store, "grey heron");
    for round in 0..20 {
        store.put("in/a.csv", "first");
        let (writer, mover) = (store.clone(), place.clone());
        let replaced = tokio::task::spawn_blocking(move || {
            std::thread::sleep(std::time::Duration::from_micros(150 * round));
            writer.put("in/a.csv", "second");
        });
        let moved = mover.rename(&path("in/a.csv"), &path("out/a.csv"), Collision::Replace).await;
        replaced.await.unwrap();
        let out = store.object("out/a.csv").unwrap_or_default();
        let left = store.object("in/a.csv").unwrap_or_default();
        assert!(out == b"second" || left == b"second" || moved.is_err(), "round {round}: {out:?} {left:?}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_wrong_secret_an_unknown_key_and_a_missing_bucket_are_told_apart() {
    let store = store().await;
    let place = bucket(&store, "bittern");
    for error in [place.reach().await.unwrap_err(), place.stat(&path("a")).await.unwrap_err()] {
        assert_eq!(error.kind, PlaceErrorKind::Refused, "{error}");
        assert!(error.remedy().contains("wetbank secret set secret-key"), "{}", error.remedy());
        assert!(!format!("{error} {error:?} {place:?}").contains("bittern"));
    }
    let spec = bucket_spec(&store.url(), "no-such-bucket");
    let elsewhere = Bucket::new(Name::new("archive").unwrap(), spec, Some("grey heron".into())).unwrap();
    let missing = elsewhere.reach().await.unwrap_err();
    assert_eq!(missing.kind, PlaceErrorKind::NotFound);
    assert!(missing.detail.contains("there is no bucket \"no-such-bucket\""), "{missing}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_test_of_a_bucket_goes_through_every_step_and_leaves_nothing() {
    let store = store().await;
    let steps = probe(&bucket(&store, "grey heron"), true).await;
    assert!(steps.iter().all(|step| step.outcome.is_ok()), "{steps:?}");
    assert_eq!((steps.len(), store.keys().len()), (12, 0));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_root_keeps_us_among_the_objects_below_it() {
    let store = store().await;
    store.put("survey/a.csv", "a");
    store.put("survey-2/b.csv", "b");
    let spec = wetbank_core::BucketSpec { root: "survey".to_owned(), ..bucket_spec(&store.url(), "tidewatch") };
    let place = Bucket::new(Name::new("archive").unwrap(), spec, Some("grey heron".into())).unwrap();
    let found: Vec<_> = place.list(&RelPath::root(), Depth::All).map(|e| e.unwrap().path.to_string()).collect().await;
    assert_eq!(found, ["a.csv"]);
    put(&place, ".wetbank-1", &path("c.csv"), b"c").await.unwrap();
    assert_eq!(store.object("survey/c.csv").unwrap(), b"c");
}

#[test]
fn a_bucket_can_be_a_part_of_the_host_name() {
    let spec = wetbank_core::BucketSpec {
        addressing: BucketAddressing::Host,
        ..bucket_spec("https://objects.tidewatch.example:9000", "archive")
    };
    let place = Bucket::new(Name::new("archive").unwrap(), spec, None).unwrap();
    assert_eq!(place.endpoint(), Some(("archive.objects.tidewatch.example".to_owned(), 9000)));
}

/// A store that gives every request the same answer.
async fn always(answer: String) -> Bucket {
    let url = crate::support::always(answer).await;
    Bucket::new(Name::new("archive").unwrap(), bucket_spec(&url, "tidewatch"), Some("x".into())).unwrap()
}

fn listing(inner: &str) -> String {
    let body =
        format!("<ListBucketResult xmlns=\"http://s3.amazonaws.com/doc/2006-03-01/\">{inner}</ListBucketResult>");
    format!("HTTP/1.1 200 OK\r\nContent-Length: {}\r\nConnection: close\r\n\r\n{body}", body.len())
}

async fn all(place: &Bucket, depth: Depth) -> Vec<Result<Entry, PlaceError>> {
    place.list(&RelPath::root(), depth).take(50).collect().await
}

#[tokio::test(flavor = "multi_thread")]
async fn keys_that_no_folder_tree_has_are_left_out_and_the_others_are_told() {
    let long = "n".repeat(10_000);
    let keys = ["../etc/passwd", "/abs", "a//b", "in/../x", "nul%00", ".", &long, "in/fine.csv"];
    let contents = |key: &&str| format!("<Contents><Key>{key}</Key><Size>7</Size></Contents>");
    let inner = format!("<EncodingType>url</EncodingType>{}", keys.iter().map(contents).collect::<String>());
    let place = always(listing(&inner)).await;
    let told: Vec<Entry> = all(&place, Depth::All).await.into_iter().map(Result::unwrap).collect();
    for entry in &told {
        assert!(entry.path.parts().all(|part| part != b".." && part != b"." && !part.is_empty()), "{:?}", entry.path);
    }
    let files: Vec<_> = told.iter().filter(|entry| entry.kind == EntryKind::File).collect();
    assert!(files.iter().any(|entry| entry.path == path("in/fine.csv") && entry.fingerprint.size == 7));
    assert!(files.iter().all(|entry| entry.path.name().len() <= 1024 || entry.path.name() == long.as_bytes()));
    assert_eq!(told.iter().filter(|entry| entry.path == path("in")).count(), 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_listing_that_turns_in_a_circle_or_is_none_ends_with_an_error() {
    let more = "<Contents><Key>a</Key></Contents><NextContinuationToken>again</NextContinuationToken>";
    let told = all(&always(listing(more)).await, Depth::One).await;
    assert!(told.len() < 10 && told.last().unwrap().as_ref().unwrap_err().detail.contains("circle"), "{told:?}");
    let body = "<html>Sign in to the network</html>";
    let page = format!("HTTP/1.1 200 OK\r\nContent-Length: {}\r\nConnection: close\r\n\r\n{body}", body.len());
    let told = all(&always(page).await, Depth::One).await;
    assert!(told[0].as_ref().unwrap_err().detail.contains("cannot be read"), "{told:?}");
}

#[tokio::test(flavor = "multi_thread")]
async fn an_answer_that_says_yes_and_then_no_is_a_no() {
    let body = "<?xml version=\"1.0\"?><Error><Code>InternalError</Code><Message>again</Message></Error>";
    let answer = format!("HTTP/1.1 200 OK\r\nContent-Length: {}\r\nConnection: close\r\n\r\n{body}", body.len());
    let place = always(answer).await;
    let mut staged = place.stage(&path(".wetbank-1"), &path("whole"), None).await.unwrap();
    let written = staged.write(vec![0; LARGE].into()).await;
    assert_eq!(written.unwrap_err().kind, PlaceErrorKind::Busy);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_the_store_refuses_is_told_in_kinds_that_can_be_acted_on() {
    for (status, code, kind) in [
        ("403 Forbidden", "AccessDenied", PlaceErrorKind::Denied),
        ("503 Slow Down", "SlowDown", PlaceErrorKind::Busy),
        ("507 Insufficient Storage", "QuotaExceeded", PlaceErrorKind::NoSpace),
        ("403 Forbidden", "RequestTimeTooSkewed", PlaceErrorKind::Denied),
        ("301 Moved Permanently", "PermanentRedirect", PlaceErrorKind::Other),
    ] {
        let body = format!("<Error><Code>{code}</Code><Message>no</Message><Endpoint>eu</Endpoint></Error>");
        let answer = format!("HTTP/1.1 {status}\r\nContent-Length: {}\r\nConnection: close\r\n\r\n{body}", body.len());
        let error = always(answer).await.reach().await.unwrap_err();
        assert_eq!(error.kind, kind, "{code}: {error}");
    }
}
