//! Files that a web server publishes: read with plain HTTP (RFC 9110), each by its name, because there is no list.
//!
//! What a file's state is, its server tells in `ETag`, `Last-Modified` and `Content-Length`. One that tells the length
//! only does not tell that a file was replaced by one as long.

mod opens;

use std::{collections::BTreeSet, fmt, sync::Arc};

use async_trait::async_trait;
use bytes::Bytes;
use futures_util::{StreamExt, TryStreamExt, stream};
use jiff::{Timestamp, fmt::rfc2822};
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, percent_encode};
use reqwest::{RequestBuilder, Response, StatusCode, header};
use secrecy::{ExposeSecret, SecretString};
use wetbank_core::{Fingerprint, PlaceName, RelPath, WebSpec};

use crate::{
    Capabilities, Collision, Depth, Entry, EntryKind, EntryStream, Place, PlaceError, PlaceErrorKind, ReadStream,
    Staged, fingerprint_of, place::Result, web::WebServer,
};

/// What stands in a path as it is (RFC 3986, section 2.3).
const ENCODED: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');

/// Files that a web server publishes.
#[derive(Clone)]
pub struct Published {
    inner: Arc<Inner>,
}

struct Inner {
    server: WebServer,
    spec: WebSpec,
    password: Option<SecretString>,
}

impl fmt::Debug for Published {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Published").field("name", &self.inner.server.name).field("url", &self.inner.spec.url).finish()
    }
}

impl Published {
    /// The place with this name. The server is reached only when it is used.
    pub fn new(name: PlaceName, spec: WebSpec, password: Option<SecretString>) -> Self {
        let server = WebServer::new(name, &spec.url, spec.certificate.as_deref(), spec.connections, spec.silence);
        Self { inner: Arc::new(Inner { server, spec, password }) }
    }

    fn error(&self, kind: PlaceErrorKind, call: &'static str, path: &RelPath, detail: impl Into<String>) -> PlaceError {
        self.inner.server.error(kind, call, path, detail)
    }

    fn url(&self, path: &RelPath) -> String {
        let parts = path.parts().map(|part| percent_encode(part, ENCODED).to_string());
        parts.fold(self.inner.spec.url.clone(), |url, part| format!("{url}/{part}"))
    }

    /// A request as the server wants it; the file as it is, not compressed for the way.
    fn signed(&self, request: RequestBuilder) -> RequestBuilder {
        let request = request.header(header::ACCEPT_ENCODING, "identity");
        match (&self.inner.spec.sign_in, &self.inner.password) {
            (Some((user, _)), Some(password)) => request.basic_auth(user, Some(password.expose_secret())),
            _ => request,
        }
    }

    /// An answer that says yes.
    fn welcome(&self, call: &'static str, path: &RelPath, answer: Response) -> Result<Response> {
        let status = answer.status();
        if status.is_success() {
            return Ok(answer);
        }
        let kind = match status {
            StatusCode::NOT_FOUND | StatusCode::GONE => PlaceErrorKind::NotFound,
            StatusCode::UNAUTHORIZED => PlaceErrorKind::Refused,
            StatusCode::FORBIDDEN => PlaceErrorKind::Denied,
            StatusCode::TOO_MANY_REQUESTS | StatusCode::SERVICE_UNAVAILABLE => PlaceErrorKind::Busy,
            StatusCode::BAD_GATEWAY | StatusCode::GATEWAY_TIMEOUT => PlaceErrorKind::Unreachable,
            StatusCode::METHOD_NOT_ALLOWED | StatusCode::NOT_IMPLEMENTED => PlaceErrorKind::Unsupported,
            _ => PlaceErrorKind::Other,
        };
        let used = self.inner.spec.sign_in.as_ref().filter(|_| kind == PlaceErrorKind::Refused);
        let to = answer.headers().get(header::LOCATION).and_then(|to| to.to_str().ok());
        let detail = match (used, to) {
            (Some((user, secret)), _) => format!("user \"{user}\", secret \"{secret}\""),
            (_, Some(to)) if status.is_redirection() => {
                format!("the server sends us to {to}; write that address into the book if it is right")
            }
            _ => format!("the server answered {status}"),
        };
        Err(self.error(kind, call, path, detail).with_secret(used.map(|(_, secret)| secret)))
    }

