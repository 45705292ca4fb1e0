//! SHA-256 and BLAKE3 of a stream in one pass.

use aws_lc_rs::digest::{Context, SHA256};
use bytes::Bytes;
use tokio::sync::mpsc;

/// Chunks that may wait for the hashing thread; more would only hold memory.
const QUEUE: usize = 8;
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

/// A stream being hashed: BLAKE3 where it is read, SHA-256 of a large one on a thread beside it,
/// because that takes several times as long as everything else. (The assembly of AWS-LC is a few
/// times as fast as portable code where the processor has no SHA instructions, and as fast where
/// it has.)
#[derive(Debug)]
pub struct Hashing {
    seen: u64,
    blake3: Box<blake3::Hasher>,
    sha256: Sha256,
}

enum Sha256 {
    Unwanted,
    Here(Context),
    Thread { chunks: mpsc::Sender<Bytes>, worker: std::thread::JoinHandle<Context> },
}

impl std::fmt::Debug for Sha256 {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Sha256")
    }
}

impl Default for Hashing {
    fn default() -> Self {
        Self { seen: 0, blake3: Box::default(), sha256: Sha256::Here(Context::new(&SHA256)) }
    }
}

impl Hashing {
    /// For what stays with us: BLAKE3 alone.
    pub fn for_ourselves() -> Self {
        Self { sha256: Sha256::Unwanted, ..Self::default() }
    }

    /// With or without the SHA-256.
    pub fn with_sha256(wanted: bool) -> Self {
        if wanted { Self::default() } else { Self::for_ourselves() }
    }

    fn count(&mut self, chunk: &[u8]) {
        self.blake3.update(chunk);
        self.seen += chunk.len() as u64;
        if self.seen < ALONE_FROM {
            return;
        }
        if let Sha256::Here(context) = &mut self.sha256 {
            let mut context = std::mem::replace(context, Context::new(&SHA256));
            let (chunks, mut queue) = mpsc::channel::<Bytes>(QUEUE);
            let worker = std::thread::spawn(move || {
                while let Some(chunk) = queue.blocking_recv() {
                    context.update(&chunk);
                }
                context
            });
            self.sha256 = Sha256::Thread { chunks, worker };
        }
    }

    /// Adds the next chunk, from async code.
    pub async fn update(&mut self, chunk: Bytes) {
        self.count(&chunk);
        match &mut self.sha256 {
            Sha256::Unwanted => {}
            Sha256::Here(context) => context.update(&chunk),
            // The thread lives until the sender is dropped.
            Sha256::Thread { chunks, .. } => drop(chunks.send(chunk).await),
        }
    }

    /// Adds the next chunk, from a blocking thread.
    pub fn update_blocking(&mut self, chunk: Bytes) {
        self.count(&chunk);
        match &mut self.sha256 {
            Sha256::Unwanted => {}
            Sha256::Here(context) => context.update(&chunk),
            Sha256::Thread { chunks, .. } => drop(chunks.blocking_send(chunk)),
        }
    }

    /// Adds a chunk that is not kept elsewhere, from a blocking thread.
    pub fn update_slice(&mut self, chunk: &[u8]) {
        if matches!(self.sha256, Sha256::Unwanted) {
            self.count(chunk);
        } else {
            self.update_blocking(Bytes::copy_from_slice(chunk));
        }
    }

    /// The checksums of all chunks. May wait a moment for the thread: call it where that is fine.
    pub fn finish(self) -> Digests {
        let sha256 = match self.sha256 {
            Sha256::Unwanted => None,
            Sha256::Here(context) => Some(context),
            Sha256::Thread { chunks, worker } => {
                drop(chunks);
                Some(worker.join().expect("hashing has nothing that panics"))
            }
        };
        Digests { sha256: sha256.map(hexadecimal), blake3: self.blake3.finalize().to_hex().to_string() }
    }
}

fn hexadecimal(context: Context) -> String {
    use std::fmt::Write;
    let mut text = String::with_capacity(64);
    for byte in context.finish().as_ref() {
        let _ = write!(text, "{byte:02x}");
    }
    text
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
            large.update_blocking(chunk.clone());
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
