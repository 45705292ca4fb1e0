//! What the protocol runs over.

use std::io;

use bytes::{Bytes, BytesMut};
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};

/// Bytes from the peer, in pieces of any size.
pub trait Incoming: Send + 'static {
    /// The next piece; nothing at the end. Must be cancel-safe.
    fn next(&mut self) -> impl Future<Output = io::Result<Option<Bytes>>> + Send;
}

/// Bytes to the peer.
pub trait Outgoing: Send + 'static {
    /// Sends all of it.
    fn send(&mut self, bytes: Bytes) -> impl Future<Output = io::Result<()>> + Send;
}

/// A plain byte stream as [`Incoming`] or [`Outgoing`].
#[derive(Debug)]
pub struct Bytewise<S>(pub S);

impl<R: AsyncRead + Send + Unpin + 'static> Incoming for Bytewise<R> {
    async fn next(&mut self) -> io::Result<Option<Bytes>> {
        let mut buffer = BytesMut::with_capacity(32 << 10);
        let read = self.0.read_buf(&mut buffer).await?;
        Ok((read > 0).then(|| buffer.freeze()))
    }
}

impl<W: AsyncWrite + Send + Unpin + 'static> Outgoing for Bytewise<W> {
    async fn send(&mut self, bytes: Bytes) -> io::Result<()> {
        self.0.write_all(&bytes).await?;
        self.0.flush().await
    }
}
