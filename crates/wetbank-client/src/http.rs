//! Talking to a service.

use std::time::Duration;

use futures_util::{Stream, StreamExt, stream};
use reqwest::{Method, RequestBuilder, Response, StatusCode, header};
use serde::{Serialize, de::DeserializeOwned};
use wetbank_tls::{Checker, Refusal};

use crate::api::{Problem, SignIn};

/// A request may take so long; testing a place that does not answer takes longest.
const TIME_OUT: Duration = Duration::from_secs(120);

/// Why a call failed.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ClientError {
    /// No service answered.
    #[error("no wetbank service answers at {url}; start one with: wetbank serve --data DIR")]
    Unreachable {
        /// Where.
        url: String,
        /// Why.
        #[source]
        source: reqwest::Error,
    },
    /// What answered shows a certificate that is not trusted.
    #[error(
        "{url} shows the certificate {shown}: {why}. If that is the one that the service told at its start, set          WETBANK_CERTIFICATE to it"
    )]
    Untrusted {
        /// Where.
        url: String,
        /// Its fingerprint.
        shown: String,
        /// Why it is not trusted.
        why: String,
    },
    /// The service said no.
    #[error("{}", .0.detail)]
    Refused(Box<Problem>),
    /// The answer made no sense.
    #[error("the service at {url} gave an answer that is none of wetbank's")]
    Strange {
        /// Where.
        url: String,
        /// Why.
        #[source]
        source: reqwest::Error,
    },
}

/// A client of one service.
#[derive(Clone)]
pub struct Client {
    http: reqwest::Client,
    checker: Checker,
    url: String,
    proof: Proof,
}

/// What a client is let in by.
#[derive(Clone)]
enum Proof {
    Token(String),
    Cookie(String),
}

impl std::fmt::Debug for Client {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Client").field("url", &self.url).finish_non_exhaustive()
    }
}

type Result<T> = std::result::Result<T, ClientError>;

impl Client {
    /// A client of the service at a URL such as `https://files.merrow.example:8270`, whose certificate an authority
    /// vouches for that this machine trusts, or has the fingerprint that is given.
    ///
    /// # Errors
    ///
    /// If this machine cannot speak TLS.
    pub fn new(url: &str, token: &str, trusted: Option<&str>) -> Result<Self> {
        let checker = Checker::new(trusted);
        let built =
            reqwest::Client::builder().tls_backend_preconfigured(checker.config(rustls::DEFAULT_VERSIONS)).build();
        let url = url.trim_end_matches('/').to_owned();
        let http = built.map_err(|source| ClientError::Unreachable { url: url.clone(), source })?;
        Ok(Self { http, checker, url, proof: Proof::Token(token.to_owned()) })
    }

    /// Where the service is.
    pub fn url(&self) -> &str {
        &self.url
    }

    fn request(&self, method: Method, path: &str) -> RequestBuilder {
        let request = self.http.request(method, format!("{}/api/v1{path}", self.url));
        match &self.proof {
            Proof::Token(token) => request.bearer_auth(token),
            Proof::Cookie(cookie) => request.header(header::COOKIE, cookie),
        }
    }

    /// Signs in; answers a client that is.
    ///
    /// # Errors
    ///
    /// If the service refuses, as with every call.
    pub async fn sign_in(&self, how: &SignIn) -> Result<Self> {
        let response = self.send(self.http.post(format!("{}/api/v1/session", self.url)).json(how)).await?;
        let cookie = response.headers().get(header::SET_COOKIE).and_then(|value| value.to_str().ok());
        let pair = cookie.and_then(|cookie| cookie.split(';').next()).unwrap_or_default();
        Ok(Self { proof: Proof::Cookie(pair.to_owned()), ..self.clone() })
    }

