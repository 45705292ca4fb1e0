//! Making a file in the work folder. That folder is ours alone and what is not whole in it is worth
//! nothing to anybody, so a broken attempt is simply done again.

use std::{
    fs::{self, File, OpenOptions},
    io::{self, Write},
    os::unix::fs::{FileExt, OpenOptionsExt},
    path::{Path, PathBuf},
    sync::{
        Arc,
        mpsc::{SyncSender, sync_channel},
    },
    thread::JoinHandle,
};

use bytes::Bytes;
use wetbank_core::{FilePath, Filling, RelPath};
use wetbank_crypt::{Digests, Hashing};
use wetbank_journal::Intention;
use wetbank_places::{Place, WriteBehind};

use super::{
    outcome::{Attempt, Effect, Hand, StepDone},
    step::AtStep,
};

/// Bytes that are gathered before they are written.
const CHUNK: usize = 256 << 10;
/// Chunks that may wait for the disk.
const QUEUE: usize = 8;

impl AtStep<'_> {
    /// The step made this in the work folder, with these checksums and of this size in bytes: it is in
    /// hand from now on.
    pub(super) async fn made(
        &self,
        (id, attempt): (i64, &mut Attempt),
        name: RelPath,
        (digests, size): (Digests, u64),
        note: Option<String>,
    ) -> Effect<StepDone> {
        let path = self.work_path();
        let fingerprint = self.effects.work.folder.stat(&path).await?.fingerprint;
        let hand = Hand { place: None, path, name: name.clone(), fingerprint, ..self.hand.clone() };
        let also_named = Some(name.to_string());
        let target = FilePath { place: self.effects.work.folder.name().clone(), path: name };
        let (sha256, blake3) = (digests.sha256, Some(digests.blake3));
        let intention = Intention { attempt: id, intent: String::new(), target, size, sha256, blake3, output: None };
        self.intends(intention, attempt).await?;
        Ok(StepDone { attempt: Some(id), note, size: Some(size), also_named, ..StepDone::with(hand) })
    }
}

/// A new file that nobody but us may read.
pub(super) fn create_private(path: &Path) -> io::Result<File> {
    create(path, true)
}

/// A new file. In the work folder nobody else can read it; its mode tells whether anybody else may where it goes.
fn create(path: &Path, is_private: bool) -> io::Result<File> {
    OpenOptions::new().write(true).create(true).truncate(true).mode(mode(is_private)).open(path)
}

/// The permission bits of a file that is made.
pub(super) fn mode(is_private: bool) -> u32 {
    if is_private { 0o600 } else { 0o644 }
}

/// A file that is removed when this goes, unless it was renamed by then.
struct RemovedOnDrop(PathBuf);

impl Drop for RemovedOnDrop {
    fn drop(&mut self) {
        let _ = fs::remove_file(&self.0);
    }
}

/// A file being made. What is written is gathered, and from the second chunk on a thread of its
/// own hashes it and brings it to the disk, so that whoever makes it waits for neither.
pub(super) struct Making {
    part: RemovedOnDrop,
    last: PathBuf,
    gathered: Vec<u8>,
    size: u64,
    writing: Writing,
}

enum Writing {
    Here(Keeper),
    Beside {
        chunks: SyncSender<Bytes>,
        keeper: JoinHandle<io::Result<Keeper>>,
    },
    /// Why is told already.
    Failed,
}

/// What brings chunks to the disk.
struct Keeper {
    file: Arc<File>,
    filling: Filling,
    hashing: Hashing,
    behind: WriteBehind,
}

impl Keeper {
    fn keep(&mut self, chunk: &Bytes) -> io::Result<()> {
        self.filling.put(chunk, |bytes, at| self.file.write_all_at(bytes, at))?;
        self.behind.wrote(&self.file, chunk.len() as u64);
        self.hashing.update_blocking(chunk);
        Ok(())
    }
}

impl Making {
    /// A file that is called `part` until it is whole and `last` then.
    pub fn begin(part: PathBuf, last: PathBuf, is_private: bool) -> io::Result<Self> {
        let file = Arc::new(create(&part, is_private)?);
        let keeper = Keeper {
            file,
            filling: Filling::default(),
            hashing: Hashing::for_ourselves(),
            behind: WriteBehind::default(),
        };
        let (gathered, writing) = (Vec::new(), Writing::Here(keeper));
        Ok(Self { part: RemovedOnDrop(part), last, gathered, size: 0, writing })
    }

    /// Everything was written: it is brought to the disk and gets its last name. Tells the
    /// checksums and the size in bytes.
    pub fn finish(mut self) -> io::Result<(Digests, u64)> {
        let rest = Bytes::from(std::mem::take(&mut self.gathered));
        let mut keeper = match std::mem::replace(&mut self.writing, Writing::Failed) {
            Writing::Here(keeper) => keeper,
            Writing::Beside { chunks, keeper } => {
                drop(chunks);
                joined(keeper)?
            }
            Writing::Failed => return Err(gave_up()),
        };
        keeper.keep(&rest)?;
        keeper.filling.length_to_set().map_or(Ok(()), |length| keeper.file.set_len(length))?;
        keeper.behind.stop()?;
        keeper.file.sync_data()?;
        fs::rename(&self.part.0, &self.last)?;
        Ok((keeper.hashing.finish(), self.size))
    }

