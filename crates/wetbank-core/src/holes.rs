//! Long runs of zeros, which take no room on a disk when they are not written.

use std::io;

/// So many zeros are left out, where they begin at a multiple of it in the file.
const BLOCK: usize = 64 << 10;
static ZEROS: [u8; BLOCK] = [0; BLOCK];

/// Where in a new file the next bytes go. Blocks of zeros are left out of it, and are read as zeros all the same.
#[derive(Debug, Clone, Copy, Default)]
pub struct Filling {
    /// Where the next bytes belong.
    at: u64,
    /// Where what is written ends.
    written: u64,
    /// Zeros at the end, from the start of their block on, that may become a hole.
    deferred: usize,
}

impl Filling {
    /// A file that has so many bytes, and nothing behind them.
    pub fn behind(bytes: u64) -> Self {
        Self { at: bytes, written: bytes, deferred: 0 }
    }

    /// Has everything written of the next bytes that is not a hole; `write` takes bytes and where they begin.
    ///
    /// # Errors
    ///
    /// What `write` answers.
    pub fn put(&mut self, bytes: &[u8], mut write: impl FnMut(&[u8], u64) -> io::Result<()>) -> io::Result<()> {
        // What comes before it is written, or deferred.
        let mut start = 0;
        let mut end = 0;
        while end < bytes.len() {
            let before = (self.at % BLOCK as u64) as usize;
            let part = &bytes[end..bytes.len().min(end + BLOCK - before)];
            let is_hole = self.deferred == before && is_zero(part);
            if is_hole {
                self.flush(&bytes[start..end], &mut write)?;
                self.deferred = (before + part.len()) % BLOCK;
            } else if self.deferred > 0 {
                let zeros = &ZEROS[..std::mem::take(&mut self.deferred)];
                self.flush(zeros, &mut write)?;
            }
            end += part.len();
            self.at += part.len() as u64;
            if is_hole {
                start = end;
            }
        }
        self.flush(&bytes[start..], &mut write)
    }

    /// Writes bytes that end where the next ones belong.
    fn flush(&mut self, bytes: &[u8], write: &mut impl FnMut(&[u8], u64) -> io::Result<()>) -> io::Result<()> {
        if !bytes.is_empty() {
            write(bytes, self.at - bytes.len() as u64)?;
            self.written = self.at;
        }
        Ok(())
    }

    /// The length that the file must be given, if it ends with a hole.
    pub fn length_to_set(&self) -> Option<u64> {
        (self.written < self.at).then_some(self.at)
    }
}

fn is_zero(bytes: &[u8]) -> bool {
    bytes.chunks(16).all(|some| some.iter().fold(0, |all, byte| all | byte) == 0)
}

#[cfg(test)]
mod tests {
    use proptest::prelude::*;

    use super::*;

    proptest! {
        #[test]
        fn what_is_written_and_what_is_left_out_make_up_the_file(
            runs in prop::collection::vec((0_usize..300_000, any::<bool>()), 0..8),
            cut in 1_usize..200_000,
            before in 0_u64..100_000,
        ) {
            let content: Vec<u8> = runs.iter().flat_map(|(length, full)| vec![u8::from(*full); *length]).collect();
            let mut file = vec![9; before as usize];
            let (mut filling, mut zeros) = (Filling::behind(before), 0);
            for bytes in content.chunks(cut) {
                filling.put(bytes, |bytes, at| {
                    let at = at as usize;
                    file.resize(file.len().max(at + bytes.len()), 0);
                    file[at..at + bytes.len()].copy_from_slice(bytes);
                    let first = (BLOCK - at % BLOCK) % BLOCK;
                    zeros += bytes[first.min(bytes.len())..].chunks_exact(BLOCK).filter(|block| is_zero(block)).count();
                    Ok(())
                }).unwrap();
            }
            if let Some(length) = filling.length_to_set() {
                prop_assert!(length > file.len() as u64);
                file.resize(length as usize, 0);
            }
            prop_assert_eq!(&file[before as usize..], &content[..]);
            prop_assert_eq!(zeros, 0, "no block of zeros is written");
        }
    }

    #[test]
    fn zeros_are_written_only_with_what_shares_their_block() {
        for length in [1, BLOCK - 1, BLOCK, 5 * BLOCK + 1] {
            for chunk in [1_000, 70_000, 5 * BLOCK] {
                let (mut filling, mut writes) = (Filling::default(), Vec::new());
                let mut write = |bytes: &[u8], at| {
                    writes.push((at, bytes.len()));
                    Ok(())
                };
                for bytes in vec![0; length].chunks(chunk) {
                    filling.put(bytes, &mut write).unwrap();
                }
                assert_eq!(filling.length_to_set(), Some(length as u64));
                filling.put(b"1", &mut write).unwrap();
                let deferred = length % BLOCK;
                let written: usize = writes.iter().map(|(_, length)| length).sum();
                assert_eq!((written, filling.length_to_set()), (deferred + 1, None), "{length} in {chunk}: {writes:?}");
            }
        }
    }

    #[test]
    fn what_cannot_be_written_is_told() {
        Filling::default().put(b"levels", |_, _| Err(io::ErrorKind::StorageFull.into())).unwrap_err();
    }
}
