//! A folder on a web server (WebDAV, RFC 4918).

mod changes;
mod opens;
mod propfind;
mod upload;

use std::{fmt, io, sync::Arc};

use async_trait::async_trait;
use futures_util::{FutureExt, StreamExt, TryStreamExt, stream};
use jiff::Timestamp;
use percent_encoding::{AsciiSet, NON_ALPHANUMERIC, percent_decode_str, percent_encode};
use reqwest::{Method, RequestBuilder, Response, StatusCode, header};
use secrecy::{ExposeSecret, SecretString};
use tokio::sync::OwnedSemaphorePermit;
use tokio_util::io::StreamReader;
use wetbank_core::{AgreedSpec, Fingerprint, PlaceName, RelPath, WebSignIn, WebdavSpec};

use crate::{
    Capabilities, ChangeStream, Collision, Depth, Entry, EntryKind, EntryStream, Place, PlaceError, PlaceErrorKind,
    ReadStream, Staged,
    agreement::{Access, GrantKeeper},
    bounded::Markup,
    place::{Result, list_each, make_each},
    web::WebServer,
};
use propfind::{ASKED, Responses, Told, Unreadable};
use upload::Upload;

/// What stays as it is in a path's part (RFC 3986, section 2.3); every other byte is encoded.
const ENCODED: &AsciiSet = &NON_ALPHANUMERIC.remove(b'-').remove(b'.').remove(b'_').remove(b'~');

/// A folder tree on a WebDAV server. Clones share their connections.
#[derive(Clone)]
pub struct Webdav {
    inner: Arc<Inner>,
}

/// What opens the server.
enum Pass {
    Open,
    Password(SecretString),
    Access(Box<Access>),
}

struct Inner {
    server: WebServer,
    spec: WebdavSpec,
    pass: Pass,
    /// The path of the root, encoded, without a slash at its end.
    root: String,
}

impl fmt::Debug for Webdav {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Webdav").field("name", &self.inner.server.name).field("url", &self.inner.spec.url).finish()
    }
}

impl Webdav {
    /// The place with this name. The server is reached only when it is used.
    pub fn new(name: PlaceName, spec: WebdavSpec, password: Option<SecretString>) -> Self {
        Self::with(name, spec, password.map_or(Pass::Open, Pass::Password))
    }

    /// A place that somebody agrees to with an authorization server.
    pub fn agreed(
        name: PlaceName,
        spec: WebdavSpec,
        agreed: AgreedSpec,
        client_secret: Option<SecretString>,
        keeper: Arc<dyn GrantKeeper>,
    ) -> Self {
        let access = Access::new(name.clone(), agreed, client_secret, keeper);
        Self::with(name, spec, Pass::Access(Box::new(access)))
    }

    fn with(name: PlaceName, spec: WebdavSpec, pass: Pass) -> Self {
        let server = WebServer::new(name, &spec.url, spec.certificate.as_deref(), spec.connections, spec.silence);
        let root = spec.url.split_once("://").and_then(|(_, rest)| rest.split_once('/')).map_or("", |(_, path)| path);
        let root: String = root.split('/').filter(|p| !p.is_empty()).fold(String::new(), |path, part| {
            let plain: Vec<u8> = percent_decode_str(part).collect();
            format!("{path}/{}", percent_encode(&plain, ENCODED))
        });
        Self { inner: Arc::new(Inner { server, spec, pass, root }) }
    }

    fn url(&self, path: &RelPath) -> String {
        let mut url = format!("{}{}", self.inner.server.origin(), self.inner.root);
        for part in path.parts() {
            url.push('/');
            url.extend(percent_encode(part, ENCODED));
        }
        if path.is_root() {
            url.push('/');
        }
        url
    }

    /// The address of a folder: with a slash at its end (RFC 4918, section 5.2), without which some servers
    /// know no folder.
    fn folder_url(&self, path: &RelPath) -> String {
        let mut url = self.url(path);
        if !url.ends_with('/') {
            url.push('/');
        }
        url
    }

