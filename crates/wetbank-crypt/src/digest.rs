//! SHA-256 and BLAKE3 of a stream in one pass.

use aws_lc_rs::digest::{Context, SHA256};
use bytes::Bytes;
use tokio::sync::mpsc;

/// Chunks that may wait for the hashing thread; more would only hold memory.
const QUEUE: usize = 4;
/// From this many bytes on, hashing moves to a thread of its own, beside reading and writing.
const ALONE_FROM: u64 = 1 << 20;

/// The checksums of a whole file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Digests {
    /// SHA-256 in lower-case hexadecimal: what people and partners compare. Not taken of what
    /// nobody but us sees.
    pub sha256: Option<String>,
    /// BLAKE3 in lower-case hexadecimal: what we compare.
    pub blake3: String,
}

/// A checksum that goes on from chunk to chunk.
trait Sum: Send + 'static {
    fn add(&mut self, chunk: &[u8]);
}

impl Sum for blake3::Hasher {
    fn add(&mut self, chunk: &[u8]) {
        self.update(chunk);
    }
}

impl Sum for Context {
    fn add(&mut self, chunk: &[u8]) {
        self.update(chunk);
    }
}

/// Where one checksum is taken: where the chunks come by, or on a thread beside it, which lives
/// until the sender is dropped.
struct Lane<S> {
    here: Option<Box<S>>,
    beside: Option<(mpsc::Sender<Bytes>, std::thread::JoinHandle<Box<S>>)>,
}

impl<S: Sum> Lane<S> {
    fn new(sum: S) -> Self {
        Self { here: Some(Box::new(sum)), beside: None }
    }

    /// Goes on, on a thread of its own.
    fn move_beside(&mut self) {
        let Some(mut sum) = self.here.take() else { return };
        let (chunks, mut queue) = mpsc::channel::<Bytes>(QUEUE);
        let worker = std::thread::spawn(move || {
            while let Some(chunk) = queue.blocking_recv() {
                sum.add(&chunk);
            }
            sum
        });
        self.beside = Some((chunks, worker));
    }

    async fn update(&mut self, chunk: &Bytes) {
        match (&mut self.here, &self.beside) {
            (Some(sum), _) => sum.add(chunk),
            (None, Some((chunks, _))) => drop(chunks.send(chunk.clone()).await),
            (None, None) => {}
        }
    }

    fn update_blocking(&mut self, chunk: &Bytes) {
        match (&mut self.here, &self.beside) {
            (Some(sum), _) => sum.add(chunk),
            (None, Some((chunks, _))) => drop(chunks.blocking_send(chunk.clone())),
            (None, None) => {}
        }
    }

    fn finish(self) -> S {
        let beside = self.beside.map(|(chunks, worker)| {
            drop(chunks);
            worker.join().expect("hashing has nothing that panics")
        });
        *self.here.or(beside).expect("a checksum is taken here or beside")
    }
}

/// A stream being hashed: where it is read, and from some length on each checksum on a thread
/// beside it, so that reading, hashing and writing do not wait for each other. (SHA-256 without
/// instructions for it takes several times as long as everything else; the assembly of AWS-LC
/// is a few times as fast there as portable code, and as fast where the processor has them.)
pub struct Hashing {
    seen: u64,
    blake3: Lane<blake3::Hasher>,
    sha256: Option<Lane<Context>>,
}

impl std::fmt::Debug for Hashing {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Hashing").field("seen", &self.seen).finish_non_exhaustive()
    }
}

impl Default for Hashing {
    fn default() -> Self {
        Self::with_sha256(true)
    }
}

impl Hashing {
    /// For what stays with us: BLAKE3 alone.
    pub fn for_ourselves() -> Self {
        Self::with_sha256(false)
    }

    /// With or without the SHA-256.
    pub fn with_sha256(wanted: bool) -> Self {
        let sha256 = wanted.then(|| Lane::new(Context::new(&SHA256)));
        Self { seen: 0, blake3: Lane::new(blake3::Hasher::new()), sha256 }
    }

    fn count(&mut self, length: usize) {
        self.seen += length as u64;
        if self.seen >= ALONE_FROM {
            self.blake3.move_beside();
            self.sha256.iter_mut().for_each(Lane::move_beside);
        }
    }

    /// Adds the next chunk, from async code.
    pub async fn update(&mut self, chunk: &Bytes) {
        self.count(chunk.len());
        if let Some(sha256) = &mut self.sha256 {
            sha256.update(chunk).await;
        }
        self.blake3.update(chunk).await;
    }

    /// Adds the next chunk, from a blocking thread.
    pub fn update_blocking(&mut self, chunk: &Bytes) {
        self.count(chunk.len());
        if let Some(sha256) = &mut self.sha256 {
            sha256.update_blocking(chunk);
        }
        self.blake3.update_blocking(chunk);
    }

    /// Adds a chunk that is not kept elsewhere, from a blocking thread.
    pub fn update_slice(&mut self, chunk: &[u8]) {
        self.update_blocking(&Bytes::copy_from_slice(chunk));
    }

    /// The checksums of all chunks. May wait a moment for the threads: call it where that is fine.
    pub fn finish(self) -> Digests {
        let sha256 = self.sha256.map(|lane| hex::encode(lane.finish().finish()));
        Digests { sha256, blake3: self.blake3.finish().finalize().to_hex().to_string() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn known_checksums_of_small_and_large_streams() {
        let mut small = Hashing::default();
        small.update_slice(b"abc");
        let known = "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad";
        assert_eq!(small.finish().sha256.as_deref(), Some(known));
        // In chunks that cross over to the thread, and at once.
        let (mut large, mut whole) = (Hashing::default(), Hashing::default());
        let chunk = Bytes::from(vec![b'a'; 50_000]);
        for _ in 0..40 {
            large.update_blocking(&chunk);
        }
        whole.update_slice(&vec![b'a'; 2_000_000]);
        assert_eq!(large.finish(), whole.finish());
    }

    #[test]
    fn what_stays_with_us_has_the_same_blake3_and_no_sha256() {
        let (mut ours, mut theirs) = (Hashing::for_ourselves(), Hashing::default());
        for _ in 0..3 {
            ours.update_slice(&vec![7; 700_000]);
            theirs.update_slice(&vec![7; 700_000]);
        }
        let (ours, theirs) = (ours.finish(), theirs.finish());
        assert_eq!(ours.blake3, theirs.blake3);
        assert!(ours.sha256.is_none() && theirs.sha256.is_some());
    }
}
