//! A small object store with the S3 REST API: one bucket, one access key, objects in memory.

mod answers;
mod sign;
mod store;

use std::{
    collections::BTreeMap,
    io,
    net::SocketAddr,
    sync::{
        Arc,
        atomic::{AtomicBool, Ordering},
    },
};

use axum::{
    Router,
    body::{Body, to_bytes},
    extract::{Request, State},
    http::{HeaderMap, Method, StatusCode, header},
    response::Response,
};
use bytes::Bytes;
use tokio::net::TcpListener;
use tokio_util::sync::CancellationToken;

use crate::guests::serve_web;
use answers::{Refusal, empty, listed, xml};
use store::{Object, Store};

/// A request's body is at most so long: what one put may carry here.
const LONGEST_BODY: usize = 1 << 30;

/// How a stand-in is set up.
#[derive(Debug, Clone)]
pub struct BucketStandinOptions {
    /// Where it listens; port 0 takes a free one.
    pub listen: SocketAddr,
    /// The name of its one bucket.
    pub bucket: String,
    /// Who may sign in.
    pub access_key: String,
    /// The secret of that access key.
    pub secret_key: String,
}

/// A running stand-in. Dropping it stops it; its objects are gone then.
#[derive(Debug)]
pub struct BucketStandin {
    address: SocketAddr,
    served: Arc<Served>,
    stop: CancellationToken,
}

#[derive(Debug)]
struct Served {
    options: BucketStandinOptions,
    store: Store,
    is_gone: AtomicBool,
}

impl BucketStandin {
    /// Starts with an empty bucket.
    ///
    /// # Errors
    /// If it cannot listen there.
    pub async fn start(options: BucketStandinOptions) -> io::Result<Self> {
        let listener = TcpListener::bind(options.listen).await?;
        let address = listener.local_addr()?;
        let served = Arc::new(Served { options, store: Store::default(), is_gone: AtomicBool::new(false) });
        let router = Router::new().fallback(answer).with_state(served.clone());
        let stop = CancellationToken::new();
        serve_web(listener, router, stop.clone());
        Ok(Self { address, served, stop })
    }

    /// The address to reach it at, without the bucket's name.
    pub fn url(&self) -> String {
        format!("http://{}", self.address)
    }

    /// The content of an object.
    pub fn object(&self, key: &str) -> Option<Vec<u8>> {
        self.served.store.get(key).map(|object| object.content.concat())
    }

    /// All keys in their order.
    pub fn keys(&self) -> Vec<String> {
        self.served.store.keys()
    }

    /// Uploads in parts that were begun and neither joined nor given up.
    pub fn open_uploads(&self) -> usize {
        self.served.store.open_uploads()
    }

    /// Removes the bucket: from now on there is none of its name.
    pub fn remove_bucket(&self) {
        self.served.is_gone.store(true, Ordering::Relaxed);
    }

    /// Begins an upload in parts and leaves it, as one that was cut short; answers its id.
    pub fn begin_upload(&self, key: &str) -> String {
        self.served.store.begin(key, BTreeMap::new())
    }

    /// Puts an object there, as somebody else would.
    pub fn put(&self, key: &str, content: impl Into<Bytes>) {
        self.served.store.put(key, Object::new(vec![content.into()], BTreeMap::new()));
    }
}

impl Drop for BucketStandin {
    fn drop(&mut self) {
        self.stop.cancel();
    }
}

/// A request, taken apart.
struct Asked {
    method: Method,
    key: String,
    query: BTreeMap<String, String>,
    headers: HeaderMap,
    body: Body,
}

impl Asked {
    fn header(&self, name: &str) -> Option<&str> {
        self.headers.get(name).and_then(|value| value.to_str().ok())
    }

    /// The headers that an object keeps.
    fn kept(&self) -> BTreeMap<String, String> {
        let keeps = |name: &str| name == "content-type" || name.starts_with("x-amz-meta-");
        let text = |value: &axum::http::HeaderValue| value.to_str().unwrap_or_default().to_owned();
        self.headers
            .iter()
            .filter(|(name, _)| keeps(name.as_str()))
            .map(|(name, value)| (name.as_str().to_owned(), text(value)))
            .collect()
    }