    /// Whether an answer sends us to the same address with a slash at its end, and nowhere else: what we asked
    /// about is a folder.
    fn asks_for_slash(&self, path: &RelPath, answer: &Response) -> bool {
        let to = answer.headers().get(header::LOCATION).filter(|_| answer.status().is_redirection());
        let to = to.and_then(|to| to.to_str().ok()).unwrap_or_default();
        to.ends_with('/') && self.path_of(path, to).is_some_and(|to| to == *path)
    }

    fn error(&self, kind: PlaceErrorKind, call: &'static str, path: &RelPath, detail: impl Into<String>) -> PlaceError {
        self.inner.server.error(kind, call, path, detail)
    }

    /// An answer that says no (RFC 9110, section 15; RFC 4918, section 11).
    fn refused(&self, call: &'static str, path: &RelPath, response: &Response) -> PlaceError {
        let status = response.status();
        let kind = match status {
            StatusCode::NOT_FOUND | StatusCode::CONFLICT | StatusCode::GONE => PlaceErrorKind::NotFound,
            StatusCode::UNAUTHORIZED | StatusCode::PROXY_AUTHENTICATION_REQUIRED => PlaceErrorKind::Refused,
            StatusCode::FORBIDDEN => PlaceErrorKind::Denied,
            StatusCode::PRECONDITION_FAILED => PlaceErrorKind::Exists,
            StatusCode::INSUFFICIENT_STORAGE | StatusCode::PAYLOAD_TOO_LARGE => PlaceErrorKind::NoSpace,
            StatusCode::LOCKED | StatusCode::TOO_MANY_REQUESTS | StatusCode::SERVICE_UNAVAILABLE => {
                PlaceErrorKind::Busy
            }
            StatusCode::BAD_GATEWAY | StatusCode::GATEWAY_TIMEOUT => PlaceErrorKind::Unreachable,
            StatusCode::URI_TOO_LONG => PlaceErrorKind::BadName,
            StatusCode::METHOD_NOT_ALLOWED | StatusCode::NOT_IMPLEMENTED => PlaceErrorKind::Unsupported,
            _ => PlaceErrorKind::Other,
        };
        // What cannot be found is not there; what cannot be made has a name that is too long.
        let makes = !matches!(call, "look at" | "reach" | "list" | "read" | "delete");
        let long = path.name().len() > 255
            && (matches!(kind, PlaceErrorKind::Denied | PlaceErrorKind::Other)
                || (makes && kind == PlaceErrorKind::NotFound));
        // Not every server takes every name.
        let odd = status == StatusCode::BAD_REQUEST && is_odd(path);
        let kind = if long || odd { PlaceErrorKind::BadName } else { kind };
        let mut detail = format!("the server answered {status}");
        let mut used = None;
        if let (PlaceErrorKind::Refused, WebSignIn::Password(user, secret)) = (kind, &self.inner.spec.sign_in) {
            detail = format!("user \"{user}\", secret \"{secret}\"");
            used = Some(secret);
        }
        if status.is_redirection() {
            let to = response.headers().get(header::LOCATION).and_then(|to| to.to_str().ok()).unwrap_or("elsewhere");
            detail = format!("the server sends us to {to}; write that address into the book if it is right");
        }
        self.error(kind, call, path, detail).with_secret(used).in_root(&self.inner.spec.url)
    }

    async fn request(&self, method: Method, url: String) -> Result<RequestBuilder> {
        self.signed(self.inner.server.client.request(method, url)).await
    }

    /// A request that may take long.
    async fn patient_request(&self, method: Method, path: &RelPath) -> Result<RequestBuilder> {
        self.signed(self.inner.server.patient.request(method, self.url(path))).await
    }

    async fn signed(&self, request: RequestBuilder) -> Result<RequestBuilder> {
        Ok(match (&self.inner.pass, &self.inner.spec.sign_in) {
            (Pass::Password(password), WebSignIn::Password(user, _)) => {
                request.basic_auth(user, Some(password.expose_secret()))
            }
            (Pass::Access(access), _) => request.bearer_auth(access.bearer().await?.expose_secret()),
            _ => request,
        })
    }