    /// What the server tells of a file without sending it.
    async fn look(&self, call: &'static str, path: &RelPath) -> Result<Fingerprint> {
        let _slot = self.inner.server.slot().await;
        let asked = self.signed(self.inner.server.client.head(self.url(path)));
        let answer = self.inner.server.send(call, path, asked).await?;
        let answer = match answer.status() {
            // Some programs behind a server know no other question; what they begin to send is not awaited.
            StatusCode::METHOD_NOT_ALLOWED | StatusCode::NOT_IMPLEMENTED => {
                let asked = self.signed(self.inner.server.client.get(self.url(path)));
                self.inner.server.send(call, path, asked).await?
            }
            _ => answer,
        };
        let answer = self.welcome(call, path, answer)?;
        self.state(call, path, &answer)
    }

    fn state(&self, call: &'static str, path: &RelPath, answer: &Response) -> Result<Fingerprint> {
        let text = |name| answer.headers().get(name).and_then(|value| value.to_str().ok());
        let Some(size) = text(header::CONTENT_LENGTH).and_then(|size| size.parse().ok()) else {
            let detail = "the server does not tell how long it is, so nobody could tell whether all of it came";
            return Err(self.error(PlaceErrorKind::Unsupported, call, path, detail));
        };
        let time = |text| rfc2822::DateTimeParser::new().parse_timestamp(text).ok();
        let modified = text(header::LAST_MODIFIED).and_then(time);
        let modified = modified.map_or(0, |time: Timestamp| time.as_second().saturating_mul(1_000_000_000));
        let tag = text(header::ETAG).map(|tag| tag.trim_start_matches("W/").trim_matches('"').to_owned());
        Ok(Fingerprint { tag, ..fingerprint_of(size, modified, None) })
    }

    /// Whether files are below a path.
    fn is_folder(&self, path: &RelPath) -> bool {
        path.is_root() || self.inner.spec.files.iter().any(|file| file != path && file.below(path).is_some())
    }

    fn no_file(&self, call: &'static str, path: &RelPath) -> PlaceError {
        self.error(PlaceErrorKind::NotFound, call, path, "the book names no such file of it")
    }

    fn never(&self, call: &'static str, path: &RelPath) -> PlaceError {
        self.error(PlaceErrorKind::Unsupported, call, path, "its files are only read")
    }
}

fn folder(path: RelPath) -> Entry {
    Entry { path, kind: EntryKind::Folder, fingerprint: fingerprint_of(0, 0, None), owner: None }
}

#[async_trait]
impl Place for Published {
    fn name(&self) -> &PlaceName {
        &self.inner.server.name
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities { folders_are_made: false, ..Capabilities::LEAST }
    }

    fn endpoint(&self) -> Option<(String, u16)> {
        self.inner.server.endpoint()
    }

    fn certificate_ends(&self) -> Option<Timestamp> {
        self.inner.server.certificate_ends()
    }

    async fn secure(&self) -> Result<String> {
        self.inner.server.secure().await
    }

    async fn reach(&self) -> Result<String> {
        let secured = self.secure().await?;
        let Some(first) = self.inner.spec.files.first() else { return Ok(secured) };
        // One that is not there yet is no sign that the server is not.
        match self.look("reach", first).await {
            Err(error) if error.kind != PlaceErrorKind::NotFound => Err(error),
            _ => Ok(format!("{secured}; {} files are named", self.inner.spec.files.len())),
        }
    }

    async fn stat(&self, path: &RelPath) -> Result<Entry> {
        if self.inner.spec.files.contains(path) {
            let fingerprint = self.look("look at", path).await?;
            return Ok(Entry { path: path.clone(), kind: EntryKind::File, fingerprint, owner: None });
        }
        if self.is_folder(path) { Ok(folder(path.clone())) } else { Err(self.no_file("look at", path)) }
    }

