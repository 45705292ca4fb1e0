//! Calling a web address.

use std::time::Duration;

use futures_util::{StreamExt, stream::BoxStream};
use reqwest::{Client, Method, StatusCode, header, redirect};
use secrecy::{ExposeSecret, SecretString};

use crate::ErrandError;

/// Bytes of an answer that are kept.
const KEPT: usize = 4 << 10;

/// A call to be made.
pub struct Calling {
    /// The address.
    pub url: String,
    /// The method, in capitals.
    pub method: String,
    /// Headers.
    pub headers: Vec<(String, String)>,
    /// A bearer token (RFC 6750).
    pub token: Option<SecretString>,
    /// What tells a second call from a first: the same at every attempt (`Idempotency-Key`).
    pub key: String,
    /// What is sent.
    pub content: Content,
    /// How long all of it may take.
    pub limit: Duration,
}

/// What a call sends.
pub enum Content {
    /// Nothing.
    Empty,
    /// A text of this media type.
    Text(&'static str, String),
    /// A file: its size and its content.
    File(u64, BoxStream<'static, std::io::Result<bytes::Bytes>>),
}

/// What was answered.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Answer {
    /// The status (RFC 9110, section 15).
    pub status: u16,
    /// The beginning of what it said.
    pub said: String,
}

/// Makes a call. Redirections are not followed: what was to go to one address goes to no other.
///
/// # Errors
///
/// `Away` if nobody answers or asks for patience, `SignIn` if the token is refused, `Refused` for every
/// other answer that is no success.
pub async fn call(calling: Calling) -> Result<Answer, ErrandError> {
    let Calling { url, method, headers, token, key, content, limit } = calling;
    let client = Client::builder()
        .redirect(redirect::Policy::none())
        .timeout(limit)
        .user_agent("wetbank")
        .build()
        .map_err(|error| ErrandError::Refused(error.to_string()))?;
    let method = Method::from_bytes(method.as_bytes()).map_err(|error| ErrandError::Wrong(error.to_string()))?;
    let mut request = client.request(method, &url).header("Idempotency-Key", key);
    for (name, value) in headers {
        request = request.header(name, value);
    }
    if let Some(token) = token {
        request = request.bearer_auth(token.expose_secret());
    }
    request = match content {
        Content::Empty => request,
        Content::Text(media, text) => request.header(header::CONTENT_TYPE, media).body(text),
        Content::File(size, chunks) => request
            .header(header::CONTENT_TYPE, "application/octet-stream")
            .header(header::CONTENT_LENGTH, size)
            .body(reqwest::Body::wrap_stream(chunks)),
    };
    let response = request.send().await.map_err(|error| failed(&error, limit))?;
    let (status, location) = (response.status(), response.headers().get(header::LOCATION).cloned());
    let mut said = Vec::new();
    let mut chunks = response.bytes_stream();
    while let Some(chunk) = chunks.next().await {
        let Ok(chunk) = chunk else { break };
        said.extend_from_slice(&chunk[..chunk.len().min(KEPT - said.len())]);
        if said.len() >= KEPT {
            break;
        }
    }
    let said: String = String::from_utf8_lossy(&said)
        .chars()
        .map(|letter| if letter.is_control() { ' ' } else { letter })
        .collect::<String>()
        .split_whitespace()
        .collect::<Vec<_>>()
        .join(" ");
    judge(status, location.as_ref().and_then(|to| to.to_str().ok()), said)
}

fn judge(status: StatusCode, location: Option<&str>, said: String) -> Result<Answer, ErrandError> {
    let short: String = said.chars().take(300).collect();
    let told =
        if short.is_empty() { format!("it answered {status}") } else { format!("it answered {status}: {short}") };
    match status.as_u16() {
        200..=299 => Ok(Answer { status: status.as_u16(), said }),
        300..=399 => {
            let to = location.unwrap_or("somewhere else");
            Err(ErrandError::Refused(format!("{told}, and sends us to {to}, which is not followed")))
        }
        401 | 403 | 407 => Err(ErrandError::SignIn(told)),
        408 | 425 | 429 | 500 | 502..=504 => Err(ErrandError::Away(told)),
        _ => Err(ErrandError::Refused(told)),
    }
}

/// A failure in words without the address, which may hold what is nobody's concern.
fn failed(error: &reqwest::Error, limit: Duration) -> ErrandError {
    let mut cause: &dyn std::error::Error = error;
    while let Some(source) = cause.source() {
        cause = source;
    }
    let words = cause.to_string();
    if error.is_timeout() {
        return ErrandError::Away(format!("it did not answer within {} s", limit.as_secs_f32()));
    }
    if error.is_builder() {
        return ErrandError::Wrong(words);
    }
    ErrandError::Away(words)
}
