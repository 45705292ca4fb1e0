//! A PUT whose body comes chunk by chunk.

use async_trait::async_trait;
use bytes::Bytes;
use reqwest::{Body, Method, header};
use tokio::{
    sync::{OwnedSemaphorePermit, mpsc},
    task::JoinHandle,
};
use tokio_stream::wrappers::ReceiverStream;
use wetbank_core::RelPath;

use super::Webdav;
use crate::{Entry, Place, PlaceErrorKind, Staged, place::Result};

/// Chunks that may wait for the connection.
const QUEUE: usize = 8;

pub(super) struct Upload {
    place: Webdav,
    path: RelPath,
    chunks: Option<mpsc::Sender<std::io::Result<Bytes>>>,
    request: JoinHandle<Result<()>>,
    sent: u64,
}

impl Upload {
    pub fn start(place: Webdav, path: RelPath, slot: OwnedSemaphorePermit) -> Self {
        let (chunks, queue) = mpsc::channel(QUEUE);
        let body = Body::wrap_stream(ReceiverStream::new(queue));
        let request = place.request(Method::PUT, &path).header(header::CONTENT_TYPE, "application/octet-stream");
        let (sender, target) = (place.clone(), path.clone());
        let request = tokio::spawn(async move {
            let _slot = slot;
            sender.send("write", &target, request.body(body)).await.map(drop)
        });
        Self { place, path, chunks: Some(chunks), request, sent: 0 }
    }

    /// How the request ended.
    async fn outcome(&mut self) -> Result<()> {
        self.chunks = None;
        match (&mut self.request).await {
            Ok(result) => result,
            Err(error) => Err(self.place.error(PlaceErrorKind::Interrupted, "write", &self.path, error.to_string())),
        }
    }
}

impl Drop for Upload {
    /// An upload that is given up must not look like one that ended: its body breaks off.
    fn drop(&mut self) {
        self.request.abort();
    }
}

#[async_trait]
impl Staged for Upload {
    async fn write(&mut self, chunk: Bytes) -> Result<()> {
        let length = chunk.len() as u64;
        let sent = match &self.chunks {
            Some(chunks) => chunks.send(Ok(chunk)).await.is_ok(),
            None => false,
        };
        if sent {
            self.sent += length;
            return Ok(());
        }
        // The server answered before it had everything: that is never a yes.
        let early = self.place.error(PlaceErrorKind::Interrupted, "write", &self.path, "the server broke off");
        self.outcome().await.and(Err(early))
    }

    async fn finish(mut self: Box<Self>) -> Result<Entry> {
        self.outcome().await?;
        let entry = self.place.stat(&self.path).await?;
        if entry.fingerprint.size != self.sent {
            let detail = format!("{} of {} bytes are there", entry.fingerprint.size, self.sent);
            return Err(self.place.error(PlaceErrorKind::Interrupted, "write", &self.path, detail));
        }
        Ok(entry)
    }
}
