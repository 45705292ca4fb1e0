//! Rehearsals, the record of what came, and the order of rules, as programs ask for them.

use std::fs;

use reqwest::{Method, StatusCode};
use serde_json::{Value, json};

use super::{KEEP, Office, answered, problem};

async fn rehearsed(office: &Office, body: Value) -> Value {
    let (status, told) = office.post("/rehearsals", body).await;
    assert_eq!(status, StatusCode::OK, "{told}");
    told
}

async fn put(office: &Office, path: &str, body: Value) -> (StatusCode, Value) {
    answered(office.request(Method::PUT, path).json(&body)).await
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_no_rehearsal_is_told_with_its_cause() {
    let office = Office::with(KEEP).await;
    let draft = json!({ "text": "[rule.keep]\nstarts = { hand = {} }\n" });
    for (body, status, code) in [
        (json!({ "over": "here" }), StatusCode::BAD_REQUEST, "bad-request"),
        (json!({ "rule": "keep", "draft": draft, "over": "here" }), StatusCode::BAD_REQUEST, "bad-request"),
        (json!({ "draft": {}, "over": "here" }), StatusCode::BAD_REQUEST, "bad-request"),
        (json!({ "rule": "kept", "over": "here" }), StatusCode::NOT_FOUND, "not-found"),
        (json!({ "rule": "keep", "version": 77, "over": "here" }), StatusCode::NOT_FOUND, "not-found"),
        (json!({ "rule": "keep", "over": { "arrival": 77 } }), StatusCode::NOT_FOUND, "not-found"),
        (json!({ "rule": "keep", "over": { "file": "no place" } }), StatusCode::BAD_REQUEST, "bad-request"),
        (json!({ "rule": "keep", "over": { "file": "attic:/a.csv" } }), StatusCode::NOT_FOUND, "not-found"),
        (json!({ "rule": "keep", "over": { "file": "office:/../a.csv" } }), StatusCode::BAD_REQUEST, "bad-request"),
        (json!({ "rule": "keep", "over": "here", "day": "someday" }), StatusCode::BAD_REQUEST, "bad-request"),
        (json!({ "draft": draft, "over": "here" }), StatusCode::CONFLICT, "unfinished"),
    ] {
        problem(office.post("/rehearsals", body).await, status, code);
    }
    // However much is asked for, and however far back, the answer has bounds.
    let asked = json!({ "rule": "keep", "over": { "days": 4_000_000_000_u32 }, "most": 1_000_000_000_u64 });
    assert_eq!(rehearsed(&office, asked).await["files"], 0);
    office.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn names_that_mean_harm_are_only_names() {
    let office = Office::with(KEEP).await;
    assert!(office.post("/rules/keep/switch", json!({ "on": false })).await.0.is_success());
    let long = format!("{}.csv", "n".repeat(251));
    let names =
        ["<img src=x onerror=alert(1)>.csv", "{{ file.size }}.csv", "\u{202e}exe.csv", "; rm -rf ~.csv", long.as_str()];
    let folder = office.folder.path().join("office/in");
    fs::create_dir_all(&folder).unwrap();
    for name in names {
        fs::write(folder.join(name), "x").unwrap();
    }
    let told = rehearsed(&office, json!({ "rule": "keep", "over": "here" })).await;
    assert_eq!(told["files"], names.len());
    for file in told["shown"].as_array().unwrap() {
        let name = file["file"].as_str().unwrap().rsplit('/').next().unwrap();
        assert!(names.contains(&name), "{file}");
        let to = file["after"]["steps"][0]["comes_to"].as_str().unwrap();
        assert!(to.ends_with(name), "a name is never read as a template: {file}");
    }
    office.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_order_of_rules_is_that_of_all_of_them_or_it_stays() {
    let more = KEEP.replace("rule.keep", "rule.also");
    let more = &more[more.find("[rule.").unwrap()..];
    let office = Office::with(&format!("{KEEP}\n{more}")).await;
    let names = async || {
        let rules = office.get("/rules").await.1;
        rules.as_array().unwrap().iter().map(|rule| rule["name"].as_str().unwrap().to_owned()).collect::<Vec<_>>()
    };
    assert_eq!(names().await, ["keep", "also"]);
    for (rules, status, code) in [
        (json!(["also"]), StatusCode::CONFLICT, "other-rules"),
        (json!(["also", "also", "keep"]), StatusCode::CONFLICT, "other-rules"),
        (json!(["also", "keep", "none"]), StatusCode::NOT_FOUND, "not-found"),
    ] {
        problem(put(&office, "/rule-order", json!({ "rules": rules })).await, status, code);
    }
    assert_eq!(names().await, ["keep", "also"]);
    let done = put(&office, "/rule-order", json!({ "rules": ["also", "keep"] })).await;
    assert_eq!(done.0, StatusCode::NO_CONTENT);
    assert_eq!(names().await, ["also", "keep"]);
    assert!(office.get("/places").await.1.as_array().is_some_and(|places| !places.is_empty()), "the rest stays");
    office.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_folder_is_made_below_the_root_and_nowhere_else() {
    let office = Office::with(KEEP).await;
    let make = async |folder: &str| office.post("/places/office/folders", json!({ "folder": folder })).await;
    assert_eq!(make("new/one").await.0, StatusCode::NO_CONTENT);
    assert_eq!(make("new/one").await.0, StatusCode::NO_CONTENT, "one that is there is well");
    assert!(office.folder.path().join("office/new/one").is_dir());
    problem(make("../out").await, StatusCode::BAD_REQUEST, "bad-request");
    problem(make("a\u{0}b").await, StatusCode::BAD_REQUEST, "bad-request");
    let long = make(&"n".repeat(300)).await;
    assert!(long.0.is_server_error() || long.0.is_client_error(), "{long:?}");
    problem(office.post("/places/attic/folders", json!({ "folder": "x" })).await, StatusCode::NOT_FOUND, "not-found");
    office.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn bounds_of_what_came_are_told_and_set() {
    let office = Office::with(KEEP).await;
    let kept = office.get("/arrivals/kept").await.1;
    assert_eq!((&kept["days"], &kept["most"]), (&json!(60), &json!(200_000)));
    problem(put(&office, "/arrivals/kept", json!({ "days": 0, "most": 1 })).await, StatusCode::CONFLICT, "bounds");
    let set = put(&office, "/arrivals/kept", json!({ "days": 7, "most": 10 })).await;
    assert_eq!((set.0, &set.1["days"]), (StatusCode::OK, &json!(7)));
    assert_eq!(office.get("/arrivals").await, (StatusCode::OK, json!([])));
    office.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_came_is_told_by_its_folder_newest_first() {
    let watched = "[rule.keep]\nstarts = { arrival = { place = \"office\", folder = \"in\", below = true } }\n\
                   [[rule.keep.branch]]\nsteps = [ { copy = { to = \"archive\" } } ]\n";
    let office = Office::with(watched).await;
    for path in ["in/one.csv", "in/deeper/two.csv", "in/deeper/still/three.csv", "in/deeper %_/four.csv"] {
        let before = office.get("/arrivals/kept").await.1["count"].clone();
        let path = office.folder.path().join("office").join(path);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        // It is there at once and whole: what is seen while it is written would be two states of it.
        let aside = office.folder.path().join("aside");
        fs::write(&aside, "x").unwrap();
        fs::rename(aside, path).unwrap();
        // One after the other, so that it is known which is the newest.
        let end = std::time::Instant::now() + std::time::Duration::from_secs(30);
        while office.get("/arrivals/kept").await.1["count"] == before {
            assert!(std::time::Instant::now() < end, "{before} on record, and no more");
            tokio::time::sleep(std::time::Duration::from_millis(10)).await;
        }
    }
    let told = async |query: &str| {
        let (status, told) = office.get(&format!("/arrivals?{query}")).await;
        assert_eq!(status, StatusCode::OK, "{told}");
        let files = told.as_array().unwrap().iter().map(|one| one["file"].as_str().unwrap().to_owned());
        files.collect::<Vec<_>>()
    };
    assert_eq!(told("").await.len(), 4);
    assert_eq!(told("place=office&folder=in").await, ["office:/in/one.csv"]);
    assert_eq!(told("place=office&folder=in/deeper").await, ["office:/in/deeper/two.csv"]);
    assert_eq!(told("place=office&folder=in/deeper%20%25_").await, ["office:/in/deeper %_/four.csv"]);
    assert_eq!(told("place=office&folder=").await, [""; 0]);
    assert_eq!(told("place=archive").await, [""; 0]);
    problem(office.get("/arrivals?place=office&folder=../in").await, StatusCode::BAD_REQUEST, "bad-request");
    office.close().await;
}
