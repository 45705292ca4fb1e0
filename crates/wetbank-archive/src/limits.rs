//! How much may come out of an archive.

use std::io::{self, Read, Write};

use wetbank_core::ByteSize;

use crate::ArchiveError;

/// Bytes that may come out whatever their number is against the archive's size: small texts
/// compress very well.
const FREE: u64 = 100_000_000;
/// So much is read and written at once.
pub(crate) const CHUNK: usize = 256 << 10;

/// How much may come out of an archive.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Limits {
    /// Files.
    pub files: usize,
    /// Bytes in all.
    pub bytes: u64,
    /// Times the size of the archive.
    pub ratio: u64,
}

impl Limits {
    /// So many bytes and no more; whoever said so also means a file that grows beyond all measure.
    pub fn of(bytes: u64, is_said: bool) -> Self {
        Self { bytes, ratio: if is_said { u64::MAX } else { Self::default().ratio }, ..Self::default() }
    }
}

impl Default for Limits {
    fn default() -> Self {
        Self { files: 100_000, bytes: 100_000_000_000, ratio: 250 }
    }
}

/// What came out so far.
#[derive(Debug)]
pub struct Meter {
    limits: Limits,
    packed: u64,
    bytes: u64,
    files: usize,
}

impl Meter {
    /// Nothing came out yet of something that has so many bytes.
    pub fn new(limits: Limits, packed: u64) -> Self {
        Self { limits, packed, bytes: 0, files: 0 }
    }

    pub(crate) fn file(&mut self) -> Result<(), ArchiveError> {
        self.files += 1;
        if self.files > self.limits.files { Err(ArchiveError::TooMany(self.limits.files)) } else { Ok(()) }
    }

    /// So many more bytes come out.
    ///
    /// # Errors
    ///
    /// If they are more than allowed.
    pub fn bytes(&mut self, more: usize) -> Result<(), ArchiveError> {
        self.bytes += more as u64;
        if self.bytes > self.limits.bytes {
            return Err(ArchiveError::TooLarge(ByteSize(self.limits.bytes)));
        }
        if self.bytes > FREE && self.bytes / self.limits.ratio > self.packed.max(1) {
            return Err(ArchiveError::Bomb(self.limits.ratio));
        }
        Ok(())
    }

    /// Copies to the end, counting. Answers how many bytes.
    pub(crate) fn copy(
        &mut self,
        from: &mut dyn Read,
        to: &mut dyn Write,
        stop: &dyn Fn() -> bool,
    ) -> Result<u64, ArchiveError> {
        let mut buffer = vec![0; CHUNK];
        let mut copied = 0;
        loop {
            if stop() {
                return Err(io::Error::other("it is to stop").into());
            }
            let read = match from.read(&mut buffer) {
                Ok(0) => return Ok(copied),
                Ok(read) => read,
                Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
                Err(error) => return Err(error.into()),
            };
            self.bytes(read)?;
            to.write_all(&buffer[..read])?;
            copied += read as u64;
        }
    }
}
