//! Places over the API: added, tried, tested, looked into, and files moved by hand.

use std::fs;

use reqwest::StatusCode;
use serde_json::{Value, json};

use crate::{KEEP, Office, problem};

fn new_place(name: &str, kind: &str, keys: &Value) -> Value {
    json!({ "name": name, "kind": kind, "keys": keys })
}

#[tokio::test(flavor = "multi_thread")]
async fn a_place_is_tried_added_and_tested_and_a_wrong_one_changes_nothing() {
    let office = Office::with(KEEP).await;
    let root = office.path("huts").display().to_string();
    let huts = new_place("huts", "folder", &json!({ "root": root }));
    let (_, tried) = office.post("/places/try", json!({ "place": huts, "sign_in": true })).await;
    assert_eq!((&tried["fine"], &tried["address"]), (&json!(false), &json!(root)), "it is not there yet: {tried}");
    fs::create_dir(office.path("huts")).unwrap();
    let (_, tried) = office.post("/places/try", json!({ "place": huts, "sign_in": true })).await;
    assert_eq!(tried["fine"], true, "{tried}");
    assert_eq!(office.get("/places").await.1.as_array().unwrap().len(), 2, "trying adds nothing");
    assert_eq!(office.post("/places", huts.clone()).await.0, StatusCode::NO_CONTENT);
    let again = problem(office.post("/places", huts).await, StatusCode::CONFLICT, "there-already");
    assert!(again.contains("huts"), "{again}");
    for (wrong, words) in [
        (new_place("x", "pigeon", &json!({})), "unknown kind \"pigeon\""),
        (new_place("x", "folder", &json!({})), "needs the key \"root\""),
        (new_place("x", "folder", &json!({ "root": "srv" })), "must be an absolute folder"),
        (new_place("x", "folder", &json!({ "root": "/srv", "host": "h" })), "has no key \"host\""),
        (new_place("x", "web", &json!({ "url": "tides.example", "files": [] })), "needs files"),
    ] {
        let told = problem(office.post("/places", wrong).await, StatusCode::UNPROCESSABLE_ENTITY, "book");
        assert!(told.contains(words), "{told}");
    }
    problem(office.post("/places", new_place("a b", "folder", &json!({}))).await, StatusCode::BAD_REQUEST, "bad-name");
    let (_, tested) = office.post("/places/huts/test", json!({ "write": true })).await;
    assert_eq!(tested["fine"], true, "{tested}");
    assert_eq!(fs::read_dir(office.path("huts")).unwrap().count(), 0, "the probe is gone");
    problem(office.post("/places/nowhere/test", json!({})).await, StatusCode::NOT_FOUND, "not-found");
    office.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_folder_is_listed_page_by_page_and_a_page_is_good_once() {
    let office = Office::with(KEEP).await;
    for number in 0..25 {
        office.put(&format!("office/in/gauge-{number:02}.csv"), "1");
    }
    fs::create_dir(office.path("office/in/2026")).unwrap();
    let (mut names, mut next, mut pages) = (Vec::new(), String::new(), 0);
    loop {
        let (status, page) = office.get(&format!("/places/office/browse?folder=in&limit=10{next}")).await;
        assert_eq!(status, StatusCode::OK, "{page}");
        pages += 1;
        names
            .extend(page["entries"].as_array().unwrap().iter().map(|entry| entry["name"].as_str().unwrap().to_owned()));
        match page["next"].as_u64() {
            Some(token) => next = format!("&page={token}"),
            None => break,
        }
    }
    names.sort();
    names.dedup();
    assert_eq!((names.len(), pages >= 3), (26, true), "{names:?}");
    let old = office.get(&format!("/places/office/browse?folder=in{next}")).await;
    problem(old, StatusCode::GONE, "listing-given-up");
    problem(office.get("/places/office/browse?folder=../..").await, StatusCode::BAD_REQUEST, "bad-request");
    problem(office.get("/places/office/browse?folder=nothing").await, StatusCode::NOT_FOUND, "not-found");
    office.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn files_moved_by_hand_are_runs_and_a_taken_name_is_held() {
    let office = Office::with(KEEP).await;
    office.put("office/in/a.csv", "new");
    office.put("archive/a.csv", "old");
    let hand = |exists: Option<&str>| json!({ "from": "office:/in", "names": ["a.csv"], "to": "archive:/", "move": true, "exists": exists });
    let (status, begun) = office.post("/by-hand", hand(None)).await;
    assert_eq!((status, begun["files"].as_i64()), (StatusCode::OK, Some(1)), "{begun}");
    let run = office.rested(begun["first"].as_i64().unwrap()).await;
    assert_eq!((&run["state"], &run["items"][0]["hold"]["code"]), (&json!("held"), &json!("exists")), "{run}");
    assert_eq!(fs::read_to_string(office.path("archive/a.csv")).unwrap(), "old");
    let item = run["items"][0]["id"].as_i64().unwrap();
    let dismissed = office.post(&format!("/holds/{item}/dismiss"), json!({ "why": "done again" })).await;
    assert_eq!(dismissed.0, StatusCode::NO_CONTENT, "{}", dismissed.1);
    let (_, begun) = office.post("/by-hand", hand(Some("replace"))).await;
    assert_eq!(office.rested(begun["first"].as_i64().unwrap()).await["state"], "done");
    assert_eq!(fs::read_to_string(office.path("archive/a.csv")).unwrap(), "new");
    assert!(!office.path("office/in/a.csv").exists());
    let unknown = json!({ "from": "office:/in", "names": ["a.csv"], "to": "archive:/", "exists": "perhaps" });
    assert!(office.post("/by-hand", unknown).await.0.is_client_error());
    problem(office.post("/by-hand", hand(None)).await, StatusCode::NOT_FOUND, "not-found");
    office.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_secret_goes_in_and_never_comes_out_and_one_that_is_needed_stays() {
    let office = Office::with(KEEP).await;
    let place = json!({
        "name": "harbour", "kind": "ftp", "keys": { "host": "127.0.0.1", "port": 9, "user": "merrow" },
        "secrets": { "password": "grey heron" },
    });
    assert_eq!(office.post("/places", place).await.0, StatusCode::NO_CONTENT);
    for path in ["/secrets", "/book", "/places", "/status"] {
        let told = office.get(path).await.1.to_string();
        assert!(!told.contains("grey heron"), "{path}: {told}");
    }
    assert_eq!(office.get("/secrets").await.1[0]["name"], "harbour-password");
    let told = office.delete("/secrets/harbour-password").await;
    assert!(problem(told, StatusCode::CONFLICT, "needed").contains("harbour"));
    problem(office.delete("/secrets/none").await, StatusCode::NOT_FOUND, "not-found");
    let day = office.get("/places/office/day").await.1;
    assert_eq!(day["spans"].as_array().unwrap().last().unwrap()["to"], day["to"], "{day}");
    problem(office.get("/places/none/day").await, StatusCode::NOT_FOUND, "not-found");
    office.close().await;
}
