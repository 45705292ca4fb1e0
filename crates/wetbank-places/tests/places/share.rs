//! Signing in to network shares, and what they refuse.

use crate::support::{path, put, read, share_place, share_spec, write};
use futures_util::TryStreamExt;
use wetbank_core::{Name, RelPath};
use wetbank_places::{Depth, Place, PlaceErrorKind, Share, probe};
use wetbank_testbed::{SHARE_USER, Samba, ShareOffer, run};

fn name() -> Name {
    Name::new("files").unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn every_version_is_spoken_as_safely_as_it_can() {
    for (offer, encrypted, words) in [
        (ShareOffer::Usual, true, "SMB 3.1.1, AES-128-GCM"),
        (ShareOffer::Usual, false, "SMB 3.1.1, signed"),
        (ShareOffer::OnlyEncrypted, false, "SMB 3.1.1, signed"),
        (ShareOffer::Plain, false, "SMB 3.1.1, signed"),
        (ShareOffer::Older, false, "SMB 3.0, signed"),
        (ShareOffer::Oldest, false, "SMB 2.1, signed"),
    ] {
        let server = Samba::start(offer);
        let place = share_place(&server, encrypted);
        assert!(place.secure().await.unwrap().starts_with(words), "{offer:?}");
        put(&place, ".wetbank-1", &path("gauge.csv"), b"4.2\n").await.unwrap();
        assert_eq!(read(&place, "gauge.csv").await.unwrap(), b"4.2\n", "{offer:?}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn who_wants_encryption_is_never_given_less() {
    for offer in [ShareOffer::Plain, ShareOffer::Older, ShareOffer::Oldest] {
        let server = Samba::start(offer);
        let place = share_place(&server, true);
        let error = place.reach().await.unwrap_err();
        assert_eq!(error.kind, PlaceErrorKind::Security, "{offer:?}: {error}");
        assert!(error.detail.contains("cannot encrypt") && error.detail.contains("security = \"signed\""), "{error}");
        assert!(place.secure().await.is_err());
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_sign_in_is_refused_by_name_and_nobody_is_a_guest() {
    let (usual, guests) = (Samba::start(ShareOffer::Usual), Samba::start(ShareOffer::Guests));
    let wrong = Share::new(name(), share_spec(&usual, true), "bittern".into());
    let mut nobody = share_spec(&guests, false);
    nobody.user = "nobody-here".to_owned();
    let unknown = Share::new(name(), nobody, SHARE_USER.1.into());
    for (place, words) in [(wrong, "secret \"password\""), (unknown, "guest")] {
        let steps = probe(&place, true).await;
        let error = steps.last().unwrap().outcome.as_ref().unwrap_err();
        assert_eq!((steps.last().unwrap().what, error.kind), ("sign in", PlaceErrorKind::Refused));
        assert!(error.detail.contains(words), "{error}");
        assert!(!error.to_string().contains("bittern"), "a password is never told");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_domain_may_stand_before_the_user() {
    let server = Samba::start(ShareOffer::Usual);
    let spec = wetbank_core::ShareSpec { domain: "MERROW".to_owned(), ..share_spec(&server, true) };
    let place = Share::new(name(), spec, SHARE_USER.1.into());
    assert_eq!(place.reach().await.unwrap(), "signed in as MERROW\\merrow");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_share_or_folder_that_is_not_there_is_told() {
    let server = Samba::start(ShareOffer::Usual);
    let with = |change: fn(&mut wetbank_core::ShareSpec)| {
        let mut spec = share_spec(&server, true);
        change(&mut spec);
        Share::new(name(), spec, SHARE_USER.1.into())
    };
    let error = with(|spec| spec.share = "surveys".to_owned()).reach().await.unwrap_err();
    assert_eq!(error.kind, PlaceErrorKind::NotFound);
    assert!(error.detail.contains("has no share \"surveys\""), "{error}");
    let error = with(|spec| spec.root = "not/here".to_owned()).reach().await.unwrap_err();
    assert_eq!(error.kind, PlaceErrorKind::NotFound, "{error}");
    std::fs::create_dir_all(server.root.path().join("field/2026")).unwrap();
    let below = with(|spec| spec.root = "field/2026".to_owned());
    put(&below, ".wetbank-1", &path("a.csv"), b"1").await.unwrap();
    assert_eq!(std::fs::read(server.root.path().join("field/2026/a.csv")).unwrap(), b"1");
}

#[tokio::test(flavor = "multi_thread")]
async fn without_rights_to_write_it_is_said_so() {
    let server = Samba::start(ShareOffer::ReadOnly);
    std::fs::write(server.root.path().join("a.csv"), "1").unwrap();
    let place = share_place(&server, true);
    assert_eq!(read(&place, "a.csv").await.unwrap(), b"1");
    let steps = probe(&place, true).await;
    let last = steps.last().unwrap();
    assert_eq!(last.what, "write a probe file");
    assert_eq!(last.outcome.as_ref().unwrap_err().kind, PlaceErrorKind::Denied);
    assert_eq!(place.delete(&path("a.csv")).await.unwrap_err().kind, PlaceErrorKind::Denied);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_name_that_would_mean_something_else_there_is_never_sent() {
    let server = Samba::start(ShareOffer::Usual);
    std::fs::create_dir(server.root.path().join("a")).unwrap();
    let place = share_place(&server, true);
    for hostile in ["a\\b.csv", "a.csv:stream", "what?.csv", "*", "dot.", "blank ", "two\nlines"] {
        let target = wetbank_core::RelPath::from_bytes(hostile.as_bytes()).unwrap();
        let error = write(&place, ".wetbank-1", &target, b"x").await.map(drop);
        let renamed = place.rename(&path(".wetbank-1"), &target, wetbank_places::Collision::Replace).await;
        assert_eq!(renamed.unwrap_err().kind, PlaceErrorKind::BadName, "{hostile:?}: {error:?}");
        assert_eq!(place.stat(&target).await.unwrap_err().kind, PlaceErrorKind::BadName);
    }
    assert_eq!(std::fs::read_dir(server.root.path().join("a")).unwrap().count(), 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_listing_is_told_who_put_each_file_there() {
    let server = Samba::start(ShareOffer::Usual);
    let place = share_place(&server, true);
    let me = run("id", &["-un"]).trim().to_owned();
    put(&place, ".wetbank-1", &path("levels.csv"), b"2.31").await.unwrap();
    place.make_folder(&path("done")).await.unwrap();
    for number in 0..40 {
        std::fs::write(server.root.path().join(format!("gauge-{number:02}.csv")), b"2.31").unwrap();
    }
    let mut others = 0;
    if me == "root" {
        run("chown", &["nobody", &server.root.path().join("gauge-07.csv").display().to_string()]);
        run("chown", &["54321", &server.root.path().join("gauge-08.csv").display().to_string()]);
        others = 2;
    }
    for _ in ["asked for", "remembered"] {
        let mut entries: Vec<_> = place.list(&RelPath::root(), Depth::One).try_collect().await.unwrap();
        assert!(entries.iter().all(|entry| entry.owner.is_none()), "a listing itself does not tell");
        entries.push(wetbank_places::Entry { path: path("gone.csv"), ..entries[0].clone() });
        // A server that is busy just then is not waited for; whoever looks again sees them.
        for _ in 0..20 {
            place.tell_owners(&mut entries).await;
            if entries.iter().filter(|entry| entry.owner.is_some()).count() == 42 {
                break;
            }
        }
        let owner = |name: &str| entries.iter().find(|entry| entry.path == path(name)).unwrap().owner.as_deref();
        assert_eq!((owner("levels.csv"), owner("done")), (Some(&*me), Some(&*me)));
        assert_eq!(owner("gone.csv"), None, "one that is gone has none and keeps none of the others from theirs");
        assert_eq!(entries.iter().filter(|entry| entry.owner.as_deref() == Some(&*me)).count(), 42 - others);
        if others > 0 {
            assert_eq!(owner("gauge-07.csv"), Some("nobody"));
            assert_eq!(owner("gauge-08.csv"), Some("54321"), "nobody has this number, the server says it as it is");
        }
    }
}
