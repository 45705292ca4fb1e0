//! The requests we make, and what the store answers.

use std::time::Duration;

use bytes::Bytes;
use jiff::{Timestamp, fmt::rfc2822};
use percent_encoding::percent_decode_str;
use reqwest::{Method, RequestBuilder, Response, StatusCode, header};
use rusty_s3::{
    S3Action,
    actions::{CompleteMultipartUpload, CreateMultipartUpload, ListObjectsV2, ListObjectsV2Response},
};
use serde::{Deserialize, Serialize};
use wetbank_core::{Fingerprint, RelPath, TEMPORARY_PREFIX};

use super::{
    Bucket, markup,
    upload::{Held, Pending},
};
use crate::{Collision, PlaceError, PlaceErrorKind, place::Result};

/// A signed request is good for so long; clocks may differ by as much.
const SIGNED_FOR: Duration = Duration::from_secs(15 * 60);
/// An answer in XML is at most so long: a page of a thousand keys, every byte of them encoded.
const LONGEST_ANSWER: usize = 8 << 20;
/// The header of our mark.
const MARK: &str = "x-amz-meta-wetbank-mark";
/// A larger object is copied part by part, as the protocol says.
const COPIED_WHOLE: u64 = 5 << 30;
/// Bytes of one such part.
const COPIED_PART: u64 = 1 << 30;

/// An object as the store tells it.
#[derive(Debug, Clone)]
pub(super) struct Found {
    pub fingerprint: Fingerprint,
    /// Our mark, if we wrote it.
    pub mark: Option<String>,
    /// Its other headers that a copy keeps.
    kept: Vec<(String, String)>,
}

/// What lies under a temporary name while a large file is uploaded: which upload it is. With it
/// the parts can be removed after a stop.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(super) struct NoteAside {
    pub target: RelPath,
    /// Nothing until the store said how it calls the upload.
    pub upload: Option<String>,
}

fn header_text(response: &Response, name: &str) -> Option<String> {
    response.headers().get(name).and_then(|value| value.to_str().ok()).map(str::to_owned)
}

/// A version tag without its quotes, which not every answer has.
pub(super) fn tag(text: &str) -> String {
    text.trim_matches('"').to_owned()
}

/// A time in whole seconds: a store tells a listing's time finer than that of one object.
pub(super) fn whole_seconds(time: Option<Timestamp>) -> i64 {
    time.map_or(0, |time| time.as_second().saturating_mul(1_000_000_000))
}

