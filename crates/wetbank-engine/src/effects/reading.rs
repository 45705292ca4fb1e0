//! A place's file as a blocking reader.

use std::{
    io::{self, Read},
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering},
    },
};

use bytes::{Buf, Bytes};
use parking_lot::Mutex;
use tokio_util::sync::CancellationToken;
use wetbank_core::{Fingerprint, RelPath};
use wetbank_places::{Ahead, Place, PlaceError};

/// A file to read.
pub(crate) struct Source {
    pub place: Arc<dyn Place>,
    pub path: RelPath,
    /// The state in which it was decided upon.
    pub fingerprint: Fingerprint,
}

impl Source {
    /// Whether it lies on this machine and nobody but its owner may read it.
    pub async fn is_private(&self) -> Result<bool, PlaceError> {
        match self.place.as_folder() {
            Some(folder) => folder.is_private(&self.path).await,
            None => Ok(false),
        }
    }
}

/// Where a failure of the place is told once reading has failed, because the reader's user can
/// only pass on that it did.
#[derive(Debug, Clone, Default)]
pub(crate) struct Broken(Arc<Mutex<Option<PlaceError>>>);

impl Broken {
    /// The failure, if there was one.
    pub fn check(&self) -> Result<(), PlaceError> {
        self.0.lock().take().map_or(Ok(()), Err)
    }
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum State {
    Open,
    Over,
    Broken,
}

/// A place's file as a blocking reader, counted as it is read.
pub(crate) struct Reading {
    ahead: Ahead,
    chunk: Bytes,
    state: State,
    done: Arc<AtomicU64>,
    broken: Broken,
    stop: Option<CancellationToken>,
}

impl Reading {
    pub async fn open(source: &Source, done: Arc<AtomicU64>) -> Result<Self, PlaceError> {
        let ahead = Ahead::open(source.place.as_ref(), &source.path).await?;
        Ok(Self { ahead, chunk: Bytes::new(), state: State::Open, done, broken: Broken::default(), stop: None })
    }

    /// The same; it breaks off when it is to stop.
    pub fn until(self, stop: &CancellationToken) -> Self {
        Self { stop: Some(stop.clone()), ..self }
    }

    pub fn broken(&self) -> Broken {
        self.broken.clone()
    }

    fn take_next(&mut self) -> io::Result<()> {
        match self.ahead.blocking_next() {
            Ok(Some(chunk)) => self.chunk = chunk,
            Ok(None) => self.state = State::Over,
            Err(error) => {
                *self.broken.0.lock() = Some(error);
                self.state = State::Broken;
                return Err(io::ErrorKind::Interrupted.into());
            }
        }
        Ok(())
    }
}

impl Read for Reading {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        if self.stop.as_ref().is_some_and(CancellationToken::is_cancelled) {
            return Err(io::Error::other("it is to stop"));
        }
        match self.state {
            State::Open if self.chunk.is_empty() => self.take_next()?,
            // Many readers try again what was only interrupted; they must not find an end.
            State::Broken => return Err(io::Error::other("reading broke off")),
            State::Open | State::Over => {}
        }
        let read = self.chunk.len().min(buffer.len());
        self.chunk.copy_to_slice(&mut buffer[..read]);
        self.done.fetch_add(read as u64, Ordering::Relaxed);
        Ok(read)
    }
}

#[cfg(test)]
mod tests {
    use wetbank_core::Name;
    use wetbank_places::{Folder, PlaceErrorKind};

    use super::*;

    async fn source(content: &[u8]) -> (tempfile::TempDir, Source) {
        let root = tempfile::tempdir().unwrap();
        std::fs::write(root.path().join("gauge-07.csv"), content).unwrap();
        let place = Arc::new(Folder::new(Name::new("here").unwrap(), root.path()));
        let path = RelPath::parse("gauge-07.csv").unwrap();
        let fingerprint = place.stat(&path).await.unwrap().fingerprint;
        (root, Source { place, path, fingerprint })
    }

    async fn read_all(mut reading: Reading) -> (io::Result<Vec<u8>>, Broken, u64) {
        tokio::task::spawn_blocking(move || {
            let mut all = Vec::new();
            let read = reading.read_to_end(&mut all).map(|_| all);
            (read, reading.broken(), reading.done.load(Ordering::Relaxed))
        })
        .await
        .unwrap()
    }

    #[tokio::test]
    async fn a_file_is_read_whole_and_counted() {
        for length in [0, 1, 300_000, 1_048_576] {
            let content: Vec<u8> = (0..length).map(|at| (at % 251) as u8).collect();
            let (_root, source) = source(&content).await;
            let (all, broken, done) = read_all(Reading::open(&source, Arc::default()).await.unwrap()).await;
            assert!(all.unwrap() == content, "{length} bytes");
            assert!(broken.check().is_ok());
            assert_eq!(done, length as u64);
        }
    }

    #[tokio::test]
    async fn a_reader_that_tries_again_finds_no_end_after_a_failure() {
        let (_root, source) = source(&vec![7; 4 << 20]).await;
        let reading = Reading::open(&source, Arc::default()).await.unwrap();
        let broken = reading.broken();
        let Reading { ahead, chunk, done, .. } = reading;
        // As after a failure that was told once.
        let mut reading = Reading { ahead, chunk, done, state: State::Broken, broken: broken.clone(), stop: None };
        let fault = PlaceError {
            kind: PlaceErrorKind::Interrupted,
            place: source.place.name().clone(),
            call: "read",
            path: source.path.clone(),
            detail: "the server is gone".to_owned(),
            secret: None,
        };
        *broken.0.lock() = Some(fault);
        let mut all = Vec::new();
        assert!(reading.read_to_end(&mut all).is_err());
        assert_eq!(broken.check().unwrap_err().detail, "the server is gone");
    }
}
