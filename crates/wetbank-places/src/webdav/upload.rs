//! A PUT whose body comes chunk by chunk.

use async_trait::async_trait;
use bytes::Bytes;
use reqwest::{Method, header};
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
    pub async fn start(place: Webdav, path: RelPath, slot: OwnedSemaphorePermit) -> Result<Self> {
        let (chunks, queue) = mpsc::channel(QUEUE);
        let body = ReceiverStream::new(queue);
        let request = place.patient_request(Method::PUT, &path).await?;
        let request = request.header(header::CONTENT_TYPE, "application/octet-stream");
        let (sender, target) = (place.clone(), path.clone());
        let request = tokio::spawn(async move {
            let _slot = slot;
            let response = sender.inner.server.send_body("write", &target, request, body).await?;
            sender.welcome("write", &target, response).await.map(drop)
        });
        Ok(Self { place, path, chunks: Some(chunks), request, sent: 0 })
    }

    /// How the request ended.
    async fn outcome(&mut self) -> Result<()> {
        let ended = (&mut self.request).await;
        self.chunks = None;
        match ended {
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
        let early = self.place.error(PlaceErrorKind::Interrupted, "write", &self.path, "the server broke off");
        let Some(chunks) = self.chunks.clone() else { return Err(early) };
        let sent = tokio::select! {
            sent = chunks.send(Ok(chunk)) => sent.is_ok(),
            // The server answered, or was given up, before it had everything: that is never a yes.
            ended = self.outcome() => return ended.and(Err(early)),
        };
        if sent {
            self.sent += length;
            return Ok(());
        }
        self.outcome().await.and(Err(early))
    }

    async fn finish(mut self: Box<Self>) -> Result<Entry> {
        // That was all of it, unless it has failed already.
        if self.chunks.take().is_none() {
            return Err(self.place.error(PlaceErrorKind::Interrupted, "write", &self.path, "it broke off before"));
        }
        self.outcome().await?;
        let entry = self.place.stat(&self.path).await?;
        if entry.fingerprint.size != self.sent {
            let detail = format!("{} of {} bytes are there", entry.fingerprint.size, self.sent);
            return Err(self.place.error(PlaceErrorKind::Interrupted, "write", &self.path, detail));
        }
        Ok(entry)
    }
}
