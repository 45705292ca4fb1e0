//! Calls that are made wrongly, and those about what there is little of: keys, calendars, databases, mails.

use std::fs;

use futures_util::StreamExt;
use reqwest::{Method, StatusCode};
use serde_json::{Value, json};

use super::{KEEP, Office, answered, problem};

#[tokio::test(flavor = "multi_thread")]
async fn a_call_that_cannot_be_read_is_told_what_is_wrong_with_it() {
    let office = Office::with(KEEP).await;
    for (path, word) in [
        ("/trace", "missing field `text`"),
        ("/runs?state=odd", "`running`"),
        ("/runs?limit=many", "limit"),
        ("/runs/first", "first"),
    ] {
        let told = problem(office.get(path).await, StatusCode::BAD_REQUEST, "bad-request");
        assert!(told.contains(word) && !told.contains("deserialize"), "{path}: {told}");
    }
    let told = problem(
        office.post("/holds/1/dismiss", json!({ "reason": "x" })).await,
        StatusCode::UNPROCESSABLE_ENTITY,
        "bad-request",
    );
    assert!(told.starts_with("the body is not what this call takes") && told.contains("`why`"), "{told}");
    let half =
        office.request(Method::POST, "/book/check").header("content-type", "application/json").body("{\"files\":");
    assert!(problem(answered(half).await, StatusCode::BAD_REQUEST, "bad-request").starts_with("the body is no JSON"));
    let plain = office.request(Method::POST, "/book/check").body("{}");
    let told = problem(answered(plain).await, StatusCode::UNSUPPORTED_MEDIA_TYPE, "bad-request");
    assert!(told.contains("content-type: application/json"), "{told}");
    office.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn an_address_that_no_call_has_and_a_method_that_a_call_has_not_are_told_apart() {
    let office = Office::with(KEEP).await;
    for method in [Method::GET, Method::POST, Method::DELETE] {
        let told =
            problem(answered(office.request(method.clone(), "/nothing")).await, StatusCode::NOT_FOUND, "not-found");
        assert!(told.contains(&format!("{method} /api/v1/nothing")), "{told}");
    }
    let request = office.request(Method::PUT, "/runs").build().unwrap();
    let answer = office.http.execute(request).await.unwrap();
    assert_eq!(answer.headers()["allow"], "GET,HEAD");
    assert_eq!(answer.headers()["content-type"], "application/problem+json");
    let told: Value = answer.json().await.unwrap();
    assert_eq!((&told["status"], &told["code"]), (&json!(405), &json!("method")), "{told}");
    assert!(told["detail"].as_str().unwrap().starts_with("/api/v1/runs is not called with PUT"), "{told}");
    office.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_no_key_is_refused_and_none_is_there_afterwards() {
    let office = Office::with(KEEP).await;
    let put = |body: Value| answered(office.request(Method::PUT, "/keys/harbour").json(&body));
    let told = problem(put(json!({ "text": "nonsense" })).await, StatusCode::UNPROCESSABLE_ENTITY, "refused");
    assert!(told.contains("exported"), "{told}");
    let told = problem(put(json!({ "text": "", "base64": "%%" })).await, StatusCode::BAD_REQUEST, "bad-request");
    assert!(told.contains("base64"), "{told}");
    let armour = "-----BEGIN PGP PUBLIC KEY BLOCK-----\n\nbm8ga2V5\n-----END PGP PUBLIC KEY BLOCK-----\n";
    problem(put(json!({ "text": armour })).await, StatusCode::UNPROCESSABLE_ENTITY, "refused");
    assert_eq!(office.get("/keys").await, (StatusCode::OK, json!([])));
    problem(office.get("/keys/harbour").await, StatusCode::NOT_FOUND, "not-found");
    problem(office.delete("/keys/harbour").await, StatusCode::NOT_FOUND, "not-found");
    office.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn days_off_are_taken_from_a_calendar_file_once() {
    let calendar = "[calendar.merrow]\ntitle = \"Merrow office\"\noff = [\"2026-12-25\", \"2026-12-25\"]\n";
    let office = Office::with(&format!("{calendar}{KEEP}")).await;
    let event = |uid: u8, day: &str| {
        format!(
            "BEGIN:VEVENT\r\nUID:{uid}@merrow.example\r\nDTSTAMP:20261101T000000Z\r\nDTSTART;VALUE=DATE:{day}\r\nSUMMARY:Closed\r\nEND:VEVENT\r\n"
        )
    };
    let text = format!(
        "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//merrow\r\n{}{}END:VCALENDAR\r\n",
        event(1, "20261225"),
        event(2, "20270101")
    );
    let (path, body) = ("/calendars/merrow/days-off", json!({ "text": text }));
    let (status, told) = office.post(path, body.clone()).await;
    // One of them stands there already, and even twice.
    assert_eq!((status, told), (StatusCode::OK, json!({ "added": 1, "left_out": [] })));
    let (_, calendars) = office.get("/calendars").await;
    let off: Vec<&str> =
        calendars[0]["off"].as_array().unwrap().iter().filter_map(|day| day["first"].as_str()).collect();
    assert_eq!(off, ["2026-12-25", "2027-01-01"], "{calendars}");
    // The same file again brings nothing new.
    assert_eq!(office.post(path, body.clone()).await.0, StatusCode::OK);
    assert_eq!(office.get("/calendars").await.1, calendars);
    problem(office.post(path, json!({ "text": "x" })).await, StatusCode::UNPROCESSABLE_ENTITY, "refused");
    // A calendar that is not there is made.
    assert_eq!(office.post("/calendars/skerrow/days-off", body).await.0, StatusCode::OK);
    assert_eq!(office.get("/calendars").await.1.as_array().unwrap().len(), 2);
    office.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_database_is_tested_where_it_lies() {
    let databases = "[database.survey]\nkind = \"sqlite\"\nfile = \"@/survey.db\"\n\
                     [database.lost]\nkind = \"sqlite\"\nfile = \"@/nowhere/lost.db\"\n";
    let office = Office::with(&format!("{databases}{KEEP}")).await;
    fs::write(office.path("survey.db"), b"").unwrap();
    let (_, listed) = office.get("/databases").await;
    assert_eq!(listed.as_array().unwrap().len(), 2, "{listed}");
    let (status, told) = office.post("/databases/survey/test", json!({})).await;
    assert_eq!((status, &told["fine"]), (StatusCode::OK, &json!(true)), "{told}");
    let (status, told) = office.post("/databases/lost/test", json!({})).await;
    assert_eq!((status, &told["fine"]), (StatusCode::OK, &json!(false)), "{told}");
    assert!(told["said"].to_string().contains("lost.db"), "{told}");
    assert!(!office.path("nowhere").exists());
    problem(office.post("/databases/none/test", json!({})).await, StatusCode::NOT_FOUND, "not-found");
    office.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_not_there_cannot_be_stopped_released_given_up_or_sent_again() {
    let office = Office::with(KEEP).await;
    let why = json!({ "why": "not ours" });
    for (path, body, status, code) in [
        ("/runs/99/stop", json!({}), StatusCode::NOT_FOUND, "not-found"),
        ("/runs/99/retry", json!({}), StatusCode::NOT_FOUND, "not-found"),
        ("/notices/99/retry", json!({}), StatusCode::CONFLICT, "no-mail"),
        ("/holds/99/release", json!({}), StatusCode::NOT_FOUND, "not-found"),
        ("/holds/99/dismiss", why, StatusCode::NOT_FOUND, "not-found"),
        ("/rules/none/switch", json!({ "on": true }), StatusCode::NOT_FOUND, "not-found"),
        ("/places/none/test", json!({}), StatusCode::NOT_FOUND, "not-found"),
    ] {
        let told = problem(office.post(path, body).await, status, code);
        assert!(told.contains("99") || told.contains("none"), "{path}: {told}");
    }
    office.put("office/in/a.csv", "levels");
    let run = office.run("keep").await["id"].clone();
    let told = problem(office.post(&format!("/runs/{run}/stop"), json!({})).await, StatusCode::CONFLICT, "nothing");
    assert!(told.contains(&run.to_string()), "{told}");
    office.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_is_given_up_with_a_reason_which_stays_on_record() {
    let office = Office::with(KEEP).await;
    office.put("office/in/a.csv", "new");
    office.put("archive/a.csv", "other");
    let run = office.run("keep").await;
    let item = office.get("/holds").await.1["holds"][0]["item"].clone();
    let dismiss = format!("/holds/{item}/dismiss");
    for empty in ["", "  \n"] {
        let (status, told) = office.post(&dismiss, json!({ "why": empty })).await;
        assert!(status.is_client_error(), "{told}");
    }
    assert_eq!(office.get("/holds").await.1["holds"].as_array().unwrap().len(), 1);
    let given_up = office.post(&dismiss, json!({ "why": "sent by post" })).await;
    assert_eq!(given_up.0, StatusCode::NO_CONTENT, "{}", given_up.1);
    let told = office.rested(run["id"].as_i64().unwrap()).await;
    assert!(told.to_string().contains("sent by post"), "{told}");
    assert_eq!(fs::read_to_string(office.path("archive/a.csv")).unwrap(), "other");
    assert!(office.path("office/in/a.csv").exists(), "an original is nobody's to take away");
    office.close().await;
}

#[tokio::test(flavor = "multi_thread")]
async fn what_happens_is_told_as_it_happens() {
    let office = Office::with(KEEP).await;
    let answer = office.request(Method::GET, "/events").send().await.unwrap();
    assert_eq!(answer.headers()["content-type"], "text/event-stream");
    let mut told = String::new();
    let mut stream = answer.bytes_stream();
    office.put("office/in/a.csv", "levels");
    let run = office.run("keep").await["id"].to_string();
    let all = async {
        while !(told.contains("done") && told.contains(&run)) {
            told.push_str(std::str::from_utf8(&stream.next().await.unwrap().unwrap()).unwrap());
        }
    };
    tokio::time::timeout(std::time::Duration::from_secs(20), all).await.expect("it is told");
    for line in told.lines().filter_map(|line| line.strip_prefix("data:")) {
        serde_json::from_str::<Value>(line).unwrap_or_else(|e| panic!("{line}: {e}"));
    }
    office.close().await;
}
