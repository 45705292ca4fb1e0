//! Requests that take long for an honest reason: a body that takes its time on the way, or work
//! that the server does before it answers.

use std::{
    io,
    pin::Pin,
    sync::Arc,
    task::{Context, Poll},
    time::Duration,
};

use bytes::Bytes;
use futures_util::Stream;
use parking_lot::Mutex;
use reqwest::{Body, RequestBuilder, Response};
use tokio::time::Instant;
use wetbank_core::RelPath;

use crate::{PlaceErrorKind, place::Result, web::WebServer};

/// What a server does after it has everything may take this many times the allowed silence.
const PATIENCE: u32 = 10;
/// A body goes in pieces of at most so many bytes, so that each is a sign of life on a slow line.
pub(crate) const PIECE: usize = 64 << 10;

/// How far a body is on its way.
#[derive(Debug, Clone, Copy)]
struct Progress {
    /// When the connection last took a piece, or we last had none to give.
    at: Instant,
    /// We have none to give.
    is_empty: bool,
    /// All of it was taken.
    is_done: bool,
}

/// A body that tells when the connection takes a piece of it.
struct Watched<S> {
    body: S,
    rest: Bytes,
    progress: Arc<Mutex<Progress>>,
}

impl<S: Stream<Item = io::Result<Bytes>> + Unpin> Stream for Watched<S> {
    type Item = io::Result<Bytes>;

    fn poll_next(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<Option<Self::Item>> {
        let next = if self.rest.is_empty() {
            Pin::new(&mut self.body).poll_next(cx)
        } else {
            Poll::Ready(Some(Ok(std::mem::take(&mut self.rest))))
        };
        let next = next.map_ok(|mut chunk| {
            self.rest = chunk.split_off(chunk.len().min(PIECE));
            chunk
        });
        let (is_empty, is_done) = (next.is_pending(), matches!(next, Poll::Ready(None)));
        *self.progress.lock() = Progress { at: Instant::now(), is_empty, is_done };
        next
    }
}

/// Returns once the server neither took a piece that waited nor answered for too long.
async fn stalled(progress: &Mutex<Progress>, silence: Duration) {
    loop {
        let now = *progress.lock();
        let allowed = if now.is_done { silence * PATIENCE } else { silence };
        let until = now.at + allowed;
        if until <= Instant::now() {
            if !now.is_empty {
                return;
            }
            // It is our turn, not the server's.
            tokio::time::sleep(silence).await;
            continue;
        }
        tokio::time::sleep_until(until).await;
    }
}

impl WebServer {
    /// Sends a request with a body that comes piece by piece. `request` must be made with
    /// [`WebServer::patient`].
    pub async fn send_body(
        &self,
        call: &'static str,
        path: &RelPath,
        request: RequestBuilder,
        body: impl Stream<Item = io::Result<Bytes>> + Send + Unpin + 'static,
    ) -> Result<Response> {
        let start = Progress { at: Instant::now(), is_empty: false, is_done: false };
        let progress = Arc::new(Mutex::new(start));
        let body = Watched { body, rest: Bytes::new(), progress: progress.clone() };
        tokio::select! {
            answer = request.body(Body::wrap_stream(body)).send() => answer.map_err(|e| self.broken(call, path, &e)),
            () = stalled(&progress, self.silence) => {
                let detail = format!("the server took nothing for {} s", self.silence.as_secs());
                Err(self.error(PlaceErrorKind::Interrupted, call, path, detail))
            }
        }
    }

    /// Sends a request that the server works on before it answers, as copying a large file.
    /// `request` must be made with [`WebServer::patient`].
    pub async fn send_slow(&self, call: &'static str, path: &RelPath, request: RequestBuilder) -> Result<Response> {
        match tokio::time::timeout(self.silence * PATIENCE, request.send()).await {
            Ok(answer) => answer.map_err(|e| self.broken(call, path, &e)),
            Err(_) => {
                let detail = format!("it did not answer within {} s", (self.silence * PATIENCE).as_secs());
                Err(self.error(PlaceErrorKind::Interrupted, call, path, detail))
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use futures_util::{StreamExt, stream};

    use super::*;

    const SILENCE: Duration = Duration::from_millis(60);

    fn progress(is_empty: bool, is_done: bool) -> Mutex<Progress> {
        Mutex::new(Progress { at: Instant::now(), is_empty, is_done })
    }

    async fn took(progress: &Mutex<Progress>) -> Option<Duration> {
        let began = Instant::now();
        tokio::time::timeout(SILENCE * 40, stalled(progress, SILENCE)).await.ok().map(|()| began.elapsed())
    }

    #[tokio::test]
    async fn a_server_that_takes_nothing_stalls_soon_and_one_that_works_on_it_later() {
        let soon = took(&progress(false, false)).await.unwrap();
        assert!((SILENCE..SILENCE * PATIENCE).contains(&soon), "{soon:?}");
        assert!(took(&progress(false, true)).await.unwrap() >= SILENCE * PATIENCE);
        assert_eq!(took(&progress(true, false)).await, None, "we had nothing to give");
    }

    #[tokio::test]
    async fn a_body_is_given_in_pieces_and_whole() {
        let chunks = [vec![1; 10], vec![2; PIECE * 2 + 5], Vec::new(), vec![3; 1]];
        let whole = chunks.concat();
        let body = stream::iter(chunks.map(|chunk| Ok(Bytes::from(chunk))));
        let mut watched = Watched { body, rest: Bytes::new(), progress: Arc::new(progress(false, false)) };
        let mut got = Vec::new();
        while let Some(piece) = watched.next().await {
            let piece = piece.unwrap();
            assert!(piece.len() <= PIECE);
            got.extend_from_slice(&piece);
        }
        assert_eq!(got, whole);
        assert!(watched.progress.lock().is_done);
    }
}
