//! A bucket of an object store (the S3 REST API).
//!
//! A bucket has no folders and no renaming. Folders are what lies between the slashes of a key;
//! an object whose key ends in a slash stands for a folder that was made. A file appears under
//! its name in one step: small ones with one put, large ones when the last of their parts is
//! joined. What joins them carries a mark, by which it is known again after a stop.

mod calls;
mod listing;
mod markup;
mod opens;
mod upload;

use std::{collections::HashMap, fmt, sync::Arc};

use async_trait::async_trait;
use futures_util::{StreamExt, TryStreamExt, stream};
use jiff::Timestamp;
use parking_lot::Mutex;
use reqwest::{StatusCode, header};
use rusty_s3::{Bucket as Address, Credentials, UrlStyle};
use secrecy::{ExposeSecret, SecretString};
use wetbank_core::{BucketAddressing, BucketSpec, Fingerprint, PlaceName, RelPath};

use crate::{
    Capabilities, Collision, Cut, Depth, Entry, EntryKind, EntryStream, Names, Place, PlaceError, PlaceErrorKind,
    ReadStream, Staged, place::Result, web::WebServer,
};
use calls::{Found, NoteAside};
use upload::{Pending, Upload};

/// Bytes of a key at most, as the protocol says.
const LONGEST_KEY: usize = 1024;

/// A bucket as a folder tree. Clones share their connections.
#[derive(Clone)]
pub struct Bucket {
    inner: Arc<Inner>,
}

struct Inner {
    server: WebServer,
    spec: BucketSpec,
    address: Address,
    credentials: Option<Credentials>,
    /// What is staged and waits for its name, by its temporary path.
    pending: Mutex<HashMap<RelPath, Pending>>,
}

impl fmt::Debug for Bucket {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Bucket").field("name", &self.inner.server.name).field("at", &self.inner.spec.server()).finish()
    }
}

impl Bucket {
    /// The place with this name and the secret key of its access key. The store is reached only
    /// when it is used.
    ///
    /// # Errors
    /// If the address cannot be one of a bucket.
    pub fn new(name: PlaceName, spec: BucketSpec, secret: Option<SecretString>) -> Result<Self> {
        let style = match spec.addressing {
            BucketAddressing::Path => UrlStyle::Path,
            BucketAddressing::Host => UrlStyle::VirtualHost,
        };
        let address = spec
            .url
            .parse()
            .ok()
            .and_then(|url| Address::new(url, style, spec.bucket.clone(), spec.region.clone()).ok());
        let Some(address) = address else {
            return Err(PlaceError {
                kind: PlaceErrorKind::Unreachable,
                place: name,
                call: "reach",
                path: RelPath::root(),
                detail: format!("{} is no address", spec.server()),
                secret: None,
            });
        };
        let server = WebServer::new(name, &spec.server(), spec.certificate.as_deref(), spec.connections, spec.silence);
        let credentials = spec.sign_in.as_ref().zip(secret.as_ref());
        let credentials = credentials.map(|((access, _), secret)| Credentials::new(access, secret.expose_secret()));
        Ok(Self { inner: Arc::new(Inner { server, spec, address, credentials, pending: Mutex::default() }) })
    }

    fn error(&self, kind: PlaceErrorKind, call: &'static str, path: &RelPath, detail: impl Into<String>) -> PlaceError {
        self.inner.server.error(kind, call, path, detail)
    }

    /// The key of a file.
    fn key(&self, call: &'static str, path: &RelPath) -> Result<String> {
        let mut key = self.inner.spec.root.clone();
        for part in path.parts() {
            if !Names::Unicode.take(part) {
                let detail = "names in a bucket are Unicode without control characters";
                return Err(self.error(PlaceErrorKind::BadName, call, path, detail));
            }
            let part = std::str::from_utf8(part).expect("Unicode, as was just seen");
            if !key.is_empty() {
                key.push('/');
            }
            key.push_str(part);
        }
        if key.len() >= LONGEST_KEY {
            let detail = format!("the whole name has {} bytes, {LONGEST_KEY} are possible", key.len());
            return Err(self.error(PlaceErrorKind::BadName, call, path, detail));
        }
        Ok(key)
    }

    /// What the keys of everything in a folder begin with.
    fn prefix(&self, call: &'static str, folder: &RelPath) -> Result<String> {
        let key = self.key(call, folder)?;
        Ok(if key.is_empty() { key } else { format!("{key}/") })
    }

    fn take_pending(&self, temporary: &RelPath) -> Option<Pending> {
        self.inner.pending.lock().remove(temporary)
    }