    async fn content(self) -> Result<Bytes, Refusal> {
        to_bytes(self.body, LONGEST_BODY).await.map_err(|_| Refusal::new(StatusCode::BAD_REQUEST, "IncompleteBody"))
    }
}

fn decoded(text: &str) -> String {
    percent_encoding::percent_decode_str(text).decode_utf8_lossy().into_owned()
}

async fn answer(State(served): State<Arc<Served>>, request: Request) -> Response {
    match served.answer(request).await {
        Ok(response) => response,
        Err(refusal) => refusal.into(),
    }
}

impl Served {
    async fn answer(&self, request: Request) -> Result<Response, Refusal> {
        let (parts, body) = request.into_parts();
        sign::check(&parts, &self.options.access_key, &self.options.secret_key)?;
        // The bucket's name is the first part of the path, or of the host.
        let host = parts.headers.get(header::HOST).and_then(|host| host.to_str().ok()).unwrap_or_default();
        let path = parts.uri.path().trim_start_matches('/');
        let (bucket, key) = match host.strip_prefix(&format!("{}.", self.options.bucket)) {
            Some(_) => (self.options.bucket.as_str(), path),
            None => path.split_once('/').unwrap_or((path, "")),
        };
        if bucket != self.options.bucket || self.is_gone.load(Ordering::Relaxed) {
            return Err(Refusal::new(StatusCode::NOT_FOUND, "NoSuchBucket"));
        }
        let query = parts.uri.query().unwrap_or_default().split('&').filter(|pair| !pair.is_empty());
        let query = query.map(|pair| pair.split_once('=').unwrap_or((pair, "")));
        let asked = Asked {
            method: parts.method,
            key: decoded(key),
            query: query.map(|(name, value)| (decoded(name), decoded(value))).collect(),
            headers: parts.headers,
            body,
        };
        match (asked.method.as_str(), asked.key.is_empty()) {
            ("GET", true) if asked.query.contains_key("uploads") => {
                let prefix = asked.query.get("prefix").map_or("", String::as_str);
                Ok(answers::begun(&self.store.uploads(prefix)))
            }
            ("GET", true) => self.list(&asked),
            ("HEAD", true) => Ok(empty(StatusCode::OK)),
            ("GET" | "HEAD", false) => self.get(&asked),
            ("PUT", false) if asked.query.contains_key("partNumber") => self.part(asked).await,
            ("PUT", false) if asked.header("x-amz-copy-source").is_some() => self.copy(&asked),
            ("PUT", false) => self.put(asked).await,
            ("POST", false) if asked.query.contains_key("uploads") => {
                let upload = self.store.begin(&asked.key, asked.kept());
                Ok(xml("InitiateMultipartUploadResult", &format!("<UploadId>{upload}</UploadId>")))
            }
            ("POST", false) if asked.query.contains_key("uploadId") => self.join(asked).await,
            ("DELETE", false) => {
                match asked.query.get("uploadId") {
                    Some(upload) => self.store.abort(upload)?,
                    None => self.store.delete(&asked.key, asked.header("if-match"))?,
                }
                Ok(empty(StatusCode::NO_CONTENT))
            }
            _ => Err(Refusal::new(StatusCode::METHOD_NOT_ALLOWED, "MethodNotAllowed")),
        }
    }

    fn list(&self, asked: &Asked) -> Result<Response, Refusal> {
        let text = |name: &str| asked.query.get(name).map(String::as_str);
        let most = text("max-keys").and_then(|most| most.parse().ok()).unwrap_or(1000usize).min(1000);
        let page = self.store.page(text("prefix").unwrap_or(""), text("delimiter"), text("continuation-token"), most);
        Ok(listed(&page))
    }

