//! A cloud drive: access that somebody agreed to, changes since a token, and what it does wrong.

use std::{collections::BTreeMap, time::Duration};

use crate::support::{AgreedDrive, DRIVE_USER, path, put, read};
use futures_util::StreamExt;
use secrecy::ExposeSecret;
use wetbank_core::AgreedSpec;
use wetbank_places::{
    Agreement, AgreementError, Change, Depth, EntryKind, Place, PlaceError, PlaceErrorKind, Webdav, probe,
};

/// What a place tells of changes: what is there or gone, and where it goes on.
async fn changes(
    place: &Webdav,
    folder: &str,
    depth: Depth,
    since: Option<String>,
) -> Result<(BTreeMap<String, bool>, String), PlaceError> {
    let mut told = place.changes(&path(folder), depth, since).unwrap();
    let (mut found, mut until) = (BTreeMap::new(), None);
    while let Some(change) = told.next().await {
        assert!(until.is_none(), "nothing comes behind the end");
        match change? {
            Change::There(entry) if entry.kind == EntryKind::File => drop(found.insert(entry.path.to_string(), true)),
            Change::There(_) => {}
            Change::Gone(path) => drop(found.insert(path.to_string(), false)),
            Change::Until(token) => until = Some(token),
        }
    }
    Ok((found, until.expect("an end")))
}

#[tokio::test(flavor = "multi_thread")]
async fn changes_are_told_page_by_page_and_each_once() {
    let agreed = AgreedDrive::start(|options| options.page = 7).await;
    let (drive, place) = (&agreed.drive, agreed.place("merrow"));
    for n in 0..30 {
        drive.put("merrow", format!("in/{n:02}.csv"), "1", "Tove");
    }
    drive.put("merrow", "in/deep/below.csv", "1", "Tove");
    let (all, since) = changes(&place, "in", Depth::One, None).await.unwrap();
    assert_eq!(all.len(), 30);
    assert_eq!(drive.asked("REPORT"), 5, "31 entries in pages of seven");
    assert_eq!(changes(&place, "in", Depth::One, Some(since.clone())).await.unwrap().0, BTreeMap::new());
    drive.put("merrow", "in/new.csv", "2", "Odd");
    drive.put("merrow", "elsewhere/new.csv", "2", "Odd");
    place.delete(&path("in/03.csv")).await.unwrap();
    let (told, since) = changes(&place, "in", Depth::One, Some(since)).await.unwrap();
    assert_eq!(told, BTreeMap::from([("in/03.csv".to_owned(), false), ("in/new.csv".to_owned(), true)]));
    let (all, _) = changes(&place, "in", Depth::All, None).await.unwrap();
    assert_eq!(all.values().filter(|is_there| **is_there).count(), 31, "deep ones, too");
    drive.forget_changes();
    let error = changes(&place, "in", Depth::One, Some(since)).await.unwrap_err();
    assert_eq!(error.kind, PlaceErrorKind::Unsupported, "it begins anew: {error}");
}

#[tokio::test(flavor = "multi_thread")]
async fn who_added_a_file_is_told() {
    let agreed = AgreedDrive::start(|_| {}).await;
    agreed.drive.put("merrow", "theirs.csv", "1", "Åse Lunde");
    let place = agreed.place("merrow");
    put(&place, ".wetbank-1", &path("ours.csv"), b"2").await.unwrap();
    let mut owners = BTreeMap::new();
    let mut listing = place.list(&path(""), Depth::One);
    while let Some(entry) = listing.next().await {
        let entry = entry.unwrap();
        owners.insert(entry.path.to_string(), entry.owner.unwrap());
    }
    assert_eq!(owners["theirs.csv"], "Åse Lunde");
    assert_eq!(owners["ours.csv"], DRIVE_USER);
}

#[tokio::test(flavor = "multi_thread")]
async fn access_is_renewed_and_what_is_changed_with_it_is_kept() {
    let agreed = AgreedDrive::start(|options| options.token_seconds = 1).await;
    let place = agreed.place("merrow");
    let kept = || agreed.keeper.0.lock().unwrap().as_ref().unwrap().expose_secret().to_owned();
    let first = kept();
    put(&place, ".wetbank-1", &path("a.csv"), b"1").await.unwrap();
    let second = kept();
    assert_ne!(first, second, "the lasting half is good once");
    tokio::time::sleep(Duration::from_millis(1100)).await;
    assert_eq!(read(&place, "a.csv").await.unwrap(), b"1");
    assert_ne!(second, kept());
    // Many at once renew it once: a second use of the same one would end it.
    tokio::time::sleep(Duration::from_millis(1100)).await;
    let many = (0..20).map(|_| read(&place, "a.csv"));
    assert!(futures_util::future::join_all(many).await.into_iter().all(|read| read.is_ok()));
}

#[tokio::test(flavor = "multi_thread")]
async fn access_that_ends_early_is_renewed_and_an_agreement_that_ends_is_told() {
    let agreed = AgreedDrive::start(|_| {}).await;
    let place = agreed.place("merrow");
    put(&place, ".wetbank-1", &path("a.csv"), b"1").await.unwrap();
    agreed.drive.end_access();
    let error = read(&place, "a.csv").await.unwrap_err();
    assert!(error.kind == PlaceErrorKind::Interrupted && error.is_retryable(), "{error}");
    assert_eq!(read(&place, "a.csv").await.unwrap(), b"1", "the next try has new access");
    agreed.drive.revoke_all();
    let _ = read(&place, "a.csv").await;
    let error = read(&place, "a.csv").await.unwrap_err();
    assert_eq!(error.kind, PlaceErrorKind::SignInEnded, "{error}");
    assert!(error.remedy().contains("wetbank place sign-in drive"), "{}", error.remedy());
    *agreed.keeper.0.lock().unwrap() = None;
    let steps = probe(&agreed.place("merrow"), false).await;
    let last = steps.last().unwrap();
    assert_eq!(last.what, "sign in");
    assert!(last.outcome.as_ref().unwrap_err().detail.contains("nobody has signed in"), "{last:?}");
    agreed.agree(&["files.read"]);
    assert_eq!(read(&agreed.place("merrow"), "a.csv").await.unwrap(), b"1");
}