    fn keep_pending(&self, temporary: RelPath, pending: Pending) -> Option<Pending> {
        self.inner.pending.lock().insert(temporary, pending)
    }

    async fn must_be_free(&self, to: &RelPath) -> Result<()> {
        match self.find("rename to", to).await? {
            Some(_) => Err(self.error(PlaceErrorKind::Exists, "rename to", to, "")),
            None => Ok(()),
        }
    }

    async fn must_be_file(&self, call: &'static str, path: &RelPath) -> Result<Found> {
        match self.find(call, path).await? {
            Some(found) => Ok(found),
            None if self.is_folder(call, path).await? => {
                Err(self.error(PlaceErrorKind::Unsupported, call, path, "it is no regular file"))
            }
            None => Err(self.error(PlaceErrorKind::NotFound, call, path, "")),
        }
    }

    /// Gives what is staged its name, and proves that it has it.
    async fn publish(&self, pending: &Pending, to: &RelPath, collision: Collision) -> Result<Fingerprint> {
        if pending.target != *to {
            let detail = format!("it was written to become \"{}\"", pending.target);
            return Err(self.error(PlaceErrorKind::Unsupported, "rename to", to, detail));
        }
        if collision == Collision::Refuse {
            // A store that knows no conditions would replace what is there.
            self.must_be_free(to).await?;
        }
        let published = self.put_pending(pending, to, collision).await;
        let found = match (published, self.find("rename to", to).await) {
            // The answer may have been lost on its way, and a second try finds the name taken.
            (_, Ok(Some(found))) if found.mark.as_ref() == Some(&pending.mark) => found,
            (Err(error), _) | (Ok(()), Err(error)) => return Err(error),
            (Ok(()), Ok(_)) => {
                let detail = "what is there now is not what was sent; somebody else writes under this name";
                return Err(self.error(PlaceErrorKind::Interrupted, "rename to", to, detail));
            }
        };
        if found.fingerprint.size != pending.size {
            let detail = format!("{} of {} bytes are there", found.fingerprint.size, pending.size);
            return Err(self.error(PlaceErrorKind::Interrupted, "rename to", to, detail));
        }
        Ok(found.fingerprint)
    }

    /// Removes what is staged, also if it was before a stop.
    async fn abandon(&self, temporary: &RelPath) -> Result<bool> {
        let pending = self.take_pending(temporary);
        let note = self.note_aside(temporary).await?;
        if let Some((NoteAside { target, upload }, noted)) = &note {
            let uploads = match upload {
                Some(upload) => vec![upload.clone()],
                // A stop came before the store's answer was written down: what was begun since
                // under this name is ours.
                None => self.uploads_since(target, *noted).await?,
            };
            for upload in uploads {
                self.abort(target, &upload).await?;
            }
            self.remove("delete", temporary).await?;
        }
        Ok(pending.is_some() || note.is_some())
    }
}

#[async_trait]
impl Place for Bucket {
    fn name(&self) -> &PlaceName {
        &self.inner.server.name
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities {
            replaces_atomically: true,
            names: Names::Unicode,
            folders_are_made: false,
            rename_keeps_state: false,
            ..Capabilities::LEAST
        }
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
        self.page("reach", &root, "", None, None, 1).await?;
        Ok(match &self.inner.spec.sign_in {
            Some((access, _)) => format!("signed in with the access key {access}"),
            None => "reached without signing in".to_owned(),
        })
    }

    async fn stat(&self, path: &RelPath) -> Result<Entry> {
        if path.is_root() {
            self.reach().await?;
        } else if let Some(Found { fingerprint, .. }) = self.find("look at", path).await? {
            return Ok(Entry { path: path.clone(), kind: EntryKind::File, fingerprint, owner: None });
        } else if !self.is_folder("look at", path).await? {
            return Err(self.error(PlaceErrorKind::NotFound, "look at", path, ""));
        }
        Ok(listing::folder(path.clone()))
    }

    fn list(&self, folder: &RelPath, depth: Depth) -> EntryStream {
        listing::list(self.clone(), folder.clone(), depth)
    }