    fn pass_on(&mut self) -> io::Result<()> {
        let chunk = Bytes::from(std::mem::replace(&mut self.gathered, Vec::with_capacity(CHUNK)));
        let (chunks, keeper) = match std::mem::replace(&mut self.writing, Writing::Failed) {
            Writing::Here(keeper) => beside(keeper),
            Writing::Beside { chunks, keeper } => (chunks, keeper),
            Writing::Failed => return Err(gave_up()),
        };
        if chunks.send(chunk).is_err() {
            // It ended early, so it failed.
            return joined(keeper).and_then(|_| Err(gave_up()));
        }
        self.writing = Writing::Beside { chunks, keeper };
        Ok(())
    }
}

fn beside(mut keeper: Keeper) -> (SyncSender<Bytes>, JoinHandle<io::Result<Keeper>>) {
    let (chunks, queue) = sync_channel::<Bytes>(QUEUE);
    let keeper = std::thread::spawn(move || {
        for chunk in queue {
            keeper.keep(&chunk)?;
        }
        Ok(keeper)
    });
    (chunks, keeper)
}

fn joined(keeper: JoinHandle<io::Result<Keeper>>) -> io::Result<Keeper> {
    keeper.join().unwrap_or_else(|_| Err(gave_up()))
}

fn gave_up() -> io::Error {
    io::Error::other("writing broke off")
}

impl Write for Making {
    fn write(&mut self, buffer: &[u8]) -> io::Result<usize> {
        self.gathered.extend_from_slice(buffer);
        self.size += buffer.len() as u64;
        if self.gathered.len() >= CHUNK {
            self.pass_on()?;
        }
        Ok(buffer.len())
    }

    /// Nothing is asked of what is not finished.
    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn paths() -> (tempfile::TempDir, PathBuf, PathBuf) {
        let folder = tempfile::tempdir().unwrap();
        let (part, last) = (folder.path().join("7.part"), folder.path().join("7"));
        (folder, part, last)
    }

    #[test]
    fn files_of_every_length_are_whole_hashed_and_private() {
        use std::os::unix::fs::PermissionsExt;
        for length in [0, 1, CHUNK - 1, CHUNK, CHUNK + 1, 5 * CHUNK, 24 * CHUNK + 77] {
            let (_folder, part, last) = paths();
            let content: Vec<u8> = (0..length).map(|at| (at % 251) as u8).collect();
            let mut making = Making::begin(part.clone(), last.clone(), true).unwrap();
            for piece in content.chunks(100_003) {
                making.write_all(piece).unwrap();
            }
            assert!(!last.exists(), "it has its name only when it is whole");
            let (digests, size) = making.finish().unwrap();
            assert_eq!(size, length as u64);
            assert!(fs::read(&last).unwrap() == content, "{length} bytes");
            assert_eq!(digests.blake3, blake3(&content));
            assert_eq!(fs::metadata(&last).unwrap().permissions().mode() & 0o777, 0o600);
            assert!(!part.exists());
        }
    }

    fn blake3(content: &[u8]) -> String {
        let mut hashing = Hashing::for_ourselves();
        hashing.update_slice(content);
        hashing.finish().blake3
    }

    #[test]
    fn what_is_given_up_leaves_nothing() {
        let (folder, part, last) = paths();
        let mut making = Making::begin(part, last, false).unwrap();
        making.write_all(&vec![7; 3 * CHUNK]).unwrap();
        drop(making);
        assert_eq!(fs::read_dir(folder.path()).unwrap().count(), 0);
    }

    #[test]
    fn a_disk_that_takes_no_more_is_told_and_nothing_is_made() {
        let (_folder, _, last) = paths();
        let full = || {
            let file = Arc::new(OpenOptions::new().write(true).open("/dev/full").unwrap());
            let (filling, behind) = (Filling::default(), WriteBehind::default());
            let keeper = Keeper { file, filling, hashing: Hashing::for_ourselves(), behind };
            let (part, gathered) = (RemovedOnDrop(last.with_extension("part")), Vec::new());
            Making { part, last: last.clone(), gathered, size: 0, writing: Writing::Here(keeper) }
        };
        let is_full = |error: &io::Error| error.kind() == io::ErrorKind::StorageFull;
        let mut small = full();
        small.write_all(b"a line").unwrap();
        assert!(small.finish().is_err_and(|error| is_full(&error)));
        let mut large = full();
        let failed = (0..100).find_map(|_| large.write_all(&vec![7; CHUNK]).err()).expect("the thread's failure");
        assert!(is_full(&failed), "{failed}");
        assert!(large.write_all(&vec![7; CHUNK]).is_err(), "it stays broken");
        assert!(large.finish().is_err());
        assert!(!last.exists());
    }
}
