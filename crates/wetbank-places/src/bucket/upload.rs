//! A file on its way into a bucket.

use std::collections::VecDeque;

use async_trait::async_trait;
use bytes::{Bytes, BytesMut};
use rand10::RngExt;
use tokio::task::JoinHandle;
use wetbank_core::{Fingerprint, RelPath};

use super::{Bucket, calls::NoteAside};
use crate::{Entry, EntryKind, PlaceErrorKind, Staged, place::Result};

/// A file up to this size is held until it gets its name, and then put at once.
const SMALL: usize = 1 << 20;
/// Bytes of a part. With the most parts there can be, files of 78 GiB.
const PART: u64 = 8 << 20;
/// Bytes of the later parts of a very large file: with them, files of about half a terabyte.
const LATER_PART: u64 = 96 << 20;
/// So many parts are small.
const FIRST_PARTS: u16 = 5000;
/// Parts of one upload at most, as the protocol says.
const MOST_PARTS: u16 = 10_000;
/// Parts of one file in flight.
const IN_FLIGHT: usize = 2;
/// What the mark of a file in parts begins with, and of one put at once.
const LARGE_MARK: &str = "parts-";
const SMALL_MARK: &str = "put-";

/// What is staged and waits for its name.
pub(super) struct Pending {
    pub target: RelPath,
    pub size: u64,
    pub mark: String,
    pub held: Held,
}

/// Where the content of a staged file is.
pub(super) enum Held {
    /// With us.
    Small(Bytes),
    /// With the store, in parts that nobody sees.
    Parts { upload: String, tags: Vec<String> },
}

impl Pending {
    /// Whether a note lies under the temporary name.
    pub fn is_noted(&self) -> bool {
        matches!(self.held, Held::Parts { .. })
    }
}

/// Whether a state is that of a staged file.
pub(super) fn is_staged(state: &Fingerprint) -> bool {
    is_large(state) || state.tag.as_ref().is_some_and(|tag| tag.starts_with(SMALL_MARK))
}

/// Whether a state is that of a staged file in parts.
pub(super) fn is_large(state: &Fingerprint) -> bool {
    state.tag.as_ref().is_some_and(|tag| tag.starts_with(LARGE_MARK))
}

pub(super) struct Upload {
    bucket: Bucket,
    temporary: RelPath,
    target: RelPath,
    token: String,
    chunks: Vec<Bytes>,
    held: u64,
    sent: u64,
    upload: Option<String>,
    next: u16,
    flying: VecDeque<JoinHandle<Result<String>>>,
    tags: Vec<String>,
    is_finished: bool,
}

impl Upload {
    pub fn new(bucket: Bucket, temporary: RelPath, target: RelPath) -> Self {
        let token = format!("{:016x}", rand10::rng().random::<u64>());
        Self {
            bucket,
            temporary,
            target,
            token,
            chunks: Vec::new(),
            held: 0,
            sent: 0,
            upload: None,
            next: 1,
            flying: VecDeque::new(),
            tags: Vec::new(),
            is_finished: false,
        }
    }

    fn mark(&self) -> String {
        let kind = if self.upload.is_some() { LARGE_MARK } else { SMALL_MARK };
        format!("{kind}{}", self.token)
    }

    /// Waits for the oldest part in flight.
    async fn land(&mut self) -> Result<()> {
        let Some(part) = self.flying.pop_front() else { return Ok(()) };
        let tag = part.await.map_err(|error| {
            self.bucket.error(PlaceErrorKind::Interrupted, "write", &self.temporary, error.to_string())
        })??;
        self.tags.push(tag);
        Ok(())
    }

    async fn send_part(&mut self) -> Result<()> {
        if self.upload.is_none() {
            // Parts of an attempt before a stop go first.
            self.bucket.abandon(&self.temporary).await?;
            let mut note = NoteAside { target: self.target.clone(), upload: None };
            self.bucket.note(&self.temporary, &note).await?;
            note.upload = Some(self.bucket.begin(&self.target, &format!("{LARGE_MARK}{}", self.token)).await?);
            self.upload.clone_from(&note.upload);
            self.bucket.note(&self.temporary, &note).await?;
        }
        if self.next > MOST_PARTS {
            let detail = format!("a file of over {} bytes is more than a bucket takes", self.sent);
            return Err(self.bucket.error(PlaceErrorKind::Unsupported, "write", &self.target, detail));
        }
        while self.flying.len() >= IN_FLIGHT {
            self.land().await?;
        }
        let (bucket, target) = (self.bucket.clone(), self.target.clone());
        let upload = self.upload.clone().unwrap_or_default();
        let (number, chunks, size) = (self.next, std::mem::take(&mut self.chunks), self.held);
        self.flying.push_back(tokio::spawn(async move { bucket.part(&target, &upload, number, chunks, size).await }));
        self.next += 1;
        self.held = 0;
        Ok(())
    }
}

impl Drop for Upload {
    /// What is given up leaves no parts behind.
    fn drop(&mut self) {
        for part in &self.flying {
            part.abort();
        }
        if self.upload.is_none() || self.is_finished {
            return;
        }
        let (bucket, temporary) = (self.bucket.clone(), self.temporary.clone());
        if let Ok(runtime) = tokio::runtime::Handle::try_current() {
            runtime.spawn(async move {
                if let Err(error) = bucket.abandon(&temporary).await {
                    tracing::warn!(%error, "the parts of an upload that was given up stay until the next attempt");
                }
            });
        }
    }
}

#[async_trait]
impl Staged for Upload {
    async fn write(&mut self, mut chunk: Bytes) -> Result<()> {
        while !chunk.is_empty() {
            let part = if self.next > FIRST_PARTS { LATER_PART } else { PART };
            let room = usize::try_from(part - self.held).unwrap_or(usize::MAX);
            let piece = chunk.split_to(room.min(chunk.len()));
            self.held += piece.len() as u64;
            self.sent += piece.len() as u64;
            self.chunks.push(piece);
            if self.held == part {
                self.send_part().await?;
            }
        }
        Ok(())
    }

    async fn finish(mut self: Box<Self>) -> Result<Entry> {
        let is_small = self.upload.is_none() && self.sent <= SMALL as u64;
        if !is_small && self.held > 0 {
            self.send_part().await?;
        }
        while !self.flying.is_empty() {
            self.land().await?;
        }
        let mark = self.mark();
        let held = match &self.upload {
            Some(upload) => Held::Parts { upload: upload.clone(), tags: std::mem::take(&mut self.tags) },
            None => {
                let mut content = BytesMut::with_capacity(usize::try_from(self.held).unwrap_or(0));
                self.chunks.iter().for_each(|chunk| content.extend_from_slice(chunk));
                Held::Small(content.freeze())
            }
        };
        let pending = Pending { target: self.target.clone(), size: self.sent, mark: mark.clone(), held };
        self.bucket.keep_pending(self.temporary.clone(), pending);
        self.is_finished = true;
        let fingerprint = Fingerprint { size: self.sent, modified: 0, inode: None, tag: Some(mark) };
        Ok(Entry { path: self.temporary.clone(), kind: EntryKind::File, fingerprint, owner: None })
    }
}