    async fn read(&self, path: &RelPath, from: u64) -> Result<ReadStream> {
        let slot = self.inner.server.slot().await;
        let key = self.key("read", path)?;
        let mut request = self.request_for(&self.inner.address.get_object(self.inner.credentials.as_ref(), &key), &[]);
        if from > 0 {
            request = request.header(header::RANGE, format!("bytes={from}-"));
        }
        let response = request.send().await.map_err(|e| self.inner.server.broken("read", path, &e))?;
        if response.status() == StatusCode::RANGE_NOT_SATISFIABLE {
            // Nothing lies behind the end.
            return Ok(stream::empty().boxed());
        }
        if !response.status().is_success() {
            return Err(self.refusal("read", path, response).await);
        }
        if from > 0 && response.status() != StatusCode::PARTIAL_CONTENT {
            let detail = "the store cannot begin in the middle of a file";
            return Err(self.error(PlaceErrorKind::Unsupported, "read", path, detail));
        }
        let (place, path) = (self.clone(), path.clone());
        let chunks = response.bytes_stream().map_err(move |e| {
            // The slot is taken as long as the stream lives.
            let _slot = &slot;
            place.inner.server.broken("read", &path, &e)
        });
        Ok(chunks.try_filter(|chunk| std::future::ready(!chunk.is_empty())).boxed())
    }

    async fn stage(&self, temporary: &RelPath, target: &RelPath, resume: Option<u64>) -> Result<Box<dyn Staged>> {
        if resume.is_some() {
            return Err(self.error(PlaceErrorKind::Unsupported, "write", temporary, "a broken upload begins anew"));
        }
        self.key("write", target)?;
        Ok(Box::new(Upload::new(self.clone(), temporary.clone(), target.clone())))
    }

    async fn rename(&self, from: &RelPath, to: &RelPath, collision: Collision) -> Result<Option<Fingerprint>> {
        if let Some(pending) = self.take_pending(from) {
            let published = self.publish(&pending, to, collision).await;
            match &published {
                Ok(_) if pending.is_noted() => self.remove("delete", from).await?,
                Ok(_) => {}
                Err(_) => drop(self.keep_pending(from.clone(), pending)),
            }
            return published.map(Some);
        }
        let found = self.must_be_file("rename", from).await?;
        if from == to {
            return Ok(Some(found.fingerprint));
        }
        if collision == Collision::Refuse {
            self.must_be_free(to).await?;
        }
        self.copy(from, &found, to).await?;
        let copied = self.find("rename to", to).await?;
        let Some(copied) = copied.filter(|copied| copied.fingerprint.size == found.fingerprint.size) else {
            let detail = "the copy is not as long as the file; the file stays where it was";
            return Err(self.error(PlaceErrorKind::Interrupted, "rename to", to, detail));
        };
        // What somebody put there since is another file and stays.
        self.remove_in_state("rename", from, &found.fingerprint).await?;
        Ok(Some(copied.fingerprint))
    }

    async fn after_cut(&self, from: &RelPath, to: &RelPath, state: &Fingerprint) -> Result<Cut> {
        let found = self.find("look at", to).await?;
        if let Some(found) = found
            && state.tag.is_some()
            && found.mark == state.tag
        {
            if upload::is_large(state) {
                // The stop came before the note beside it was removed.
                self.abandon(from).await?;
            }
            return Ok(Cut::Done(found.fingerprint));
        }
        if upload::is_staged(state) {
            // Parts that were never joined show that the name was not given. A small file that
            // is not there is put once more.
            let joined = upload::is_large(state) && self.note_aside(from).await?.is_none();
            return Ok(if joined { Cut::Look } else { Cut::Undone });
        }
        Ok(Cut::Look)
    }

    async fn delete(&self, path: &RelPath) -> Result<()> {
        if self.abandon(path).await? {
            return Ok(());
        }
        self.must_be_file("delete", path).await?;
        self.remove("delete", path).await
    }

    async fn make_folder(&self, path: &RelPath) -> Result<()> {
        let mut at = RelPath::root();
        for part in path.parts() {
            at = at.join_name(part).expect("a part of a path");
            if self.find("make folder", &at).await?.is_some() {
                return Err(self.error(PlaceErrorKind::Exists, "make folder", &at, "a file has this name"));
            }
        }
        if path.is_root() || self.is_folder("make folder", path).await? {
            return Ok(());
        }
        self.put_folder(path).await
    }

    /// Folders are names only: what shows an empty one goes, and files below it stay.
    async fn remove_folder(&self, path: &RelPath) -> Result<()> {
        let call = "remove folder";
        if self.list(path, Depth::One).next().await.transpose()?.is_some() {
            return Err(self.error(PlaceErrorKind::Exists, call, path, "something lies in it"));
        }
        if !self.is_folder(call, path).await? {
            return Err(self.error(PlaceErrorKind::NotFound, call, path, ""));
        }
        self.remove_mark(call, path).await
    }
}