    async fn slot(&self) -> OwnedSemaphorePermit {
        self.inner.server.slot().await
    }

    /// Sends a request and answers what comes back, if it says yes.
    async fn send(&self, call: &'static str, path: &RelPath, request: RequestBuilder) -> Result<Response> {
        let response = self.inner.server.send(call, path, request).await?;
        self.welcome(call, path, response).await
    }

    /// An answer that says yes.
    async fn welcome(&self, call: &'static str, path: &RelPath, response: Response) -> Result<Response> {
        if response.status().is_success() {
            return Ok(response);
        }
        if let (StatusCode::UNAUTHORIZED, Pass::Access(access)) = (response.status(), &self.inner.pass) {
            // Access may end before its time; whether the agreement is over, renewing it tells.
            access.forget().await;
            let detail = "the server did not take the access it gave; it is asked for a new one";
            return Err(self.error(PlaceErrorKind::Interrupted, call, path, detail));
        }
        Err(self.refused(call, path, &response))
    }

    /// Asks about an address, and with depth 1 about what lies in it.
    async fn ask(&self, call: &'static str, path: &RelPath, url: String, depth: &'static str) -> Result<Response> {
        let method = Method::from_bytes(b"PROPFIND").expect("a plain word");
        let request = self.request(method, url).await?.header("depth", depth);
        let request = request.header(header::CONTENT_TYPE, "application/xml");
        self.inner.server.send(call, path, request.body(ASKED)).await
    }

    /// What was asked about.
    async fn found(&self, call: &'static str, path: &RelPath, response: Response) -> Result<Response> {
        let response = self.welcome(call, path, response).await?;
        if response.status() != StatusCode::MULTI_STATUS {
            let detail =
                format!("it answered {} where a folder's entries were asked; is this WebDAV?", response.status());
            return Err(self.error(PlaceErrorKind::Unsupported, call, path, detail));
        }
        Ok(response)
    }

    fn unreadable(&self, call: &'static str, path: &RelPath, error: &Unreadable) -> PlaceError {
        let kind = match error {
            Unreadable::Broken(_) | Unreadable::BreaksOff => PlaceErrorKind::Interrupted,
            _ => PlaceErrorKind::Other,
        };
        self.error(kind, call, path, error.to_string())
    }

    /// The path that an address in a listing means, if it lies in the folder that was listed.
    /// A server that names anything else lies, or means another place: it is never followed.
    fn path_of(&self, folder: &RelPath, href: &str) -> Option<RelPath> {
        self.path_below(folder, href, false)
    }

    /// The same for a listing that goes deep, if it does.
    fn path_below(&self, folder: &RelPath, href: &str, deep: bool) -> Option<RelPath> {
        let path = match href.find("://") {
            Some(at) => href[at + 3..].find('/').map_or("/", |slash| &href[at + 3 + slash..]),
            None => href,
        };
        let plain = |text: &str| -> Vec<Vec<u8>> {
            text.split('/').filter(|part| !part.is_empty()).map(|part| percent_decode_str(part).collect()).collect()
        };
        let mut expected = plain(&self.inner.root);
        expected.extend(folder.parts().map(<[u8]>::to_vec));
        let parts = plain(path);
        let rest = parts.strip_prefix(expected.as_slice())?;
        match rest {
            [] => Some(folder.clone()),
            [name] => folder.join_name(name).ok(),
            names if deep => names.iter().try_fold(folder.clone(), |path, name| path.join_name(name)).ok(),
            _ => None,
        }
    }

