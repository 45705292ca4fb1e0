//! A place that is used within limits: so many transfers at once, so many bytes a second.

use std::{
    sync::Arc,
    time::{Duration, Instant},
};

use async_trait::async_trait;
use bytes::Bytes;
use futures_util::StreamExt;
use jiff::Timestamp;
use tokio::sync::{Mutex, OwnedSemaphorePermit, Semaphore};
use wetbank_core::{Fingerprint, Limits, PlaceName, RelPath};

use crate::{
    Capabilities, ChangeStream, Collision, Cut, Depth, Entry, EntryStream, Folder, Mailbox, Place, ReadStream, Staged,
    place::Result,
};

/// A wait is cut so short, so that other hours and another rate are noticed.
const STEP: Duration = Duration::from_millis(500);

/// A place and its limits. Listing, renaming and the like are not limited.
#[derive(Debug)]
pub struct Limited {
    inner: Arc<dyn Place>,
    incoming: Arc<Semaphore>,
    outgoing: Arc<Semaphore>,
    pace: Arc<Pace>,
}

/// Bytes that may pass.
#[derive(Debug)]
struct Pace {
    limits: Limits,
    /// What may pass at once; below nothing if more passed than should have.
    credit: Mutex<(f64, Instant)>,
}

impl Pace {
    /// Waits until so many bytes may pass. Who asks first goes first.
    async fn pass(&self, bytes: usize) {
        let mut credit = self.credit.lock().await;
        loop {
            let Some(rate) = self.limits.rate_at(Timestamp::now()) else { return };
            let (left, since) = *credit;
            // No more than a second's worth is saved up.
            let rate = rate.max(1) as f64;
            let left = (left + since.elapsed().as_secs_f64() * rate).min(rate);
            *credit = (left, Instant::now());
            if left >= 0.0 {
                credit.0 -= bytes as f64;
                return;
            }
            tokio::time::sleep(Duration::from_secs_f64(-left / rate).min(STEP)).await;
        }
    }
}

impl Limited {
    /// The place within limits; the place itself if there are none.
    pub fn around(inner: Arc<dyn Place>, limits: &Limits) -> Arc<dyn Place> {
        if !limits.count() {
            return inner;
        }
        let transfers = limits.transfers.unwrap_or(Semaphore::MAX_PERMITS);
        let pace = Pace { limits: limits.clone(), credit: Mutex::new((0.0, Instant::now())) };
        Arc::new(Self {
            inner,
            // Apart, or a copy within the place would wait for itself.
            incoming: Arc::new(Semaphore::new(transfers)),
            outgoing: Arc::new(Semaphore::new(transfers)),
            pace: Arc::new(pace),
        })
    }
}

async fn turn(slots: &Arc<Semaphore>) -> OwnedSemaphorePermit {
    slots.clone().acquire_owned().await.expect("the semaphore is never closed")
}

#[async_trait]
impl Place for Limited {
    fn name(&self) -> &PlaceName {
        self.inner.name()
    }

    fn capabilities(&self) -> Capabilities {
        self.inner.capabilities()
    }

    fn endpoint(&self) -> Option<(String, u16)> {
        self.inner.endpoint()
    }

    fn is_limited(&self) -> bool {
        true
    }

    async fn secure(&self) -> Result<String> {
        self.inner.secure().await
    }

    async fn reach(&self) -> Result<String> {
        self.inner.reach().await
    }

    async fn stat(&self, path: &RelPath) -> Result<Entry> {
        self.inner.stat(path).await
    }

    fn list(&self, folder: &RelPath, depth: Depth) -> EntryStream {
        self.inner.list(folder, depth)
    }

    async fn tell_owners(&self, entries: &mut [Entry]) {
        self.inner.tell_owners(entries).await;
    }

    fn certificate_ends(&self) -> Option<Timestamp> {
        self.inner.certificate_ends()
    }

    fn changes(&self, folder: &RelPath, depth: Depth, since: Option<String>) -> Option<ChangeStream> {
        self.inner.changes(folder, depth, since)
    }

    async fn read(&self, path: &RelPath, from: u64) -> Result<ReadStream> {
        let turn = turn(&self.outgoing).await;
        let (content, pace) = (self.inner.read(path, from).await?, self.pace.clone());
        Ok(content
            .then(move |chunk| {
                // The turn is taken as long as the stream lives.
                let _turn = &turn;
                let pace = pace.clone();
                async move {
                    if let Ok(chunk) = &chunk {
                        pace.pass(chunk.len()).await;
                    }
                    chunk
                }
            })
            .boxed())
    }

    async fn stage(&self, temporary: &RelPath, target: &RelPath, resume: Option<u64>) -> Result<Box<dyn Staged>> {
        let turn = turn(&self.incoming).await;
        let inner = self.inner.stage(temporary, target, resume).await?;
        Ok(Box::new(Paced { inner, pace: self.pace.clone(), _turn: turn }))
    }

    async fn rename(&self, from: &RelPath, to: &RelPath, collision: Collision) -> Result<Option<Fingerprint>> {
        self.inner.rename(from, to, collision).await
    }

    async fn after_cut(&self, from: &RelPath, to: &RelPath, state: &Fingerprint) -> Result<Cut> {
        self.inner.after_cut(from, to, state).await
    }

    async fn delete(&self, path: &RelPath) -> Result<()> {
        self.inner.delete(path).await
    }

    async fn make_folder(&self, path: &RelPath) -> Result<()> {
        self.inner.make_folder(path).await
    }

    async fn set_modified(&self, path: &RelPath, at: i64) -> Result<Entry> {
        self.inner.set_modified(path, at).await
    }

    async fn remove_folder(&self, path: &RelPath) -> Result<()> {
        self.inner.remove_folder(path).await
    }

    fn as_folder(&self) -> Option<&Folder> {
        self.inner.as_folder()
    }

    fn as_mailbox(&self) -> Option<&Mailbox> {
        self.inner.as_mailbox()
    }
}

struct Paced {
    inner: Box<dyn Staged>,
    pace: Arc<Pace>,
    _turn: OwnedSemaphorePermit,
}

#[async_trait]
impl Staged for Paced {
    async fn write(&mut self, chunk: Bytes) -> Result<()> {
        self.pace.pass(chunk.len()).await;
        self.inner.write(chunk).await
    }

    async fn finish(self: Box<Self>) -> Result<Entry> {
        self.inner.finish().await
    }
}
