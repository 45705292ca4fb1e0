//! Calling a web address: what is sent, and what is made of every answer.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use std::{
    net::TcpListener,
    time::{Duration, Instant},
};

use futures_util::{StreamExt, stream};
use wetbank_errands::{Answer, Calling, Content, ErrandError, call};
use wetbank_testbed::{Answering, http_answer};

fn calling(url: String) -> Calling {
    Calling {
        url,
        method: "POST".to_owned(),
        headers: Vec::new(),
        token: None,
        key: "run-7-step-2".to_owned(),
        content: Content::Empty,
        limit: Duration::from_secs(5),
    }
}

/// What comes of a call to a server with this answer.
async fn answered(status: &str, headers: &str, body: &str) -> Result<Answer, ErrandError> {
    let server = Answering::with(http_answer(status, headers, body));
    call(calling(server.url())).await
}

#[tokio::test]
async fn what_is_sent_is_all_of_it_and_can_be_told_from_a_second_call() {
    let server = Answering::with(http_answer("201 Created", "", "kept"));
    let asked = Calling {
        headers: vec![("X-Desk".to_owned(), "merrow".to_owned())],
        token: Some("grey heron".into()),
        content: Content::Text("application/json", r#"{"name":"Årsrapport.pdf"}"#.to_owned()),
        ..calling(format!("{}/items/7?new=yes", server.url()))
    };
    let answer = call(asked).await.unwrap();
    assert_eq!(answer, Answer { status: 201, said: "kept".to_owned() });
    let request = server.asked();
    let head = request.to_ascii_lowercase();
    assert!(request.starts_with("POST /items/7?new=yes HTTP/1.1\r\n"), "{request}");
    for line in [
        "x-desk: merrow",
        "authorization: bearer grey heron",
        "idempotency-key: run-7-step-2",
        "content-type: application/json",
    ] {
        assert!(head.contains(&format!("\r\n{line}\r\n")), "{line} in {request}");
    }
    assert!(request.ends_with(r#"{"name":"Årsrapport.pdf"}"#));
}

#[tokio::test]
async fn a_file_is_sent_with_its_size_and_one_that_ends_early_is_no_success() {
    let server = Answering::with(http_answer("200 OK", "", ""));
    let chunks = || stream::iter(["water ", "level"]).map(|chunk| Ok(bytes::Bytes::from(chunk)));
    let whole = Calling { content: Content::File(11, chunks().boxed()), ..calling(server.url()) };
    call(whole).await.unwrap();
    let request = server.asked();
    assert!(request.to_ascii_lowercase().contains("content-length: 11\r\n") && request.ends_with("water level"));
    let half = Calling { content: Content::File(40, chunks().boxed()), ..calling(server.url()) };
    assert!(call(half).await.unwrap_err().is_retryable());
    let broken = chunks().chain(stream::iter([Err(std::io::Error::other("the disk broke"))]));
    let broken = Calling { content: Content::File(40, broken.boxed()), ..calling(server.url()) };
    assert!(call(broken).await.is_err());
}

#[tokio::test]
async fn each_status_is_done_tried_again_or_told_to_a_person() {
    for status in ["200 OK", "202 Accepted", "204 No Content"] {
        assert!(answered(status, "", "").await.is_ok(), "{status}");
    }
    for status in ["408 Request Timeout", "429 Too Many Requests", "500 Oh", "502 Bad Gateway", "503 Busy", "504 Late"]
    {
        let error = answered(status, "", "later, please").await.unwrap_err();
        assert!(error.is_retryable() && error.to_string().contains("later, please"), "{status}: {error}");
    }
    for status in ["401 Unauthorized", "403 Forbidden"] {
        let error = answered(status, "", "who?").await.unwrap_err();
        assert!(matches!(&error, ErrandError::SignIn(words) if words.contains("who?")), "{status}: {error}");
    }
    for status in ["400 Bad Request", "404 Not Found", "409 Conflict", "422 Unprocessable Content", "501 No"] {
        let error = answered(status, "", "no such desk").await.unwrap_err();
        assert!(matches!(&error, ErrandError::Refused(words) if words.contains("no such desk")), "{status}: {error}");
    }
}

#[tokio::test]
async fn nobody_is_followed_to_another_address() {
    let elsewhere = Answering::with(http_answer("200 OK", "", "welcome"));
    for status in ["301 Moved Permanently", "302 Found", "307 Temporary Redirect", "308 Permanent Redirect"] {
        let error = answered(status, &format!("location: {}/taken\r\n", elsewhere.url()), "").await.unwrap_err();
        assert!(!error.is_retryable() && error.to_string().contains("which is not followed"), "{error}");
        assert!(error.to_string().contains("/taken"), "a person is told where it would have gone: {error}");
    }
    assert_eq!(elsewhere.more(), 0);
}

#[tokio::test]
async fn of_what_is_said_only_a_readable_beginning_is_kept() {
    let long = format!("<h1>\x1b[31mfull\x07\r\n  stop</h1>{}", "x".repeat(100_000));
    let answer = answered("200 OK", "", &long).await.unwrap();
    assert!(answer.said.starts_with("<h1> [31mfull stop</h1>xxx"), "{}", &answer.said[..40]);
    assert!(answer.said.len() <= 4096);
    let error = answered("500 Oh", "", &long).await.unwrap_err().to_string();
    assert!(error.chars().count() < 400 && !error.contains('\x1b'), "{error}");
    let cut = Answering::with("HTTP/1.1 200 OK\r\ncontent-length: 50\r\n\r\nonly this");
    assert_eq!(call(calling(cut.url())).await.unwrap().said, "only this", "what was done is done");
}

#[tokio::test]
async fn who_is_not_there_or_says_nothing_is_asked_again_later() {
    let port = TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let error = call(calling(format!("http://127.0.0.1:{port}/token/grey-heron"))).await.unwrap_err();
    assert!(error.is_retryable());
    assert!(!error.to_string().contains("grey-heron"), "an address may hold what is nobody's concern: {error}");
    let silent = TcpListener::bind("127.0.0.1:0").unwrap();
    let url = format!("http://{}", silent.local_addr().unwrap());
    let began = Instant::now();
    let error = call(Calling { limit: Duration::from_millis(300), ..calling(url) }).await.unwrap_err();
    assert!(error.is_retryable() && error.to_string().contains("did not answer within 0.3 s"), "{error}");
    assert!(began.elapsed() < Duration::from_secs(4));
    let strange = Answering::with("220 mail.merrow.example ready\r\n");
    assert!(call(calling(strange.url())).await.unwrap_err().is_retryable());
}

#[tokio::test]
async fn no_value_smuggles_a_header_and_no_address_is_made_up() {
    let server = Answering::with(http_answer("200 OK", "", ""));
    for (name, value) in [("X-Name", "a\r\nX-Admin: yes"), ("X-Name\r\nX-Admin", "yes"), ("", "yes")] {
        let headers = vec![(name.to_owned(), value.to_owned())];
        let error = call(Calling { headers, ..calling(server.url()) }).await.unwrap_err();
        assert!(matches!(error, ErrandError::Wrong(_)), "{error:?}");
    }
    for url in ["", "no address", "http://", "/items"] {
        assert!(matches!(call(calling(url.to_owned())).await.unwrap_err(), ErrandError::Wrong(_)), "{url}");
    }
    let method = Calling { method: "GET /x".to_owned(), ..calling(server.url()) };
    assert!(matches!(call(method).await.unwrap_err(), ErrandError::Wrong(_)));
    assert_eq!(server.more(), 0, "nothing of it went out");
}
