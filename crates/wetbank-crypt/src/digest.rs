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
    /// SHA-256 in lower-case hexadecimal: what partners compare.
    pub sha256: String,
    /// BLAKE3 in lower-case hexadecimal: what we compare.
    pub blake3: String,
}

/// The assembly of AWS-LC is several times as fast as portable code where the processor has no
/// SHA instructions, and as fast where it has.
struct Both {
    sha256: Context,
    blake3: blake3::Hasher,
}

impl Default for Both {
    fn default() -> Self {
        Self { sha256: Context::new(&SHA256), blake3: blake3::Hasher::new() }
    }
}

impl std::fmt::Debug for Both {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Both")
    }
}

impl Both {
    fn update(&mut self, chunk: &[u8]) {
        self.sha256.update(chunk);
        self.blake3.update(chunk);
    }

    fn finish(self) -> Digests {
        use std::fmt::Write;
        let mut sha256 = String::with_capacity(64);
        for byte in self.sha256.finish().as_ref() {
            let _ = write!(sha256, "{byte:02x}");
        }
        Digests { sha256, blake3: self.blake3.finalize().to_hex().to_string() }
    }
}

/// A stream being hashed. Small ones are hashed where they are read, large ones on a thread.
#[derive(Debug)]
pub struct Hashing {
    seen: u64,
    caller_is_busy: bool,
    how: How,
}

#[derive(Debug)]
enum How {
    Here(Box<Both>),
    /// SHA-256 takes several times as long as BLAKE3, which stays with a caller who has time.
    Thread {
        chunks: mpsc::Sender<Bytes>,
        worker: std::thread::JoinHandle<Both>,
        blake3: Option<Box<blake3::Hasher>>,
    },
}

impl Default for Hashing {
    fn default() -> Self {
        Self { seen: 0, caller_is_busy: false, how: How::Here(Box::default()) }
    }
}

impl Hashing {
    /// For a caller who keeps a processor busy, as encryption does: all hashing of a large stream
    /// is done beside it.
    pub fn beside_heavy_work() -> Self {
        Self { caller_is_busy: true, ..Self::default() }
    }

    fn count(&mut self, chunk: &Bytes) {
        self.seen += chunk.len() as u64;
        if self.seen < ALONE_FROM {
            return;
        }
        if let How::Here(both) = &mut self.how {
            let mut both = std::mem::take(&mut **both);
            let blake3 = (!self.caller_is_busy).then(|| Box::new(std::mem::take(&mut both.blake3)));
            let is_alone = blake3.is_some();
            let (chunks, mut queue) = mpsc::channel::<Bytes>(QUEUE);
            let worker = std::thread::spawn(move || {
                while let Some(chunk) = queue.blocking_recv() {
                    if is_alone {
                        both.sha256.update(&chunk);
                    } else {
                        both.update(&chunk);
                    }
                }
                both
            });
            self.how = How::Thread { chunks, worker, blake3 };
        }
    }

    /// Adds the next chunk, from async code.
    pub async fn update(&mut self, chunk: Bytes) {
        self.count(&chunk);
        match &mut self.how {
            How::Here(both) => both.update(&chunk),
            How::Thread { chunks, blake3, .. } => {
                if let Some(blake3) = blake3 {
                    blake3.update(&chunk);
                }
                // The thread lives until the sender is dropped.
                drop(chunks.send(chunk).await);
            }
        }
    }

    /// Adds the next chunk, from a blocking thread.
    pub fn update_blocking(&mut self, chunk: Bytes) {
        self.count(&chunk);
        match &mut self.how {
            How::Here(both) => both.update(&chunk),
            How::Thread { chunks, blake3, .. } => {
                if let Some(blake3) = blake3 {
                    blake3.update(&chunk);
                }
                drop(chunks.blocking_send(chunk));
            }
        }
    }

    /// Adds a chunk that is not kept elsewhere.
    pub fn update_slice(&mut self, chunk: &[u8]) {
        if self.seen + (chunk.len() as u64) < ALONE_FROM {
            self.seen += chunk.len() as u64;
            if let How::Here(both) = &mut self.how {
                both.update(chunk);
                return;
            }
        }
        self.update_blocking(Bytes::copy_from_slice(chunk));
    }

    /// The checksums of all chunks. May wait a moment for the thread: call it where that is fine.
    pub fn finish(self) -> Digests {
        match self.how {
            How::Here(both) => both.finish(),
            How::Thread { chunks, worker, blake3 } => {
                drop(chunks);
                let mut both = worker.join().expect("hashing has nothing that panics");
                if let Some(blake3) = blake3 {
                    both.blake3 = *blake3;
                }
                both.finish()
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn known_checksums_of_small_and_large_streams() {
        let mut small = Hashing::default();
        small.update_slice(b"abc");
        assert_eq!(small.finish().sha256, "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad");
        // A million times "a", NIST's long example, in chunks that cross over to the thread.
        let (mut large, mut whole) = (Hashing::default(), Hashing::beside_heavy_work());
        let chunk = Bytes::from(vec![b'a'; 50_000]);
        for _ in 0..40 {
            large.update_blocking(chunk.clone());
        }
        whole.update_slice(&vec![b'a'; 2_000_000]);
        assert_eq!(large.finish(), whole.finish());
    }
}
