//! A file's content, read a little ahead of whoever uses it.

use bytes::Bytes;
use futures_util::StreamExt;
use tokio::sync::mpsc;
use tokio_util::task::AbortOnDropHandle;
use wetbank_core::RelPath;

use crate::{Place, PlaceError, PlaceErrorKind, ReadStream, place::Result};

/// Chunks that are read before they are used.
const AHEAD: usize = 2;

/// A file's content, read by a task of its own that ends with this.
#[derive(Debug)]
pub struct Ahead {
    /// An empty chunk says that the file ends here.
    chunks: mpsc::Receiver<Result<Bytes>>,
    /// What is told if the task ends without a word.
    broke_off: PlaceError,
    _reader: AbortOnDropHandle<()>,
}

impl Ahead {
    /// Begins to read the whole file.
    ///
    /// # Errors
    ///
    /// As [`Place::read`].
    pub async fn open(place: &dyn Place, path: &RelPath) -> Result<Self> {
        let content = place.read(path, 0).await?;
        let (kind, detail) = (PlaceErrorKind::Interrupted, "reading broke off".to_owned());
        let broke_off =
            PlaceError { kind, place: place.name().clone(), call: "read", path: path.clone(), detail, secret: None };
        Ok(Self::of(content, broke_off))
    }

    fn of(content: ReadStream, broke_off: PlaceError) -> Self {
        let (sender, chunks) = mpsc::channel(AHEAD);
        Self { chunks, broke_off, _reader: AbortOnDropHandle::new(tokio::spawn(pass_on(content, sender))) }
    }

    /// The next chunk, or nothing when the file ended. A failure stays one: after it there is
    /// never an end.
    pub async fn next(&mut self) -> Result<Option<Bytes>> {
        let chunk = self.chunks.recv().await;
        self.judge(chunk)
    }

    /// The same, from a blocking thread.
    pub fn blocking_next(&mut self) -> Result<Option<Bytes>> {
        let chunk = self.chunks.blocking_recv();
        self.judge(chunk)
    }

    /// Silence is no end: a task that broke off must not make a file look whole.
    fn judge(&self, chunk: Option<Result<Bytes>>) -> Result<Option<Bytes>> {
        let chunk = chunk.unwrap_or_else(|| Err(self.broke_off.clone()))?;
        Ok((!chunk.is_empty()).then_some(chunk))
    }
}

async fn pass_on(mut content: ReadStream, chunks: mpsc::Sender<Result<Bytes>>) {
    while let Some(chunk) = content.next().await {
        if chunk.as_ref().is_ok_and(Bytes::is_empty) {
            continue;
        }
        let is_broken = chunk.is_err();
        // Whoever reads may have given up.
        if chunks.send(chunk).await.is_err() || is_broken {
            return;
        }
    }
    let _ = chunks.send(Ok(Bytes::new())).await;
}

#[cfg(test)]
mod tests {
    use futures_util::stream;
    use wetbank_core::Name;

    use super::*;

    fn error(detail: &str) -> PlaceError {
        let (kind, path) = (PlaceErrorKind::Interrupted, RelPath::parse("in/gauge-07.csv").unwrap());
        PlaceError {
            kind,
            place: Name::new("server").unwrap(),
            call: "read",
            path,
            detail: detail.to_owned(),
            secret: None,
        }
    }

    fn ahead(content: ReadStream) -> Ahead {
        Ahead::of(content, error("reading broke off"))
    }

    async fn all(ahead: &mut Ahead) -> Result<Vec<u8>> {
        let mut all = Vec::new();
        while let Some(chunk) = ahead.next().await? {
            all.extend_from_slice(&chunk);
        }
        Ok(all)
    }

    #[tokio::test]
    async fn chunks_come_in_their_order_and_an_empty_one_is_no_end() {
        let chunks = ["water ", "", "level", "", " 2.31"].map(|chunk| Ok(Bytes::from(chunk)));
        let mut ahead = ahead(stream::iter(chunks).boxed());
        assert_eq!(all(&mut ahead).await.unwrap(), b"water level 2.31");
    }

    #[tokio::test]
    async fn after_a_failure_there_is_no_end() {
        let chunks = [Ok(Bytes::from("water ")), Err(error("the server is gone")), Ok(Bytes::from("level"))];
        let mut ahead = ahead(stream::iter(chunks).boxed());
        assert_eq!(all(&mut ahead).await.unwrap_err().detail, "the server is gone");
        for _ in 0..3 {
            assert_eq!(ahead.next().await.unwrap_err().detail, "reading broke off");
        }
    }

    #[tokio::test]
    async fn a_task_that_breaks_off_makes_no_file_look_whole() {
        let chunks = stream::iter([1, 2]).map(|number| match number {
            1 => Ok(Bytes::from("water ")),
            _ => panic!("as a fault in a reader would"),
        });
        let mut ahead = ahead(chunks.boxed());
        assert_eq!(all(&mut ahead).await.unwrap_err().detail, "reading broke off");
    }
}