    async fn list_one(
        &self,
        folder: RelPath,
    ) -> Result<impl futures_util::Stream<Item = Result<Entry>> + Send + use<>> {
        let slot = self.slot().await;
        let answer = self.ask("list", &folder, self.folder_url(&folder), "1").await?;
        let response = self.found("list", &folder, answer).await?;
        let body = Markup::of(StreamReader::new(Box::pin(response.bytes_stream().map_err(io::Error::other))));
        let state = (self.clone(), folder, Responses::new(body), true, slot);
        Ok(stream::try_unfold(state, |(place, folder, mut responses, mut is_first, slot)| async move {
            loop {
                let told = responses.next().await.map_err(|e| place.unreadable("list", &folder, &e))?;
                let Some(told) = told else { return Ok(None) };
                let path = place.path_of(&folder, &told.href);
                if is_first && path.as_ref() == Some(&folder) && told.kind == EntryKind::File {
                    let detail = "it is a file, no folder";
                    return Err(place.error(PlaceErrorKind::NotFound, "list", &folder, detail));
                }
                is_first = false;
                // The folder itself is told, too.
                if let Some(path) = path.filter(|path| *path != folder) {
                    let entry = told.at(path);
                    return Ok(Some((entry, (place, folder, responses, is_first, slot))));
                }
            }
        }))
    }

    async fn look(&self, call: &'static str, path: &RelPath) -> Result<Told> {
        let _slot = self.slot().await;
        let mut answer = self.ask(call, path, self.url(path), "0").await?;
        if self.asks_for_slash(path, &answer) {
            answer = self.ask(call, path, self.folder_url(path), "0").await?;
        }
        let response = self.found(call, path, answer).await?;
        let body = Markup::of(StreamReader::new(Box::pin(response.bytes_stream().map_err(io::Error::other))));
        match Responses::new(body).next().await {
            Ok(Some(told)) => Ok(told),
            Ok(None) => Err(self.error(PlaceErrorKind::NotFound, call, path, "the server told nothing about it")),
            Err(error) => Err(self.unreadable(call, path, &error)),
        }
    }

    async fn must_be_file(&self, call: &'static str, path: &RelPath) -> Result<()> {
        match self.look(call, path).await?.kind {
            EntryKind::File => Ok(()),
            _ => Err(self.error(PlaceErrorKind::Unsupported, call, path, "it is no regular file")),
        }
    }
}

/// Whether a name has something that some servers refuse in an address, however it is written.
fn is_odd(path: &RelPath) -> bool {
    path.name().iter().any(u8::is_ascii_control) || std::str::from_utf8(path.name()).is_err()
}

#[async_trait]
impl Place for Webdav {
    fn name(&self) -> &PlaceName {
        &self.inner.server.name
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities::LEAST
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
        let root = RelPath::root();
        if self.look("reach", &root).await?.kind != EntryKind::Folder {
            let detail = format!("{} is no folder on the server", self.inner.spec.url);
            return Err(self.error(PlaceErrorKind::NotFound, "reach", &root, detail));
        }
        Ok(match &self.inner.spec.sign_in {
            WebSignIn::Password(user, _) => format!("signed in as {user}"),
            WebSignIn::Agreed(agreed) => format!("signed in as agreed at {}", agreed.server),
            WebSignIn::Open => "reached without signing in".to_owned(),
        })
    }

    async fn stat(&self, path: &RelPath) -> Result<Entry> {
        let told = self.look("look at", path).await?;
        Ok(told.at(path.clone()))
    }

    fn list(&self, folder: &RelPath, depth: Depth) -> EntryStream {
        let place = self.clone();
        list_each(folder, depth, move |folder| {
            let place = place.clone();
            async move { Ok(place.list_one(folder).await?.boxed()) }.boxed()
        })
    }

    fn changes(&self, folder: &RelPath, depth: Depth, since: Option<String>) -> Option<ChangeStream> {
        Some(changes::told(self.clone(), folder.clone(), depth, since))
    }

