//! Signals of other systems, and what is told of them.

use reqwest::StatusCode;
use serde_json::{Value, json};

use crate::{Office, answered, problem};

const DESK: &str = "[rule.desk]\nstarts = { signal = { secret = \"desk\" } }\n\
                    [[rule.desk.branch]]\nsteps = [ { make-folder = { to = \"archive\", folder = \"{{ signal.id }}\" } } ]\n";

async fn signal(office: &Office, proof: &str, time: &str, body: &Value) -> (StatusCode, Value) {
    let request = office.http.post(format!("{}/signal/desk", office.url));
    answered(request.header("wetbank-proof", proof).header("wetbank-time", time).json(body)).await
}

#[tokio::test(flavor = "multi_thread")]
async fn a_signal_without_its_proof_begins_nothing() {
    let office = Office::with(DESK).await;
    let set = office.request(reqwest::Method::PUT, "/secrets/desk").json(&json!({ "value": "grey heron" }));
    assert_eq!(answered(set).await.0, StatusCode::NO_CONTENT);
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap().as_secs().to_string();
    problem(signal(&office, &"0".repeat(64), &now, &json!({ "id": "7" })).await, StatusCode::UNAUTHORIZED, "unproved");
    assert!(signal(&office, "", "", &json!({})).await.0.is_client_error());
    assert_eq!(office.get("/runs").await.1["runs"], json!([]));
    let (_, rule) = office.get("/rules/desk").await;
    let shown = rule["signal"]["commands"].as_str().unwrap();
    assert!(shown.contains("/signal/desk") && !shown.contains("grey heron"), "{shown}");
    office.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn an_empty_secret_is_refused_and_lists_of_what_is_not_there_are_empty() {
    let office = Office::with(DESK).await;
    let empty = office.request(reqwest::Method::PUT, "/secrets/desk").json(&json!({ "value": "" }));
    problem(answered(empty).await, StatusCode::BAD_REQUEST, "bad-request");
    let (_, secrets) = office.get("/secrets").await;
    assert_eq!(
        secrets,
        json!([{ "name": "desk", "changed": null, "needed_by": [{ "kind": "rule", "name": "desk" }] }])
    );
    for path in ["/keys", "/partners", "/calendars", "/databases", "/notices"] {
        assert_eq!(office.get(path).await, (StatusCode::OK, json!([])), "{path}");
    }
    problem(office.get("/keys/none").await, StatusCode::NOT_FOUND, "not-found");
    assert!(office.post("/notices/7/retry", json!({})).await.0.is_client_error());
    assert!(office.post("/databases/none/test", json!({})).await.0.is_client_error());
    office.close().await;
}
