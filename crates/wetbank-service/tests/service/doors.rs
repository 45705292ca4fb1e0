//! Who is let in, from where, and with how much.

use reqwest::{StatusCode, header};
use serde_json::json;

use crate::{KEEP, Office, answered, problem};

#[tokio::test(flavor = "multi_thread")]
async fn without_the_token_nothing_is_told_and_the_problem_says_so() {
    let office = Office::with(KEEP).await;
    for path in ["/status", "/rules", "/runs", "/holds", "/places", "/book", "/secrets", "/keys", "/partners"] {
        let told = answered(office.http.get(format!("{}/api/v1{path}", office.url))).await;
        assert!(problem(told, StatusCode::UNAUTHORIZED, "sign-in").contains("sign in first"), "{path}");
    }
    let wrong = office.http.get(format!("{}/api/v1/status", office.url)).bearer_auth("not it");
    problem(answered(wrong).await, StatusCode::UNAUTHORIZED, "sign-in");
    assert_eq!(office.get("/status").await.0, StatusCode::OK);
    office.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_browser_signs_in_once_and_other_sites_change_nothing_through_it() {
    let office = Office::with(KEEP).await;
    let session = office.http.post(format!("{}/api/v1/session", office.url));
    let signed = session.json(&json!({ "token": office.token })).send().await.unwrap();
    assert_eq!(signed.status(), StatusCode::NO_CONTENT);
    let cookie = signed.headers()[header::SET_COOKIE].to_str().unwrap().to_owned();
    assert!(cookie.contains("HttpOnly") && cookie.contains("SameSite=Strict"), "{cookie}");
    let cookie = cookie.split(';').next().unwrap().to_owned();
    let url = format!("{}/api/v1/rules/keep/switch", office.url);
    let switch = |name: &'static str, value: &str| {
        let request = office.http.post(&url).header(header::COOKIE, &cookie).header(name, value);
        answered(request.json(&json!({ "on": false })))
    };
    let foreign = switch("sec-fetch-site", "cross-site").await;
    assert!(problem(foreign, StatusCode::FORBIDDEN, "forbidden").contains("own pages"));
    problem(switch("sec-fetch-site", "same-site").await, StatusCode::FORBIDDEN, "forbidden");
    problem(switch("origin", "http://elsewhere.example").await, StatusCode::FORBIDDEN, "forbidden");
    assert_eq!(office.get("/rules/keep").await.1["on"], true, "nothing was changed");
    assert_eq!(switch("sec-fetch-site", "same-origin").await.0, StatusCode::NO_CONTENT);
    assert_eq!(switch("origin", &office.url).await.0, StatusCode::NO_CONTENT);
    assert_eq!(office.get("/rules/keep").await.1["on"], false);
    office.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_foreign_host_name_is_refused_and_security_is_said_with_every_answer() {
    let office = Office::with(KEEP).await;
    let foreign = office.request(reqwest::Method::GET, "/status").header(header::HOST, "elsewhere.example");
    assert!(problem(answered(foreign).await, StatusCode::FORBIDDEN, "forbidden").contains("host name"));
    for path in ["/api/v1/status", "/", "/rules", "/nothing/like/it"] {
        let answer = office.http.get(format!("{}{path}", office.url)).send().await.unwrap();
        let said = |name: &str| answer.headers().get(name).and_then(|value| value.to_str().ok()).unwrap_or_default();
        assert_eq!((said("x-content-type-options"), said("x-frame-options")), ("nosniff", "DENY"), "{path}");
        assert!(said("content-security-policy").contains("default-src 'self'"), "{path}");
        assert!(!said("cache-control").is_empty(), "{path}");
    }
    office.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_cannot_be_read_is_refused_with_its_reason() {
    let office = Office::with(KEEP).await;
    let odd = office.request(reqwest::Method::POST, "/rules/keep/switch");
    let told = answered(odd.header(header::CONTENT_TYPE, "application/json").body("{\"on\":")).await;
    assert_eq!(told.0, StatusCode::BAD_REQUEST, "{}", told.1);
    problem(office.get("/rules/ke%00ep").await, StatusCode::BAD_REQUEST, "bad-request");
    problem(office.get("/runs?limit=many").await, StatusCode::BAD_REQUEST, "bad-request");
    problem(office.get("/runs?state=finished").await, StatusCode::BAD_REQUEST, "bad-request");
    problem(office.get("/runs/none").await, StatusCode::BAD_REQUEST, "bad-request");
    problem(office.get("/nothing").await, StatusCode::NOT_FOUND, "not-found");
    let large = office.request(reqwest::Method::POST, "/book/check").body(vec![b' '; 9 << 20]);
    let large = large.header(header::CONTENT_TYPE, "application/json").send().await;
    assert!(large.is_err() || large.unwrap().status() == StatusCode::PAYLOAD_TOO_LARGE);
    assert_eq!(office.get("/status").await.0, StatusCode::OK, "it goes on");
    office.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_console_is_sent_compressed_and_kept_and_its_addresses_lead_to_it() {
    let office = Office::with(KEEP).await;
    let page = office.http.get(&office.url).send().await.unwrap().text().await.unwrap();
    assert!(page.contains("<div id=\"root\">"), "{page}");
    assert_eq!(office.http.get(format!("{}/rules/keep", office.url)).send().await.unwrap().text().await.unwrap(), page);
    let script = page.split('"').find(|word| word.starts_with("/assets/") && word.ends_with(".js")).unwrap();
    let asked = office.http.get(format!("{}{script}", office.url)).header(header::ACCEPT_ENCODING, "gzip");
    let sent = asked.send().await.unwrap();
    assert_eq!(sent.headers()[header::CONTENT_ENCODING], "gzip");
    assert!(sent.headers()[header::CACHE_CONTROL].to_str().unwrap().contains("immutable"));
    office.close().await;
}