    fn list(&self, at: &RelPath, depth: Depth) -> EntryStream {
        if !self.is_folder(at) {
            let error = self.error(PlaceErrorKind::NotFound, "list", at, "the book names no file below it");
            return stream::once(async { Err(error) }).boxed();
        }
        let mut folders = BTreeSet::new();
        let mut files = Vec::new();
        for file in &self.inner.spec.files {
            let Some(below) = file.below(at) else { continue };
            let mut here = at.clone();
            let parts: Vec<&[u8]> = below.parts().collect();
            for part in &parts[..parts.len().saturating_sub(1)] {
                here = here.join_name(part).expect("a part of a path");
                folders.insert(here.clone());
                if depth == Depth::One {
                    break;
                }
            }
            if depth == Depth::All || parts.len() == 1 {
                files.push(file.clone());
            }
        }
        let place = self.clone();
        let told = stream::iter(files).map(move |path| {
            let place = place.clone();
            async move {
                match place.look("list", &path).await {
                    Ok(fingerprint) => Ok(Some(Entry { path, kind: EntryKind::File, fingerprint, owner: None })),
                    Err(error) if error.kind == PlaceErrorKind::NotFound => Ok(None),
                    Err(error) => Err(error),
                }
            }
        });
        let told = told.buffer_unordered(self.inner.spec.connections).try_filter_map(|entry| async { Ok(entry) });
        stream::iter(folders.into_iter().map(|path| Ok(folder(path)))).chain(told).boxed()
    }

    async fn read(&self, path: &RelPath, from: u64) -> Result<ReadStream> {
        if !self.inner.spec.files.contains(path) {
            return Err(self.no_file("read", path));
        }
        let slot = self.inner.server.slot().await;
        let mut asked = self.signed(self.inner.server.client.get(self.url(path)));
        if from > 0 {
            asked = asked.header(header::RANGE, format!("bytes={from}-"));
        }
        let answer = self.inner.server.send("read", path, asked).await?;
        if answer.status() == StatusCode::RANGE_NOT_SATISFIABLE {
            return Ok(stream::empty().boxed());
        }
        let answer = self.welcome("read", path, answer)?;
        // A server that knows no ranges sends all of it.
        let mut skipped = if answer.status() == StatusCode::PARTIAL_CONTENT { 0 } else { from };
        // Of an answer whose length is not told nobody would know that it broke off.
        self.state("read", path, &answer)?;
        let (place, at) = (self.clone(), path.clone());
        let chunks = answer.bytes_stream().map(move |chunk| {
            let _ = &slot;
            chunk.map_err(|error| place.inner.server.broken("read", &at, &error))
        });
        let rest = chunks.try_filter_map(move |chunk: Bytes| {
            let drop = usize::try_from(skipped).unwrap_or(usize::MAX).min(chunk.len());
            skipped -= drop as u64;
            let chunk = chunk.slice(drop..);
            async move { Ok((!chunk.is_empty()).then_some(chunk)) }
        });
        Ok(rest.boxed())
    }

    async fn stage(&self, temporary: &RelPath, _: &RelPath, _: Option<u64>) -> Result<Box<dyn Staged>> {
        Err(self.never("write", temporary))
    }

    async fn rename(&self, from: &RelPath, _: &RelPath, _: Collision) -> Result<Option<Fingerprint>> {
        Err(self.never("rename", from))
    }

    async fn delete(&self, path: &RelPath) -> Result<()> {
        Err(self.never("delete", path))
    }

    async fn make_folder(&self, path: &RelPath) -> Result<()> {
        if self.is_folder(path) { Ok(()) } else { Err(self.never("make folder", path)) }
    }

    async fn remove_folder(&self, path: &RelPath) -> Result<()> {
        Err(self.never("remove folder", path))
    }
}
