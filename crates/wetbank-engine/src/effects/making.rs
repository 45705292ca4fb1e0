//! Making a file in the work folder. That folder is ours alone and what is not whole in it is worth
//! nothing to anybody, so a broken attempt is simply done again.

use std::{
    fs::{self, File, OpenOptions},
    io::{self, Seek, SeekFrom, Write},
    os::unix::fs::{FileExt, OpenOptionsExt},
    path::{Path, PathBuf},
    sync::{
        Arc,
        mpsc::{SyncSender, sync_channel},
    },
    thread::JoinHandle,
};

use bytes::Bytes;
use wetbank_core::Filling;
use wetbank_crypt::{Digests, Hashing};
use wetbank_places::WriteBehind;

use super::{checksums::each_chunk, outcome::FailureKind};

/// Bytes that are gathered before they are written.
const CHUNK: usize = 256 << 10;
/// Chunks that may wait for the disk.
const QUEUE: usize = 8;

/// What the disk of the work folder refuses.
impl From<io::Error> for FailureKind {
    fn from(error: io::Error) -> Self {
        Self::Passing {
            code: "work-folder".to_owned(),
            why: format!("cannot write the work folder: {error}"),
            remedy: "Free space on the disk that holds Wetbank's data folder.".to_owned(),
        }
    }
}

/// A new file that nobody but us may read.
pub(super) fn create_private(path: &Path) -> io::Result<File> {
    create(path, true)
}

/// A new file. In the work folder nobody else can read it; its mode tells whether anybody else may where it goes.
fn create(path: &Path, is_private: bool) -> io::Result<File> {
    OpenOptions::new().read(true).write(true).create(true).truncate(true).mode(mode(is_private)).open(path)
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
/// own hashes it and brings it to the disk, so that whoever makes it waits for neither. What goes
/// back to correct what it wrote (an archive does, once it knows how long a member became) has its
/// checksums counted again at the end.
pub(super) struct Making {
    part: RemovedOnDrop,
    last: PathBuf,
    gathered: Vec<u8>,
    size: u64,
    /// Where the next byte goes, if that is not the end.
    back_at: Option<u64>,
    is_corrected: bool,
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
        let part = RemovedOnDrop(part);
        Ok(Self { part, last, gathered, size: 0, back_at: None, is_corrected: false, writing })
    }

    /// Everything was written: it is brought to the disk and gets its last name. Tells the
    /// checksums and the size in bytes.
    pub fn finish(mut self) -> io::Result<(Digests, u64)> {
        let mut keeper = self.keeper()?;
        keeper.filling.length_to_set().map_or(Ok(()), |length| keeper.file.set_len(length))?;
        keeper.behind.stop()?;
        keeper.file.sync_data()?;
        if self.is_corrected {
            keeper.hashing = Hashing::for_ourselves();
            each_chunk(&mut File::open(&self.part.0)?, |chunk| keeper.hashing.update_slice(chunk))?;
        }
        fs::rename(&self.part.0, &self.last)?;
        Ok((keeper.hashing.finish(), self.size))
    }

    /// What brings chunks to the disk, once everything that was written so far is there.
    fn keeper(&mut self) -> io::Result<Keeper> {
        let mut keeper = match std::mem::replace(&mut self.writing, Writing::Failed) {
            Writing::Here(keeper) => keeper,
            Writing::Beside { chunks, keeper } => {
                drop(chunks);
                joined(keeper)?
            }
            Writing::Failed => return Err(gave_up()),
        };
        keeper.keep(&Bytes::from(std::mem::take(&mut self.gathered)))?;
        Ok(keeper)
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
        if let Some(at) = self.back_at {
            return self.correct(at, buffer);
        }
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

impl Making {
    /// Writes over what is there, as far as something is there.
    fn correct(&mut self, at: u64, buffer: &[u8]) -> io::Result<usize> {
        let Writing::Here(keeper) = &self.writing else { return Err(gave_up()) };
        let room = usize::try_from(self.size - at).unwrap_or(usize::MAX);
        let buffer = &buffer[..buffer.len().min(room)];
        keeper.file.write_all_at(buffer, at)?;
        self.is_corrected = true;
        let next = at + buffer.len() as u64;
        self.back_at = (next < self.size).then_some(next);
        Ok(buffer.len())
    }
}

impl Seek for Making {
    /// Only to what was written: nothing is left out.
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let now = self.back_at.unwrap_or(self.size);
        let wanted = match to {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::Current(by) => now.checked_add_signed(by),
            SeekFrom::End(by) => self.size.checked_add_signed(by),
        };
        let at = wanted.filter(|at| *at <= self.size);
        let at = at.ok_or_else(|| io::Error::new(io::ErrorKind::InvalidInput, "nothing was written there"))?;
        if at < self.size && self.back_at.is_none() {
            let keeper = self.keeper()?;
            self.writing = Writing::Here(keeper);
        }
        self.back_at = (at < self.size).then_some(at);
        Ok(at)
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
    fn what_is_corrected_is_whole_and_its_checksums_are_of_what_is_there() {
        for length in [10, CHUNK + 5, 5 * CHUNK] {
            let (_folder, part, last) = paths();
            let mut content: Vec<u8> = (0..length).map(|at| (at % 251) as u8).collect();
            let mut making = Making::begin(part, last.clone(), true).unwrap();
            making.write_all(&content).unwrap();
            assert_eq!(making.seek(SeekFrom::Start(4)).unwrap(), 4);
            making.write_all(b"corrected, and on").unwrap();
            let end = making.seek(SeekFrom::End(0)).unwrap();
            making.write_all(b"more").unwrap();
            assert!(making.seek(SeekFrom::Start(end + 5)).is_err(), "nothing is left out");
            let correction = b"corrected, and on";
            if content.len() < 4 + correction.len() {
                content.resize(4 + correction.len(), 0);
            }
            content[4..4 + correction.len()].copy_from_slice(correction);
            content.extend_from_slice(b"more");
            let (digests, size) = making.finish().unwrap();
            assert_eq!((size, digests.blake3), (content.len() as u64, blake3(&content)));
            assert!(fs::read(&last).unwrap() == content, "{length} bytes");
        }
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
            let writing = Writing::Here(keeper);
            Making { part, last: last.clone(), gathered, size: 0, back_at: None, is_corrected: false, writing }
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
