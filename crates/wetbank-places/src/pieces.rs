//! Writing a file in pieces of one length, several in flight.

use bytes::{Bytes, BytesMut};
use futures_util::{StreamExt, future::BoxFuture, stream::FuturesUnordered};

type Put<E> = Box<dyn Fn(u64, Bytes) -> BoxFuture<'static, Result<(), E>> + Send>;

/// Cuts chunks of any length into pieces and writes each at its offset.
pub(crate) struct Pieces<E> {
    length: usize,
    ahead: usize,
    at: u64,
    buffer: BytesMut,
    put: Put<E>,
    writes: FuturesUnordered<BoxFuture<'static, Result<(), E>>>,
}

impl<E> Pieces<E> {
    /// Pieces of this length from an offset on, at most `ahead` of them in flight.
    pub fn new(
        length: usize,
        ahead: usize,
        at: u64,
        put: impl Fn(u64, Bytes) -> BoxFuture<'static, Result<(), E>> + Send + 'static,
    ) -> Self {
        let (put, writes) = (Box::new(put), FuturesUnordered::new());
        Self { length, ahead, at, buffer: BytesMut::new(), put, writes }
    }

    async fn dispatch(&mut self, piece: Bytes) -> Result<(), E> {
        if self.writes.len() >= self.ahead
            && let Some(written) = self.writes.next().await
        {
            written?;
        }
        let at = self.at;
        self.at += piece.len() as u64;
        self.writes.push((self.put)(at, piece));
        Ok(())
    }

    /// Takes a chunk; what does not fill a piece waits.
    pub async fn write(&mut self, mut chunk: Bytes) -> Result<(), E> {
        while !chunk.is_empty() {
            if self.buffer.is_empty() && chunk.len() >= self.length {
                let piece = chunk.split_to(self.length);
                self.dispatch(piece).await?;
                continue;
            }
            let taken = chunk.len().min(self.length - self.buffer.len());
            self.buffer.extend_from_slice(&chunk.split_to(taken));
            if self.buffer.len() == self.length {
                let piece = self.buffer.split().freeze();
                self.dispatch(piece).await?;
            }
        }
        Ok(())
    }

    /// Writes what waits, and waits until all is written.
    pub async fn flush(&mut self) -> Result<(), E> {
        let rest = self.buffer.split().freeze();
        if !rest.is_empty() {
            self.dispatch(rest).await?;
        }
        while let Some(written) = self.writes.next().await {
            written?;
        }
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use std::sync::{Arc, Mutex};

    use futures_util::FutureExt;

    use super::*;

    #[tokio::test]
    async fn every_byte_is_written_once_at_its_offset() {
        let file = Arc::new(Mutex::new(vec![0_u8; 1003]));
        let target = file.clone();
        let mut pieces = Pieces::<()>::new(64, 3, 3, move |at, piece| {
            let target = target.clone();
            async move {
                tokio::task::yield_now().await;
                let at = at as usize;
                assert!(piece.len() <= 64);
                target.lock().unwrap()[at..at + piece.len()].copy_from_slice(&piece);
                Ok(())
            }
            .boxed()
        });
        let content: Vec<u8> = (0..1000_u32).map(|n| (n % 251 + 1) as u8).collect();
        let mut rest = Bytes::from(content.clone());
        for length in [1, 63, 64, 65, 200, 0, 7].into_iter().cycle() {
            let chunk = rest.split_to(length.min(rest.len()));
            pieces.write(chunk).await.unwrap();
            if rest.is_empty() {
                break;
            }
        }
        pieces.flush().await.unwrap();
        assert_eq!(file.lock().unwrap()[3..], content);
    }

    #[tokio::test]
    async fn a_write_that_fails_is_told() {
        let mut pieces =
            Pieces::new(4, 2, 0, |at, _| async move { if at == 4 { Err("full") } else { Ok(()) } }.boxed());
        let written = pieces.write(Bytes::from_static(b"12345678")).await;
        assert_eq!(written.and(pieces.flush().await), Err("full"));
    }
}