    async fn read(&self, path: &RelPath, from: u64) -> Result<ReadStream> {
        self.must_be_file("read", path).await?;
        let slot = self.slot().await;
        let mut request = self.request(Method::GET, self.url(path)).await?.header(header::ACCEPT_ENCODING, "identity");
        if from > 0 {
            request = request.header(header::RANGE, format!("bytes={from}-"));
        }
        let response = match self.inner.server.send("read", path, request).await? {
            // Nothing lies behind the end.
            past if past.status() == StatusCode::RANGE_NOT_SATISFIABLE => return Ok(stream::empty().boxed()),
            response if response.status().is_success() => response,
            response => self.welcome("read", path, response).await?,
        };
        // A server may ignore the range and begin at the beginning.
        let mut skip = if response.status() == StatusCode::PARTIAL_CONTENT { 0 } else { from };
        let (place, path) = (self.clone(), path.clone());
        Ok(response
            .bytes_stream()
            .map(move |chunk| {
                // The slot is taken as long as the stream lives.
                let _slot = &slot;
                let mut chunk = chunk.map_err(|e| place.inner.server.broken("read", &path, &e))?;
                let skipped = usize::try_from(skip).unwrap_or(usize::MAX).min(chunk.len());
                skip -= skipped as u64;
                Ok(chunk.split_off(skipped))
            })
            .try_filter(|chunk| std::future::ready(!chunk.is_empty()))
            .boxed())
    }

    async fn stage(&self, temporary: &RelPath, target: &RelPath, resume: Option<u64>) -> Result<Box<dyn Staged>> {
        if resume.is_some() {
            return Err(self.error(PlaceErrorKind::Unsupported, "write", temporary, "a broken upload begins anew"));
        }
        let parent = temporary.parent();
        if !parent.is_root() && self.look("write", &parent).await?.kind != EntryKind::Folder {
            return Err(self.error(PlaceErrorKind::NotFound, "write", temporary, "its folder is no folder"));
        }
        if is_odd(target) {
            // A server that could not be asked for it afterwards says so before anything is sent.
            match self.look("write", target).await {
                Err(error) if error.kind == PlaceErrorKind::BadName => return Err(error),
                _ => {}
            }
        }
        let slot = self.slot().await;
        Ok(Box::new(Upload::start(self.clone(), temporary.clone(), slot).await?))
    }

    async fn rename(&self, from: &RelPath, to: &RelPath, collision: Collision) -> Result<Option<Fingerprint>> {
        self.must_be_file("rename", from).await?;
        let _slot = self.slot().await;
        let method = Method::from_bytes(b"MOVE").expect("a plain word");
        let overwrite = if collision == Collision::Replace { "T" } else { "F" };
        let request = self.patient_request(method, from).await?.header("destination", self.url(to));
        let request = request.header("overwrite", overwrite);
        // A server may copy the whole file to move it.
        let response = self.inner.server.send_slow("rename to", to, request).await?;
        self.welcome("rename to", to, response).await.map(|_| None)
    }

    async fn delete(&self, path: &RelPath) -> Result<()> {
        self.must_be_file("delete", path).await?;
        let _slot = self.slot().await;
        self.send("delete", path, self.request(Method::DELETE, self.url(path)).await?).await.map(drop)
    }

    async fn make_folder(&self, path: &RelPath) -> Result<()> {
        make_each(self, path, |at| {
            async move {
                let _slot = self.slot().await;
                let method = Method::from_bytes(b"MKCOL").expect("a plain word");
                self.send("make folder", &at, self.request(method, self.folder_url(&at)).await?).await.map(drop)
            }
            .boxed()
        })
        .await
    }

    /// The protocol removes a folder with all that is in it (RFC 4918, section 9.6.1): it is looked at first.
    async fn remove_folder(&self, path: &RelPath) -> Result<()> {
        let call = "remove folder";
        if self.look(call, path).await?.kind != EntryKind::Folder {
            return Err(self.error(PlaceErrorKind::Unsupported, call, path, "it is no folder"));
        }
        if self.list(path, Depth::One).next().await.transpose()?.is_some() {
            return Err(self.error(PlaceErrorKind::Exists, call, path, "something lies in it"));
        }
        let _slot = self.slot().await;
        self.send(call, path, self.request(Method::DELETE, self.folder_url(path)).await?).await.map(drop)
    }
}