impl Bucket {
    /// A signed request with these headers, of which those that begin with `x-amz-` are signed,
    /// too.
    pub(super) fn request_for<'a>(
        &'a self,
        action: &(impl S3Action<'a> + Clone),
        headers: &[(&'static str, String)],
    ) -> RequestBuilder {
        self.request_of(&self.inner.server.client, action, headers)
    }

    /// The same for a request that may take long.
    fn patient_request<'a>(
        &'a self,
        action: &(impl S3Action<'a> + Clone),
        headers: &[(&'static str, String)],
    ) -> RequestBuilder {
        self.request_of(&self.inner.server.patient, action, headers)
    }

    fn request_of<'a>(
        &'a self,
        client: &reqwest::Client,
        action: &(impl S3Action<'a> + Clone),
        headers: &[(&'static str, String)],
    ) -> RequestBuilder {
        let mut action = action.clone();
        for (name, value) in headers.iter().filter(|(name, _)| name.starts_with("x-amz-")) {
            action.headers_mut().insert(*name, value.clone());
        }
        let method = Method::from_bytes(method_of(&action).as_bytes()).expect("a plain word");
        let mut request = client.request(method, action.sign(SIGNED_FOR));
        for (name, value) in headers {
            request = request.header(*name, value);
        }
        request
    }

    /// Sends a request and answers what comes back, if it says yes.
    async fn send(&self, call: &'static str, path: &RelPath, request: RequestBuilder) -> Result<Response> {
        let _slot = self.inner.server.slot().await;
        let response = self.inner.server.send(call, path, request).await?;
        self.welcome(call, path, response).await
    }

    /// An answer that says yes.
    async fn welcome(&self, call: &'static str, path: &RelPath, response: Response) -> Result<Response> {
        if response.status().is_success() { Ok(response) } else { Err(self.refusal(call, path, response).await) }
    }

    /// Sends a request with a body of this length that comes in chunks.
    async fn send_body(
        &self,
        call: &'static str,
        path: &RelPath,
        request: RequestBuilder,
        size: u64,
        chunks: Vec<Bytes>,
    ) -> Result<Response> {
        let _slot = self.inner.server.slot().await;
        let body = futures_util::stream::iter(chunks.into_iter().map(Ok));
        let request = request.header(header::CONTENT_LENGTH, size);
        let response = self.inner.server.send_body(call, path, request, body).await?;
        self.welcome(call, path, response).await
    }

    /// Sends a request on which the store works a while, and whose answer may say yes first and no
    /// in its text.
    async fn send_long(&self, call: &'static str, path: &RelPath, request: RequestBuilder) -> Result<String> {
        let _slot = self.inner.server.slot().await;
        let answer = self.inner.server.send_slow(call, path, request).await?;
        let answer = self.welcome(call, path, answer).await?;
        let text = self.inner.server.text(call, path, answer, LONGEST_ANSWER).await?;
        if !markup::first(&text, "Error").is_empty() {
            return Err(self.explain(call, path, StatusCode::OK, &text));
        }
        Ok(text)
    }

    /// An answer that says no.
    pub(super) async fn refusal(&self, call: &'static str, path: &RelPath, response: Response) -> PlaceError {
        let status = response.status();
        match self.inner.server.text(call, path, response, LONGEST_ANSWER).await {
            Ok(text) => self.explain(call, path, status, &text),
            Err(error) => error,
        }
    }

    fn explain(&self, call: &'static str, path: &RelPath, status: StatusCode, text: &str) -> PlaceError {
        let said = markup::first(text, "Error");
        let word = |key: &str| said.get(key).map_or("", String::as_str);
        let code = word("Code");
        let kind = match (code, status) {
            ("NoSuchBucket" | "NoSuchKey" | "NoSuchUpload", _) => PlaceErrorKind::NotFound,
            (
                "InvalidAccessKeyId"
                | "SignatureDoesNotMatch"
                | "InvalidClientTokenId"
                | "ExpiredToken"
                | "InvalidToken",
                _,
            ) => PlaceErrorKind::Refused,
            ("AccessDenied" | "AllAccessDisabled", _) => PlaceErrorKind::Denied,
            ("PreconditionFailed" | "ConditionalRequestConflict", _) => PlaceErrorKind::Exists,
            ("KeyTooLongError" | "InvalidURI" | "InvalidObjectName", _) => PlaceErrorKind::BadName,
            ("QuotaExceeded" | "InsufficientStorage" | "StorageFull", _) => PlaceErrorKind::NoSpace,
            ("SlowDown" | "ServiceUnavailable" | "RequestTimeout" | "InternalError", _) => PlaceErrorKind::Busy,
            (_, StatusCode::NOT_FOUND) => PlaceErrorKind::NotFound,
            (_, StatusCode::UNAUTHORIZED) => PlaceErrorKind::Refused,
            (_, StatusCode::FORBIDDEN) => PlaceErrorKind::Denied,
            (_, StatusCode::PRECONDITION_FAILED | StatusCode::CONFLICT) => PlaceErrorKind::Exists,
            (_, StatusCode::INSUFFICIENT_STORAGE) => PlaceErrorKind::NoSpace,
            (_, StatusCode::TOO_MANY_REQUESTS | StatusCode::SERVICE_UNAVAILABLE) => PlaceErrorKind::Busy,
            (_, StatusCode::NOT_IMPLEMENTED | StatusCode::METHOD_NOT_ALLOWED) => PlaceErrorKind::Unsupported,
            _ => PlaceErrorKind::Other,
        };
        let words: String = word("Message").chars().filter(|c| !c.is_control()).take(200).collect();
        let spec = &self.inner.spec;
        let detail = match (code, kind) {
            ("NoSuchBucket", _) => format!("there is no bucket \"{}\" at {}", spec.bucket, spec.url),
            ("RequestTimeTooSkewed", _) => "this machine's clock differs from the store's; set it right".to_owned(),
            (_, PlaceErrorKind::Refused) => match &spec.sign_in {
                Some((access, secret)) => format!("access key \"{access}\", secret \"{secret}\""),
                None => "it asks for an access key".to_owned(),
            },
            ("", _) => format!("the store answered {status}"),
            _ => format!("{code}: {words}"),
        };
        if status.is_redirection() || code == "AuthorizationHeaderMalformed" || code == "PermanentRedirect" {
            let region = said.get("Region").or(said.get("Endpoint"));
            let detail = match region {
                Some(region) => format!("the bucket is in another region or at another address: {region}"),
                None => format!("the bucket is not in the region {}", spec.region),
            };
            return self.error(PlaceErrorKind::Other, call, path, detail);
        }
        let used = spec.sign_in.as_ref().map(|(_, secret)| secret).filter(|_| kind == PlaceErrorKind::Refused);
        self.error(kind, call, path, detail).with_secret(used)
    }

    /// One page of a listing.
    pub(super) async fn page(
        &self,
        call: &'static str,
        folder: &RelPath,
        below: &str,
        delimiter: Option<&'static str>,
        from: Option<&str>,
        most: usize,
    ) -> Result<ListObjectsV2Response> {
        let mut action = self.inner.address.list_objects_v2(self.inner.credentials.as_ref());
        let prefix = format!("{}{below}", self.prefix(call, folder)?);
        action.with_prefix(prefix);
        action.with_max_keys(most);
        if let Some(delimiter) = delimiter {
            action.with_delimiter(delimiter);
        }
        if let Some(from) = from {
            action.with_continuation_token(from.to_owned());
        }
        let answer = self.send(call, folder, self.request_for(&action, &[])).await?;
        let text = self.inner.server.text(call, folder, answer, LONGEST_ANSWER).await?;
        ListObjectsV2::parse_response(&text).map_err(|error| {
            let detail = format!("its listing cannot be read: {error}");
            self.error(PlaceErrorKind::Other, call, folder, detail)
        })
    }

    /// Whether something lies below a path, or a folder was made there.
    pub(super) async fn is_folder(&self, call: &'static str, path: &RelPath) -> Result<bool> {
        Ok(!self.page(call, path, "", None, None, 1).await?.contents.is_empty())
    }

    /// The object at a path, if there is one.
    pub(super) async fn find(&self, call: &'static str, path: &RelPath) -> Result<Option<Found>> {
        let key = self.key(call, path)?;
        let action = self.inner.address.head_object(self.inner.credentials.as_ref(), &key);
        let response = match self.send(call, path, self.request_for(&action, &[])).await {
            Ok(response) => response,
            Err(error) if error.kind == PlaceErrorKind::NotFound => return Ok(None),
            // An answer without a text does not say why; a listing does.
            Err(error) if error.kind == PlaceErrorKind::Denied => {
                self.page(call, path, "", None, None, 1).await?;
                return Err(error);
            }
            Err(error) => return Err(error),
        };
        let size = header_text(&response, header::CONTENT_LENGTH.as_str()).and_then(|text| text.parse().ok());
        let Some(size) = size else {
            return Err(self.error(PlaceErrorKind::Other, call, path, "the store does not tell its size"));
        };
        let modified = header_text(&response, header::LAST_MODIFIED.as_str());
        let modified = modified.and_then(|text| rfc2822::DateTimeParser::new().parse_timestamp(&text).ok());
        let kept = response.headers().iter().filter_map(|(name, value)| {
            let name = name.as_str();
            let keeps = name == "content-type" || (name.starts_with("x-amz-meta-") && name != MARK);
            keeps.then(|| Some((name.to_owned(), value.to_str().ok()?.to_owned())))?
        });
        Ok(Some(Found {
            fingerprint: Fingerprint {
                size,
                modified: whole_seconds(modified),
                inode: None,
                tag: header_text(&response, header::ETAG.as_str()).map(|text| tag(&text)),
            },
            mark: header_text(&response, MARK),
            kept: kept.collect(),
        }))
    }

    /// Removes an object, there or not.
    pub(super) async fn remove(&self, call: &'static str, path: &RelPath) -> Result<()> {
        let key = self.key(call, path)?;
        let action = self.inner.address.delete_object(self.inner.credentials.as_ref(), &key);
        self.send(call, path, self.request_for(&action, &[])).await.map(drop)
    }

    /// Removes an object that is still in this state; answers whether it was. A store that knows
    /// no condition is asked for the state just before.
    pub(super) async fn remove_in_state(
        &self,
        call: &'static str,
        path: &RelPath,
        state: &Fingerprint,
    ) -> Result<bool> {
        if self.find(call, path).await?.is_none_or(|now| now.fingerprint != *state) {
            return Ok(false);
        }
        let key = self.key(call, path)?;
        let action = self.inner.address.delete_object(self.inner.credentials.as_ref(), &key);
        let tag = state.tag.as_ref().map(|tag| (header::IF_MATCH.as_str(), format!("\"{tag}\"")));
        let request = self.request_for(&action, tag.as_slice());
        match self.send(call, path, request).await {
            Ok(_) => Ok(true),
            Err(error) if error.kind == PlaceErrorKind::Exists => Ok(false),
            Err(error) => Err(error),
        }
    }

    async fn put(
        &self,
        call: &'static str,
        path: &RelPath,
        key: &str,
        headers: &[(&'static str, String)],
        body: Bytes,
    ) -> Result<()> {
        let action = self.inner.address.put_object(self.inner.credentials.as_ref(), key);
        let (size, request) = (body.len() as u64, self.patient_request(&action, headers));
        self.send_body(call, path, request, size, vec![body]).await.map(drop)
    }

    /// An empty object that stands for a folder.
    pub(super) async fn put_folder(&self, path: &RelPath) -> Result<()> {
        let key = self.prefix("make folder", path)?;
        self.put("make folder", path, &key, &[], Bytes::new()).await
    }

    /// Removes what shows an empty folder.
    pub(super) async fn remove_mark(&self, call: &'static str, path: &RelPath) -> Result<()> {
        let key = self.prefix(call, path)?;
        let action = self.inner.address.delete_object(self.inner.credentials.as_ref(), &key);
        self.send(call, path, self.request_for(&action, &[])).await.map(drop)
    }

    /// Writes down which upload belongs to a temporary name.
    pub(super) async fn note(&self, temporary: &RelPath, note: &NoteAside) -> Result<()> {
        let text = serde_json::to_string(note).expect("plain values serialise");
        let key = self.key("write", temporary)?;
        self.put("write", temporary, &key, &[], text.into()).await
    }

    /// What is written down under a temporary name, and when.
    pub(super) async fn note_aside(&self, temporary: &RelPath) -> Result<Option<(NoteAside, Timestamp)>> {
        if !temporary.name().starts_with(TEMPORARY_PREFIX.as_bytes()) {
            return Ok(None);
        }
        let key = self.key("look at", temporary)?;
        let action = self.inner.address.get_object(self.inner.credentials.as_ref(), &key);
        match self.send("look at", temporary, self.request_for(&action, &[])).await {
            Ok(answer) => {
                let written = header_text(&answer, header::LAST_MODIFIED.as_str());
                let written = written.and_then(|text| rfc2822::DateTimeParser::new().parse_timestamp(&text).ok());
                let text = self.inner.server.text("look at", temporary, answer, LONGEST_ANSWER).await?;
                let note = serde_json::from_str(&text).ok();
                Ok(note.map(|note| (note, written.unwrap_or(Timestamp::MAX))))
            }
            Err(error) if error.kind == PlaceErrorKind::NotFound => Ok(None),
            Err(error) => Err(error),
        }
    }

    /// The uploads of a key that were begun at a time or after it.
    pub(super) async fn uploads_since(&self, target: &RelPath, since: Timestamp) -> Result<Vec<String>> {
        let key = self.key("look at", target)?;
        let mut action = self.inner.address.get_object(self.inner.credentials.as_ref(), "");
        action.query_mut().insert("uploads", "");
        action.query_mut().insert("prefix", key.clone());
        action.query_mut().insert("encoding-type", "url");
        let text = self.send_long("look at", target, self.request_for(&action, &[])).await?;
        let begun = markup::each(&text, "Upload").into_iter().filter_map(|mut told| {
            let told_key = percent_decode_str(told.get("Key")?).decode_utf8().ok()?;
            let at: Timestamp = told.get("Initiated")?.parse().ok()?;
            // The time that an object tells has whole seconds.
            let is_it = told_key == key && at.as_second() >= since.as_second();
            told.remove("UploadId").filter(|_| is_it)
        });
        Ok(begun.collect())
    }

    /// Begins an upload in parts; answers its id.
    pub(super) async fn begin(&self, target: &RelPath, mark: &str) -> Result<String> {
        let key = self.key("write", target)?;
        let action = self.inner.address.create_multipart_upload(self.inner.credentials.as_ref(), &key);
        let text = self.send_long("write", target, self.request_for(&action, &[(MARK, mark.to_owned())])).await?;
        match CreateMultipartUpload::parse_response(&text) {
            Ok(answer) => Ok(answer.upload_id().to_owned()),
            Err(error) => {
                let detail = format!("its answer to the start of an upload cannot be read: {error}");
                Err(self.error(PlaceErrorKind::Other, "write", target, detail))
            }
        }
    }

    /// Sends one part; answers its tag.
    pub(super) async fn part(
        &self,
        target: &RelPath,
        upload: &str,
        number: u16,
        chunks: Vec<Bytes>,
        size: u64,
    ) -> Result<String> {
        let key = self.key("write", target)?;
        let action = self.inner.address.upload_part(self.inner.credentials.as_ref(), &key, number, upload);
        let request = self.patient_request(&action, &[]);
        let response = self.send_body("write", target, request, size, chunks).await?;
        header_text(&response, header::ETAG.as_str())
            .ok_or_else(|| self.error(PlaceErrorKind::Other, "write", target, "the store gave a part no tag"))
    }

    async fn join(
        &self,
        target: &RelPath,
        upload: &str,
        tags: &[String],
        headers: &[(&'static str, String)],
    ) -> Result<()> {
        let key = self.key("rename to", target)?;
        let tags = tags.iter().map(String::as_str);
        let action = CompleteMultipartUpload::new(
            &self.inner.address,
            self.inner.credentials.as_ref(),
            &key,
            upload,
            tags.clone(),
        );
        let request = self.patient_request(&action, headers).body(action.clone().body());
        self.send_long("rename to", target, request).await.map(drop)
    }

    /// Removes the parts of an upload.
    pub(super) async fn abort(&self, target: &RelPath, upload: &str) -> Result<()> {
        let key = self.key("delete", target)?;
        let action = self.inner.address.abort_multipart_upload(self.inner.credentials.as_ref(), &key, upload);
        match self.send("delete", target, self.request_for(&action, &[])).await {
            Err(error) if error.kind != PlaceErrorKind::NotFound => Err(error),
            _ => Ok(()),
        }
    }

    /// Puts what is pending under its name.
    pub(super) async fn put_pending(&self, pending: &Pending, to: &RelPath, collision: Collision) -> Result<()> {
        let mut headers = Vec::new();
        if collision == Collision::Refuse {
            headers.push((header::IF_NONE_MATCH.as_str(), "*".to_owned()));
        }
        match &pending.held {
            Held::Small(content) => {
                headers.push((MARK, pending.mark.clone()));
                let key = self.key("rename to", to)?;
                self.put("rename to", to, &key, &headers, content.clone()).await
            }
            Held::Parts { upload, tags } => self.join(to, upload, tags, &headers).await,
        }
    }

    /// Copies an object within the bucket; no byte of it travels to us.
    pub(super) async fn copy(&self, from: &RelPath, found: &Found, to: &RelPath) -> Result<()> {
        let key = self.key("rename", from)?;
        let url = self.inner.address.object_url(&key);
        // The path of the address has the bucket's name only when that is how it is addressed.
        let at = match self.inner.spec.addressing {
            wetbank_core::BucketAddressing::Path => url.path().to_owned(),
            wetbank_core::BucketAddressing::Host => format!("/{}{}", self.inner.spec.bucket, url.path()),
        };
        let state = found.fingerprint.tag.clone().unwrap_or_default();
        let source = [("x-amz-copy-source", at), ("x-amz-copy-source-if-match", format!("\"{state}\""))];
        let target = self.key("rename to", to)?;
        if found.fingerprint.size > COPIED_WHOLE {
            let upload = self.begin(to, &state).await?;
            let copied = self.copy_parts(found.fingerprint.size, &source, to, &upload).await;
            let joined = match copied {
                Ok(tags) => self.join(to, &upload, &tags, &[]).await,
                Err(error) => Err(error),
            };
            if joined.is_err() {
                self.abort(to, &upload).await?;
            }
            return joined;
        }
        let mut headers = source.to_vec();
        headers.extend([("x-amz-metadata-directive", "REPLACE".to_owned()), (MARK, state)]);
        let mut action = self.inner.address.put_object(self.inner.credentials.as_ref(), &target);
        for (name, value) in found.kept.iter().filter(|(name, _)| name.starts_with("x-amz-")) {
            action.headers_mut().insert(name.clone(), value.clone());
        }
        let mut request = self.patient_request(&action, &headers);
        for (name, value) in &found.kept {
            request = request.header(name, value);
        }
        self.send_long("rename to", to, request).await.map(drop)
    }

    async fn copy_parts(
        &self,
        size: u64,
        source: &[(&'static str, String)],
        to: &RelPath,
        upload: &str,
    ) -> Result<Vec<String>> {
        let target = self.key("rename to", to)?;
        let mut tags = Vec::new();
        for (number, begin) in (1..).zip((0..size).step_by(usize::try_from(COPIED_PART).unwrap_or(usize::MAX))) {
            let end = (begin + COPIED_PART).min(size) - 1;
            let mut headers = source.to_vec();
            headers.push(("x-amz-copy-source-range", format!("bytes={begin}-{end}")));
            let action = self.inner.address.upload_part(self.inner.credentials.as_ref(), &target, number, upload);
            let text = self.send_long("rename to", to, self.patient_request(&action, &headers)).await?;
            let tag = markup::first(&text, "CopyPartResult").remove("ETag");
            tags.push(
                tag.ok_or_else(|| self.error(PlaceErrorKind::Other, "rename to", to, "the store gave a part no tag"))?,
            );
        }
        Ok(tags)
    }
}

fn method_of<'a, A: S3Action<'a>>(_: &A) -> &'static str {
    A::METHOD.to_str()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_tag_is_the_same_with_and_without_quotes() {
        assert_eq!(tag("\"9a0364b9\""), "9a0364b9");
        assert_eq!(tag("9a0364b9"), "9a0364b9");
    }
}