#[tokio::test(flavor = "multi_thread")]
async fn rights_and_tenants_are_kept_apart() {
    let agreed = AgreedDrive::start(|_| {}).await;
    agreed.drive.put("harlan", "secret.csv", "x", "Odd");
    let error = read(&agreed.place("harlan"), "secret.csv").await.unwrap_err();
    assert_eq!(error.kind, PlaceErrorKind::Denied, "{error}");
    agreed.drive.put("merrow", "a.csv", "1", "Tove");
    agreed.agree(&["files.read"]);
    let place = agreed.place("merrow");
    let steps = probe(&place, true).await;
    let last = steps.last().unwrap();
    assert_eq!(last.what, "write a probe file");
    assert_eq!(last.outcome.as_ref().unwrap_err().kind, PlaceErrorKind::Denied);
    assert_eq!(read(&place, "a.csv").await.unwrap(), b"1");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_server_that_says_how_long_to_wait_is_waited_for() {
    let agreed = AgreedDrive::start(|_| {}).await;
    agreed.drive.put("merrow", "a.csv", "1", "Tove");
    let place = agreed.place("merrow");
    agreed.drive.be_busy(2, 1);
    let began = std::time::Instant::now();
    assert_eq!(place.stat(&path("a.csv")).await.unwrap().fingerprint.size, 1);
    assert!(began.elapsed() >= Duration::from_secs(2));
    agreed.drive.be_busy(1, 3600);
    let error = place.stat(&path("a.csv")).await.unwrap_err();
    assert!(error.kind == PlaceErrorKind::Busy && error.is_retryable(), "{error}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_listing_that_breaks_off_is_no_end() {
    let agreed = AgreedDrive::start(|_| {}).await;
    for n in 0..50 {
        agreed.drive.put("merrow", format!("{n:02}.csv"), "1", "Tove");
    }
    let place = agreed.place("merrow");
    agreed.drive.cut_listing();
    let listed: Vec<_> = place.list(&path(""), Depth::One).collect().await;
    assert!(listed.len() < 50);
    assert_eq!(listed.last().unwrap().as_ref().unwrap_err().kind, PlaceErrorKind::Interrupted);
}

fn spec(server: &str) -> AgreedSpec {
    AgreedSpec {
        server: server.to_owned(),
        client: "wetbank".to_owned(),
        client_secret: None,
        rights: vec!["files.read".to_owned()],
        grant: wetbank_core::Name::new("grant").unwrap(),
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_code_is_typed_agreed_to_or_refused() {
    let agreed = AgreedDrive::start(|_| {}).await;
    let agreement = Agreement::find(spec(&agreed.drive.url()), None).await.unwrap();
    assert!(agreement.offers_codes());
    let asked = agreement.ask_by_code().await.unwrap();
    assert!(asked.direct.as_ref().unwrap().contains(&asked.code));
    let (drive, code) = (agreed.drive.clone(), asked.code.clone());
    tokio::spawn(async move {
        // It has asked once, and was told to ask again.
        tokio::time::sleep(Duration::from_millis(100)).await;
        assert!(drive.agree_to_device(&code, DRIVE_USER));
    });
    let granted = agreement.agreed_by_code(asked).await.unwrap();
    assert_eq!(granted.rights, ["files.read"]);
    let asked = agreement.ask_by_code().await.unwrap();
    let page = asked.direct.clone().unwrap();
    let form = format!("code={}&answer=refuse", asked.code);
    let answered = reqwest::Client::new().post(page.split('?').next().unwrap()).body(form);
    let form = "application/x-www-form-urlencoded";
    assert!(answered.header("content-type", form).send().await.unwrap().status().is_success());
    let refused = agreement.agreed_by_code(asked).await.unwrap_err();
    assert!(matches!(refused, AgreementError::Refused(_)), "{refused}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_server_that_is_none_or_not_the_one_it_says_is_not_asked() {
    let agreed = AgreedDrive::start(|_| {}).await;
    let error = Agreement::find(spec(&agreed.drive.files("merrow")), None).await.unwrap_err();
    assert!(error.to_string().contains("is this the address of the sign-in?"), "{error}");
    let liar = r#"{"issuer":"https://elsewhere.example","token_endpoint":"https://elsewhere.example/token"}"#;
    let answer = format!("HTTP/1.1 200 OK\r\ncontent-length: {}\r\n\r\n{liar}", liar.len());
    let error = Agreement::find(spec(&crate::support::always(answer).await), None).await.unwrap_err();
    assert!(error.to_string().contains("says that it is https://elsewhere.example"), "{error}");
    let mut unknown = spec(&agreed.drive.url());
    unknown.client = "somebody".to_owned();
    let error = Agreement::find(unknown, None).await.unwrap().ask_by_code().await.unwrap_err();
    assert!(error.to_string().contains("knows no program of this name"), "{error}");
}
