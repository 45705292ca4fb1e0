//! The book over the API: checked, compared, put in force, given back.

use reqwest::StatusCode;
use serde_json::{Value, json};

use crate::{KEEP, Office, PLACES, problem};

#[tokio::test(flavor = "multi_thread")]
async fn every_mistake_is_told_with_its_line_and_nothing_is_changed() {
    let office = Office::with(KEEP).await;
    let before = office.get("/book").await.1;
    let wrong = format!("{PLACES}{}", KEEP.replace("copy =", "cpoy =").replace("*.csv", "[*.csv"));
    for path in ["/book/check", "/book/diff", "/book/apply", "/book/test"] {
        let told = office.post(path, office.book(&wrong)).await;
        let mistakes = told.1["mistakes"].as_array().cloned().unwrap();
        problem(told, StatusCode::UNPROCESSABLE_ENTITY, "book");
        let lines: Vec<i64> = mistakes.iter().map(|one| one["line"].as_i64().unwrap()).collect();
        assert_eq!(lines, [10, 12], "{path}: {mistakes:#?}");
        assert!(mistakes[1]["message"].as_str().unwrap().contains("did you mean \"copy\"?"), "{mistakes:#?}");
    }
    assert_eq!(office.get("/book").await.1, before);
    office.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_change_is_shown_line_by_line_and_its_versions_are_kept() {
    let office = Office::with(KEEP).await;
    let changed = KEEP.replace("Keep readings", "Keep all readings");
    let proposed = office.book(&format!("{PLACES}{changed}"));
    let (status, diff) = office.post("/book/diff", proposed.clone()).await;
    assert_eq!(status, StatusCode::OK);
    let changes = diff["changes"].as_array().unwrap();
    assert_eq!(changes.len(), 1, "{diff}");
    assert_eq!((&changes[0]["kind"], &changes[0]["change"]), (&json!("rule"), &json!("changed")));
    let lines = |change: &str| -> Vec<Value> {
        let all = changes[0]["lines"].as_array().unwrap().iter();
        all.filter(|line| line["change"] == change).map(|line| line["text"].clone()).collect()
    };
    assert_eq!(lines("removed"), ["title = \"Keep readings\""]);
    assert_eq!(lines("added"), ["title = \"Keep all readings\""]);
    assert!(lines("same").len() >= 4);
    assert_eq!(office.get("/rules/keep").await.1["title"], "Keep readings", "it was only shown");
    assert_eq!(office.post("/book/apply", proposed).await.0, StatusCode::OK);
    let rule = office.get("/rules/keep").await.1;
    assert_eq!((&rule["title"], rule["version"].as_i64()), (&json!("Keep all readings"), Some(2)));
    assert_eq!(rule["versions"].as_array().unwrap().len(), 2, "{rule}");
    office.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_needed_is_not_removed_and_what_is_left_out_stays_unless_the_whole_is_given() {
    let office = Office::with(KEEP).await;
    let told = office.delete("/book/place/archive").await;
    assert!(problem(told, StatusCode::UNPROCESSABLE_ENTITY, "book").contains("archive"));
    // A part leaves the rest as it is.
    assert_eq!(office.post("/book/apply", office.book(PLACES)).await.0, StatusCode::OK);
    assert_eq!(office.get("/rules").await.1.as_array().unwrap().len(), 1);
    let mut whole = office.book(PLACES);
    whole["whole"] = json!(true);
    let (_, diff) = office.post("/book/apply", whole).await;
    assert_eq!((&diff["changes"][0]["change"], &diff["changes"][0]["name"]), (&json!("removed"), &json!("keep")));
    assert_eq!(office.delete("/book/place/archive").await.0, StatusCode::NO_CONTENT);
    assert_eq!(office.get("/places").await.1.as_array().unwrap().len(), 1);
    office.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_book_that_is_given_back_is_the_one_in_force_with_its_comments() {
    let office = Office::with(KEEP).await;
    let commented = KEEP.replace("[rule.keep]", "# agreed with the harbour\n[rule.keep]");
    office.post("/book/apply", office.book(&commented)).await;
    let book = office.get("/book").await.1;
    let book = book.as_str().unwrap();
    assert!(book.contains("# agreed with the harbour\n[rule.keep]"), "{book}");
    let again = json!({ "files": [ { "name": "book.toml", "text": book } ], "whole": true });
    let (_, diff) = office.post("/book/diff", again).await;
    assert_eq!(diff["changes"], json!([]), "{diff}");
    let schema = office.get("/book/schema").await.1;
    assert!(schema["$defs"]["Step"]["oneOf"].as_array().unwrap().len() > 20);
    office.close().await;
}
