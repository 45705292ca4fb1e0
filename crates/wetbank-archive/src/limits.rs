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

impl Default for Limits {
    fn default() -> Self {
        Self { files: 100_000, bytes: 100_000_000_000, ratio: 250 }
    }
}

/// What came out so far.
#[derive(Debug)]
pub(crate) struct Meter {
    limits: Limits,
    packed: u64,
    bytes: u64,
    files: usize,
}

impl Meter {
    pub fn new(limits: Limits, packed: u64) -> Self {
        Self { limits, packed, bytes: 0, files: 0 }
    }

    pub fn file(&mut self) -> Result<(), ArchiveError> {
        self.files += 1;
        if self.files > self.limits.files { Err(ArchiveError::TooMany(self.limits.files)) } else { Ok(()) }
    }

    fn bytes(&mut self, more: usize) -> Result<(), ArchiveError> {
        self.bytes += more as u64;
        if self.bytes > self.limits.bytes {
            return Err(ArchiveError::TooLarge(ByteSize(self.limits.bytes)));
        }
        if self.bytes > FREE && self.bytes / self.limits.ratio > self.packed {
            return Err(ArchiveError::Bomb(self.limits.ratio));
        }
        Ok(())
    }

    /// Copies to the end, counting. Answers how many bytes.
    pub fn copy(&mut self, from: &mut dyn Read, to: &mut dyn Write) -> Result<u64, ArchiveError> {
        let mut buffer = vec![0; CHUNK];
        let mut copied = 0;
        loop {
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
