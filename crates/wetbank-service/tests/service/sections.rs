//! One section of the book: read, changed by two at once, taken back.

use reqwest::{Method, StatusCode};
use serde_json::{Value, json};

use super::{KEEP, Office, answered, problem};

const ADDRESS: &str = "/book/rule/keep";

/// The rule of `KEEP` with another folder.
fn other(folder: &str) -> String {
    let rule = &KEEP[KEEP.find("[rule.").unwrap()..];
    rule.replace("to = \"archive\"", &format!("to = \"archive\", folder = \"{folder}\""))
}

async fn put(office: &Office, text: &str, expected: Option<(&str, &str)>) -> (StatusCode, Value) {
    let asked = office.request(Method::PUT, ADDRESS).json(&json!({ "text": text, "note": " agreed by telephone " }));
    answered(match expected {
        Some((name, value)) => asked.header(name, value),
        None => asked,
    })
    .await
}

#[tokio::test(flavor = "multi_thread")]
async fn nobodys_change_is_lost_to_one_who_did_not_see_it() {
    let office = Office::with(KEEP).await;
    let (_, before) = office.get(ADDRESS).await;
    assert_eq!((&before["version"], before["versions"].as_array().unwrap().len()), (&json!(1), 1));
    let (status, diff) = put(&office, &other("first"), Some(("If-Match", "\"1\""))).await;
    assert_eq!((status, &diff["changes"][0]["change"]), (StatusCode::OK, &json!("changed")), "{diff}");
    // The second had the first version before its eyes, too.
    let (status, told) = put(&office, &other("second"), Some(("If-Match", "1"))).await;
    assert_eq!(told["current"].as_str().unwrap().trim_end(), other("first").trim_end());
    assert!(problem((status, told), StatusCode::CONFLICT, "changed-meanwhile").contains("the local user"));
    let (status, told) = put(&office, &other("second"), Some(("If-None-Match", "*"))).await;
    problem((status, told), StatusCode::CONFLICT, "changed-meanwhile");
    let (_, now) = office.get(ADDRESS).await;
    assert!(now["text"].as_str().unwrap().contains("first"));
    let last = &now["versions"][0];
    assert_eq!((&last["version"], &last["note"]), (&json!(2), &json!("agreed by telephone")));
    let words = last["differences"][0]["words"].as_str().unwrap();
    assert!(words.contains("Folder: now \"first\""), "{words}");
    assert_eq!(put(&office, &other("second"), Some(("If-Match", "2"))).await.0, StatusCode::OK);
    // Whoever says nothing has looked.
    assert_eq!(put(&office, &other("third"), None).await.0, StatusCode::OK);
    office.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_meant_is_refused_and_changes_nothing() {
    let office = Office::with(KEEP).await;
    let text = other("x").replace("rule.keep", "rule.other");
    let told = problem(put(&office, &text, None).await, StatusCode::CONFLICT, "other-section");
    assert!(told.contains("other") && told.contains("keep"), "{told}");
    let told =
        problem(put(&office, &other("x"), Some(("If-Match", "soon"))).await, StatusCode::BAD_REQUEST, "bad-request");
    assert!(told.contains("soon"), "{told}");
    let (status, told) = put(&office, &other("x").replace("archive", "nowhere"), None).await;
    assert_eq!((status, &told["code"]), (StatusCode::UNPROCESSABLE_ENTITY, &json!("book")));
    let (status, told) = put(&office, "not TOML", None).await;
    assert!(status.is_client_error(), "{told}");
    assert_eq!(office.get("/book/rule/none").await.0, StatusCode::NOT_FOUND);
    assert_eq!(office.get("/book/ruler/keep").await.0, StatusCode::NOT_FOUND);
    assert_eq!(office.get(ADDRESS).await.1["version"], 1);
    office.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn each_earlier_text_can_be_in_force_again_also_of_what_was_removed() {
    let office = Office::with(KEEP).await;
    let undo = async |body: Value| office.post(&format!("{ADDRESS}/undo"), body).await;
    problem(undo(json!({})).await, StatusCode::CONFLICT, "nothing-before");
    for folder in ["first", "second"] {
        assert_eq!(put(&office, &other(folder), None).await.0, StatusCode::OK);
    }
    assert_eq!(undo(json!({})).await.0, StatusCode::OK);
    let (_, now) = office.get(ADDRESS).await;
    assert!(now["text"].as_str().unwrap().contains("first"), "{now}");
    assert_eq!(now["versions"][0]["note"], "back to version 2");
    assert_eq!(undo(json!({ "version": 1 })).await.0, StatusCode::OK);
    assert!(!office.get(ADDRESS).await.1["text"].as_str().unwrap().contains("folder = \"first\""));
    problem(undo(json!({ "version": 99 })).await, StatusCode::CONFLICT, "nothing-before");
    assert_eq!(office.get("/removed/rule").await.1, json!([]));
    let (status, told) = office.delete(ADDRESS).await;
    assert_eq!(status, StatusCode::NO_CONTENT, "{told}");
    let (_, gone) = office.get(ADDRESS).await;
    assert_eq!(
        (&gone["text"], &gone["version"], &gone["versions"][0]["text"]),
        (&Value::Null, &Value::Null, &Value::Null)
    );
    assert_eq!(office.get("/removed/rule").await.1, json!(["keep"]));
    assert_eq!(undo(json!({})).await.0, StatusCode::OK);
    assert_eq!(office.get("/removed/rule").await.1, json!([]));
    assert_eq!(office.get("/rules").await.1.as_array().unwrap().len(), 1);
    office.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_draft_says_how_it_differs_from_what_is_in_force() {
    let office = Office::with(KEEP).await;
    let (_, told) = office.post("/drafts/rule", json!({ "text": other("first") })).await;
    assert_eq!((&told["version"], told["differences"].as_array().unwrap().len()), (&json!(1), 1), "{told}");
    let (_, told) =
        office.post("/drafts/rule", json!({ "text": other("first").replace("rule.keep", "rule.new") })).await;
    assert_eq!((&told["version"], &told["differences"]), (&Value::Null, &json!([])));
    office.close().await;
}
