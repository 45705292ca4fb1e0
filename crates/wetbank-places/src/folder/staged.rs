//! Writing a file of this machine.

use std::{fs::File, os::unix::fs::FileExt, sync::Arc};

use async_trait::async_trait;
use bytes::Bytes;
use tokio::task::JoinHandle;
use wetbank_core::{Filling, RelPath};

use super::{CHUNK, Folder, copy::WriteBehind};
use crate::{Entry, Staged, blocking, place::Result};

/// A file of this machine that is being written under its temporary name. Chunks are gathered, so
/// that a network's many small ones cost few crossings to a thread.
pub(super) struct StagedFile {
    folder: Folder,
    path: RelPath,
    file: Arc<File>,
    gathered: Vec<Bytes>,
    gathered_bytes: usize,
    /// What is being written: at most one batch, while the next one is gathered.
    writing: Option<JoinHandle<std::io::Result<Written>>>,
    written: Written,
}

/// How far it is written, and what of it is still on its way to the disk.
#[derive(Default)]
struct Written {
    filling: Filling,
    behind: WriteBehind,
}

/// Chunks that are written one behind the other.
struct Batch {
    file: Arc<File>,
    chunks: Vec<Bytes>,
    written: Written,
}

impl Batch {
    fn write(mut self) -> std::io::Result<Written> {
        for chunk in self.chunks {
            self.written.filling.put(&chunk, |bytes, at| self.file.write_all_at(bytes, at))?;
            self.written.behind.wrote(&self.file, chunk.len() as u64);
        }
        Ok(self.written)
    }
}

impl StagedFile {
    pub fn new(folder: Folder, path: RelPath, file: File, at: u64) -> Self {
        let written = Written { filling: Filling::behind(at), behind: WriteBehind::default() };
        Self { folder, path, file: Arc::new(file), gathered: Vec::new(), gathered_bytes: 0, writing: None, written }
    }

    /// Takes the gathered batch.
    fn batch(&mut self) -> Batch {
        self.gathered_bytes = 0;
        let (chunks, written) = (std::mem::take(&mut self.gathered), std::mem::take(&mut self.written));
        Batch { file: self.file.clone(), chunks, written }
    }

    /// Waits for the batch that is being written.
    async fn written(&mut self) -> Result<()> {
        let Some(writing) = &mut self.writing else { return Ok(()) };
        let outcome = writing.await.unwrap_or_else(|error| Err(std::io::Error::other(error)));
        self.writing = None;
        self.written = outcome.map_err(|e| self.folder.error("write", &self.path, &e))?;
        Ok(())
    }
}

#[async_trait]
impl Staged for StagedFile {
    async fn write(&mut self, chunk: Bytes) -> Result<()> {
        self.gathered_bytes += chunk.len();
        self.gathered.push(chunk);
        if self.gathered_bytes >= CHUNK {
            self.written().await?;
            let batch = self.batch();
            self.writing = Some(tokio::spawn(blocking::run(move || batch.write())));
        }
        Ok(())
    }

    async fn finish(mut self: Box<Self>) -> Result<Entry> {
        self.written().await?;
        let (path, file, batch) = (self.path.clone(), self.file.clone(), self.batch());
        self.folder
            .run("write", &self.path, move |inner| {
                let Written { filling, mut behind } = batch.write()?;
                filling.length_to_set().map_or(Ok(()), |length| file.set_len(length))?;
                behind.stop()?;
                file.sync_data()?;
                Ok(inner.entry(path, &file.metadata()?))
            })
            .await
    }
}

#[cfg(test)]
mod tests {
    use wetbank_core::Name;

    use super::*;
    use crate::{Place, PlaceErrorKind};

    fn staged(file: File, at: u64) -> Box<StagedFile> {
        let folder = Folder::new(Name::new("here").unwrap(), std::env::temp_dir());
        Box::new(StagedFile::new(folder, RelPath::parse("levels.csv").unwrap(), file, at))
    }

    #[tokio::test]
    async fn chunks_of_any_length_lie_one_behind_the_other() {
        for length in [1, 7_001, CHUNK - 1, CHUNK, CHUNK + 1] {
            let file = tempfile::NamedTempFile::new().unwrap();
            file.as_file().write_all_at(b"kept", 0).unwrap();
            let mut staged = staged(file.reopen().unwrap(), 4);
            let count = (3 * CHUNK / length).clamp(3, 2_000);
            let mut expected = b"kept".to_vec();
            for number in 0..count {
                let chunk = vec![(number % 251) as u8; length];
                expected.extend_from_slice(&chunk);
                staged.write(chunk.into()).await.unwrap();
            }
            let entry = staged.finish().await.unwrap();
            assert!(std::fs::read(file.path()).unwrap() == expected, "{count} chunks of {length}");
            assert_eq!(entry.fingerprint.size, expected.len() as u64);
        }
    }

    #[tokio::test]
    async fn a_disk_that_takes_no_more_is_told_before_the_file_is_finished() {
        let full = || std::fs::OpenOptions::new().write(true).open("/dev/full").unwrap();
        let mut large = staged(full(), 0);
        let mut failed = None;
        for _ in 0..10 {
            failed = failed.or(large.write(vec![7; CHUNK].into()).await.err());
        }
        assert_eq!(failed.expect("it does not go on for ever").kind, PlaceErrorKind::NoSpace);
        let mut small = staged(full(), 0);
        small.write(Bytes::from_static(b"2.31")).await.unwrap();
        assert_eq!(small.finish().await.unwrap_err().kind, PlaceErrorKind::NoSpace);
    }

    #[tokio::test]
    async fn a_batch_of_another_file_is_not_waited_for() {
        let root = tempfile::tempdir().unwrap();
        let folder = Folder::new(Name::new("here").unwrap(), root.path());
        let (part, whole) = (RelPath::parse(".part").unwrap(), RelPath::parse("levels.csv").unwrap());
        let mut given_up = folder.stage(&part, &whole, None).await.unwrap();
        given_up.write(vec![1; 2 * CHUNK].into()).await.unwrap();
        drop(given_up);
        let mut staged = folder.stage(&part, &whole, None).await.unwrap();
        staged.write(Bytes::from_static(b"2.31")).await.unwrap();
        staged.finish().await.unwrap();
        assert_eq!(std::fs::read(root.path().join(".part")).unwrap(), b"2.31", "nothing of the one before it");
    }
}