    async fn send(&self, request: RequestBuilder) -> Result<Response> {
        let url = self.url.clone();
        let response = request.send().await.map_err(|source| match self.checker.refusal() {
            Some(Refusal { shown, why }) if source.is_connect() => ClientError::Untrusted { url, shown, why },
            _ => ClientError::Unreachable { url, source },
        })?;
        if response.status().is_success() {
            return Ok(response);
        }
        let status = response.status();
        let problem = response.json::<Problem>().await.unwrap_or_else(|_| Problem {
            title: "error".to_owned(),
            status: status.as_u16(),
            detail: format!("the service answered {status}"),
            code: if status == StatusCode::UNAUTHORIZED { "sign-in" } else { "error" }.to_owned(),
            mistakes: Vec::new(),
            current: None,
            wait: None,
        });
        Err(ClientError::Refused(Box::new(problem)))
    }

    async fn read<T: DeserializeOwned>(&self, request: RequestBuilder) -> Result<T> {
        let response = self.send(request.timeout(TIME_OUT)).await?;
        response.json().await.map_err(|source| ClientError::Strange { url: self.url.clone(), source })
    }

    /// Reads something.
    pub async fn get<T: DeserializeOwned>(&self, path: &str, query: &[(&str, String)]) -> Result<T> {
        self.read(self.request(Method::GET, path).query(query)).await
    }

    /// Reads a text.
    pub async fn get_text(&self, path: &str, query: &[(&str, String)]) -> Result<String> {
        let response = self.send(self.request(Method::GET, path).query(query).timeout(TIME_OUT)).await?;
        response.text().await.map_err(|source| ClientError::Strange { url: self.url.clone(), source })
    }

    /// Asks for something to be done.
    pub async fn post<B: Serialize + Sync, T: DeserializeOwned>(&self, path: &str, body: &B) -> Result<T> {
        self.read(self.request(Method::POST, path).json(body)).await
    }

    /// The same for what may take hours.
    pub async fn post_long<B: Serialize + Sync, T: DeserializeOwned>(&self, path: &str, body: &B) -> Result<T> {
        let response = self.send(self.request(Method::POST, path).json(body)).await?;
        response.json().await.map_err(|source| ClientError::Strange { url: self.url.clone(), source })
    }

    /// Asks for something to be done that has no answer.
    pub async fn post_nothing<B: Serialize + Sync>(&self, path: &str, body: &B) -> Result<()> {
        self.send(self.request(Method::POST, path).json(body).timeout(TIME_OUT)).await.map(drop)
    }

    /// Puts something in its place that has no answer.
    pub async fn put_nothing<B: Serialize + Sync>(&self, path: &str, body: &B) -> Result<()> {
        self.send(self.request(Method::PUT, path).json(body).timeout(TIME_OUT)).await.map(drop)
    }

    /// Puts something in its place.
    pub async fn put<B: Serialize + Sync, T: DeserializeOwned>(&self, path: &str, body: &B) -> Result<T> {
        self.read(self.request(Method::PUT, path).json(body)).await
    }

    /// Removes something.
    pub async fn delete(&self, path: &str) -> Result<()> {
        self.send(self.request(Method::DELETE, path).timeout(TIME_OUT)).await.map(drop)
    }

    /// Live events as JSON, until the connection ends.
    pub async fn events(&self) -> Result<impl Stream<Item = serde_json::Value> + Send + Unpin + use<>> {
        let response = self.send(self.request(Method::GET, "/events")).await?;
        let lines = response.bytes_stream().scan(Vec::new(), |rest: &mut Vec<u8>, piece| {
            let mut events = Vec::new();
            if let Ok(piece) = piece {
                rest.extend_from_slice(&piece);
                while let Some(end) = rest.iter().position(|&b| b == b'\n') {
                    let line: Vec<u8> = rest.drain(..=end).collect();
                    if let Some(data) = line.strip_prefix(b"data:") {
                        events.extend(serde_json::from_slice(data).ok());
                    }
                }
            }
            std::future::ready(Some(stream::iter(events)))
        });
        Ok(lines.flatten().boxed())
    }
}

/// One part of an address, with everything escaped that is not a plain character.
pub fn segment(text: &str) -> String {
    text.bytes()
        .map(|byte| match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'_' | b'.' => (byte as char).to_string(),
            other => format!("%{other:02X}"),
        })
        .collect()
}