    fn get(&self, asked: &Asked) -> Result<Response, Refusal> {
        let object = self.store.get(&asked.key).ok_or_else(|| Refusal::new(StatusCode::NOT_FOUND, "NoSuchKey"))?;
        let size = object.size();
        let mut status = StatusCode::OK;
        let (mut begin, mut length) = (0, size);
        if let Some(range) = asked.header("range") {
            let (from, to) =
                bounds(range).ok_or_else(|| Refusal::new(StatusCode::NOT_IMPLEMENTED, "NotImplemented"))?;
            if from >= size || to.is_some_and(|to| to < from) {
                return Err(Refusal::new(StatusCode::RANGE_NOT_SATISFIABLE, "InvalidRange"));
            }
            let end = to.map_or(size, |last| size.min(last.saturating_add(1)));
            (begin, length, status) = (from, end - from, StatusCode::PARTIAL_CONTENT);
        }
        let mut response = Response::builder()
            .status(status)
            .header(header::CONTENT_LENGTH, length)
            .header(header::ETAG, format!("\"{}\"", object.tag))
            .header(header::LAST_MODIFIED, object.modified.strftime("%a, %d %b %Y %H:%M:%S GMT").to_string());
        for (name, value) in &object.headers {
            response = response.header(name, value);
        }
        let content = if asked.method == Method::HEAD { Vec::new() } else { object.part(begin, length) };
        let body = Body::from_stream(futures_util::stream::iter(content.into_iter().map(Ok::<_, io::Error>)));
        Ok(response.body(body).expect("plain headers"))
    }

    fn must_be_free(&self, key: &str, headers: &HeaderMap) -> Result<(), Refusal> {
        if headers.contains_key(header::IF_NONE_MATCH) && self.store.get(key).is_some() {
            return Err(Refusal::new(StatusCode::PRECONDITION_FAILED, "PreconditionFailed"));
        }
        Ok(())
    }

    async fn put(&self, asked: Asked) -> Result<Response, Refusal> {
        let (key, headers, kept) = (asked.key.clone(), asked.headers.clone(), asked.kept());
        let content = asked.content().await?;
        self.must_be_free(&key, &headers)?;
        let tag = self.store.put(&key, Object::new(vec![content], kept));
        Ok(answers::tagged(&tag))
    }

    /// The object that a copy names as its source, if it is still as it says.
    fn source(&self, asked: &Asked) -> Result<Object, Refusal> {
        let from = decoded(asked.header("x-amz-copy-source").unwrap_or_default());
        let key = from.trim_start_matches('/').split_once('/').map_or("", |(_, key)| key);
        let object = self.store.get(key).ok_or_else(|| Refusal::new(StatusCode::NOT_FOUND, "NoSuchKey"))?;
        match asked.header("x-amz-copy-source-if-match") {
            Some(tag) if tag.trim_matches('"') != object.tag => {
                Err(Refusal::new(StatusCode::PRECONDITION_FAILED, "PreconditionFailed"))
            }
            _ => Ok(object),
        }
    }

    fn copy(&self, asked: &Asked) -> Result<Response, Refusal> {
        let mut object = self.source(asked)?;
        if asked.header("x-amz-metadata-directive") == Some("REPLACE") {
            object.headers = asked.kept();
        }
        let tag = self.store.put(&asked.key, Object::new(object.content, object.headers));
        Ok(xml("CopyObjectResult", &format!("<ETag>&quot;{tag}&quot;</ETag>")))
    }

    async fn part(&self, asked: Asked) -> Result<Response, Refusal> {
        let text = |name: &str| asked.query.get(name).cloned().unwrap_or_default();
        let (number, upload) = (text("partNumber").parse().unwrap_or(0), text("uploadId"));
        let content = asked.content().await?;
        let tag = self.store.part(&upload, number, content)?;
        Ok(answers::tagged(&tag))
    }

    async fn join(&self, asked: Asked) -> Result<Response, Refusal> {
        let (key, headers) = (asked.key.clone(), asked.headers.clone());
        let upload = asked.query.get("uploadId").cloned().unwrap_or_default();
        let text = asked.content().await?;
        self.must_be_free(&key, &headers)?;
        let tag = self.store.join(&key, &upload, &String::from_utf8_lossy(&text))?;
        Ok(xml("CompleteMultipartUploadResult", &format!("<ETag>&quot;{tag}&quot;</ETag>")))
    }
}

/// The first and the last byte that a range asks for (RFC 9110, section 14.1.2); nothing for a
/// range that counts from the end, or for several.
fn bounds(range: &str) -> Option<(u64, Option<u64>)> {
    let (from, to) = range.strip_prefix("bytes=")?.split_once('-')?;
    Some((from.parse().ok()?, if to.is_empty() { None } else { Some(to.parse().ok()?) }))
}
