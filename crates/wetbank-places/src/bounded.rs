//! Readers for what servers send: an endless line or answer ends the connection, not our memory.

use std::{
    io,
    pin::Pin,
    task::{Context, Poll},
};

use tokio::io::{AsyncBufRead, AsyncRead, AsyncWrite, ReadBuf};

/// Bytes of a line at most, far more than any protocol of lines has.
const LONGEST_LINE: usize = 1 << 20;
/// Bytes of a literal within a line (RFC 9051, section 4.3) at most: larger than any letter that servers take.
const LONGEST_LITERAL: usize = 1 << 30;
/// Bytes of one tag in markup at most.
const LONGEST_TAG: usize = 1 << 20;

fn endless(what: &str) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, format!("the server sends {what} without end"))
}

/// A line to a server that speaks in lines, as mail servers do.
#[derive(Debug)]
pub(crate) struct Lines<S> {
    inner: S,
    /// Bytes of the line so far.
    length: usize,
    /// Bytes of a literal that are still to come.
    literal: usize,
    /// The end of the line, which may announce a literal.
    tail: Vec<u8>,
}

impl<S> Lines<S> {
    pub fn of(inner: S) -> Self {
        Self { inner, length: 0, literal: 0, tail: Vec::new() }
    }

    pub fn into_inner(self) -> S {
        self.inner
    }

    fn follow(&mut self, mut bytes: &[u8]) -> io::Result<()> {
        while !bytes.is_empty() {
            let of_literal = self.literal.min(bytes.len());
            self.literal -= of_literal;
            bytes = &bytes[of_literal..];
            let end = bytes.iter().position(|byte| *byte == b'\n');
            let (line, rest) = bytes.split_at(end.map_or(bytes.len(), |end| end + 1));
            self.length += line.len();
            if self.length > LONGEST_LINE {
                return Err(endless("a line"));
            }
            self.tail.extend_from_slice(&line[line.len().saturating_sub(32)..]);
            let surplus = self.tail.len().saturating_sub(32);
            self.tail.drain(..surplus);
            if end.is_some() {
                self.literal = announced(&self.tail).unwrap_or(0);
                if self.literal > LONGEST_LITERAL {
                    return Err(endless("a literal"));
                }
                self.length = 0;
                self.tail.clear();
            }
            bytes = rest;
        }
        Ok(())
    }
}

/// The length of the literal that the end of a line announces: `{1024}`.
fn announced(line: &[u8]) -> Option<usize> {
    let line = line.strip_suffix(b"\r\n")?.strip_suffix(b"}")?;
    let at = line.iter().rposition(|byte| *byte == b'{')?;
    std::str::from_utf8(&line[at + 1..]).ok()?.parse().ok()
}

impl<S: AsyncRead + Unpin> AsyncRead for Lines<S> {
    fn poll_read(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buffer: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        let before = buffer.filled().len();
        let polled = Pin::new(&mut self.inner).poll_read(cx, buffer);
        if let Poll::Ready(Ok(())) = &polled
            && let Err(error) = self.follow(&buffer.filled()[before..])
        {
            // Who is told of a failure is given nothing.
            buffer.set_filled(before);
            return Poll::Ready(Err(error));
        }
        polled
    }
}

impl<S: AsyncWrite + Unpin> AsyncWrite for Lines<S> {
    fn poll_write(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buffer: &[u8]) -> Poll<io::Result<usize>> {
        Pin::new(&mut self.inner).poll_write(cx, buffer)
    }

    fn poll_flush(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.inner).poll_flush(cx)
    }

    fn poll_shutdown(mut self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.inner).poll_shutdown(cx)
    }
}

/// Markup, read tag by tag: whoever reads it keeps each whole.
pub(crate) struct Markup<R> {
    inner: R,
    /// Bytes since the last tag ended.
    length: usize,
}

impl<R> Markup<R> {
    pub fn of(inner: R) -> Self {
        Self { inner, length: 0 }
    }
}

impl<R: AsyncRead + Unpin> AsyncRead for Markup<R> {
    fn poll_read(mut self: Pin<&mut Self>, cx: &mut Context<'_>, buffer: &mut ReadBuf<'_>) -> Poll<io::Result<()>> {
        Pin::new(&mut self.inner).poll_read(cx, buffer)
    }
}

impl<R: AsyncBufRead + Unpin> AsyncBufRead for Markup<R> {
    fn poll_fill_buf(self: Pin<&mut Self>, cx: &mut Context<'_>) -> Poll<io::Result<&[u8]>> {
        let this = self.get_mut();
        if this.length > LONGEST_TAG {
            return Poll::Ready(Err(endless("a tag")));
        }
        let length = &mut this.length;
        match Pin::new(&mut this.inner).poll_fill_buf(cx) {
            Poll::Ready(Ok(bytes)) => {
                if bytes.contains(&b'>') {
                    *length = 0;
                }
                Poll::Ready(Ok(bytes))
            }
            other => other,
        }
    }

    fn consume(self: Pin<&mut Self>, amount: usize) {
        let this = self.get_mut();
        this.length += amount;
        Pin::new(&mut this.inner).consume(amount);
    }
}

#[cfg(test)]
mod tests {
    use tokio::io::AsyncReadExt;

    use super::*;

    async fn read(text: &[u8]) -> io::Result<usize> {
        Lines::of(text).read_to_end(&mut Vec::new()).await
    }

    #[tokio::test]
    async fn lines_and_literals_pass_and_an_endless_line_does_not() {
        assert!(read(&b"* OK ready\r\n".repeat(200_000)).await.is_ok(), "many lines are no endless line");
        let letter = [&b"* 1 FETCH (BODY[] {3000000}\r\n"[..], &vec![b'x'; 3_000_000], b")\r\n"].concat();
        assert_eq!(read(&letter).await.unwrap(), letter.len());
        assert!(read(&vec![b'x'; LONGEST_LINE + 1]).await.is_err());
        assert!(read(b"* 1 FETCH (BODY[] {99999999999}\r\n").await.is_err());
        let after = [&letter[..], &vec![b'x'; LONGEST_LINE + 1]].concat();
        assert!(read(&after).await.is_err(), "behind a literal the bound counts again");
    }
}
