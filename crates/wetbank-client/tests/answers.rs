//! What the client makes of answers: those of a service, those of something else, and none.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use futures_util::StreamExt;
use serde_json::{Value, json};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::TcpListener,
};
use wetbank_client::{Client, ClientError, segment};
use wetbank_testbed::{Answering, http_answer};

/// A client of a server with one answer.
fn against(answer: &str) -> (Client, Answering) {
    let server = Answering::with(answer);
    (Client::new(&format!("{}/", server.url()), "grey-heron", None).unwrap(), server)
}

fn answer(status: &str, kind: &str, body: &str) -> String {
    http_answer(status, &format!("content-type: {kind}\r\n"), body)
}

/// What a person reads, causes included.
fn told(error: &dyn std::error::Error) -> String {
    let mut text = error.to_string();
    let mut cause = error.source();
    while let Some(error) = cause {
        text.push_str(&format!(": {error}"));
        cause = error.source();
    }
    text
}

#[tokio::test]
async fn a_call_goes_to_the_service_with_its_token_and_comes_back_as_it_is() {
    let (client, server) = against(&answer("200 OK", "application/json", r#"{"runs":3}"#));
    let query = [("rule", "assay & more".to_owned())];
    let read: Value = client.get("/runs", &query).await.unwrap();
    assert_eq!(read, json!({ "runs": 3 }));
    let request = server.asked();
    assert!(request.starts_with("GET /api/v1/runs?rule=assay+%26+more HTTP/1.1"), "{request}");
    assert!(request.to_ascii_lowercase().contains("authorization: bearer grey-heron"), "{request}");
    let posted: Value = client.post("/rules/keep/run", &json!({ "file": "office:/a.csv" })).await.unwrap();
    assert_eq!(posted["runs"], 3);
    let request = server.asked();
    assert!(request.starts_with("POST /api/v1/rules/keep/run") && request.ends_with(r#"{"file":"office:/a.csv"}"#));
}

#[tokio::test]
async fn what_the_service_refuses_is_told_in_its_words() {
    let problem = json!({
        "title": "mistake", "status": 422, "code": "book", "detail": "the book has 1 mistake",
        "mistakes": [ { "file": "book.toml", "line": 3, "key": "rule.keep", "message": "unknown key \"tiltle\"" } ],
    });
    let text = answer("422 Unprocessable Content", "application/problem+json", &problem.to_string());
    let (client, _server) = against(&text);
    let error = client.put_nothing("/book", &json!({})).await.unwrap_err();
    assert_eq!(error.to_string(), "the book has 1 mistake");
    let ClientError::Refused(problem) = error else { panic!("{error:?}") };
    assert_eq!((problem.code.as_str(), problem.status, problem.mistakes[0].line), ("book", 422, 3));
}

#[tokio::test]
async fn a_refusal_without_words_still_says_what_it_is() {
    for (status, code) in [("401 Unauthorized", "sign-in"), ("502 Bad Gateway", "error")] {
        let (client, _server) = against(&answer(status, "text/html", "<h1>no</h1>"));
        let error = client.delete("/secrets/harbour").await.unwrap_err();
        assert!(error.to_string().contains(status), "{error}");
        let ClientError::Refused(problem) = error else { panic!("{error:?}") };
        assert_eq!(problem.code, code);
    }
}

#[tokio::test]
async fn an_answer_of_something_else_is_not_taken_for_ours() {
    let (client, _server) = against(&answer("200 OK", "text/html", "<html>welcome</html>"));
    let error = client.get::<Value>("/status", &[]).await.unwrap_err();
    assert!(matches!(error, ClientError::Strange { .. }), "{error:?}");
    assert!(error.to_string().contains("none of wetbank's"), "{error}");
    let (client, _server) = against("HTTP/1.1 200 OK\r\ncontent-length: 1000\r\n\r\n{\"half\":");
    let error = client.get::<Value>("/status", &[]).await.unwrap_err();
    assert!(matches!(error, ClientError::Strange { .. }), "{error:?}");
    let (client, _server) = against("220 mail.merrow.example\r\n");
    let error = client.get::<Value>("/status", &[]).await.unwrap_err();
    assert!(matches!(error, ClientError::Unreachable { .. }), "{error:?}");
}

#[tokio::test]
async fn where_nothing_listens_it_is_told_how_to_start_a_service_and_no_token_is_shown() {
    let port = TcpListener::bind("127.0.0.1:0").await.unwrap().local_addr().unwrap().port();
    let client = Client::new(&format!("http://127.0.0.1:{port}"), "grey-heron", None).unwrap();
    let error = client.get_text("/book", &[]).await.unwrap_err();
    assert!(error.to_string().contains(&format!("127.0.0.1:{port}")) && error.to_string().contains("wetbank serve"));
    assert!(!told(&error).contains("grey-heron") && !format!("{client:?} {error:?}").contains("grey-heron"));
}

#[tokio::test]
async fn events_come_whole_however_the_connection_cuts_them() {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let client = Client::new(&format!("http://{}", listener.local_addr().unwrap()), "grey-heron", None).unwrap();
    tokio::spawn(async move {
        let (mut stream, _) = listener.accept().await.unwrap();
        let mut request = [0; 4096];
        let _ = stream.read(&mut request).await.unwrap();
        let head = "HTTP/1.1 200 OK\r\ncontent-type: text/event-stream\r\nconnection: close\r\n\r\n";
        stream.write_all(head.as_bytes()).await.unwrap();
        let events =
            "data: {\"run\":1}\n\n: still here\n\ndata: no JSON\n\nevent: x\ndata:{\"name\":\"Årsrapport\"}\n\n";
        for piece in events.as_bytes().chunks(3) {
            stream.write_all(piece).await.unwrap();
            stream.flush().await.unwrap();
            tokio::task::yield_now().await;
        }
    });
    let events: Vec<Value> = client.events().await.unwrap().collect().await;
    assert_eq!(events, [json!({ "run": 1 }), json!({ "name": "Årsrapport" })]);
}

#[test]
fn a_name_is_one_part_of_an_address_whatever_is_in_it() {
    for (name, part) in [
        ("assay-results", "assay-results"),
        ("a/b?c#d", "a%2Fb%3Fc%23d"),
        ("50 % ß", "50%20%25%20%C3%9F"),
        ("line\nbreak", "line%0Abreak"),
        ("", ""),
    ] {
        assert_eq!(segment(name), part);
    }
}
