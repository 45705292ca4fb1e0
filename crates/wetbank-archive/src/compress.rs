//! One file compressed, and back.

use std::io::{BufRead, BufReader, Read, Write};

use crate::{ArchiveError, Limits, limits::Meter};

/// The usual measure between speed and size.
const GZIP_LEVEL: u32 = 6;
const ZSTD_LEVEL: i32 = 3;

/// How a file is compressed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Compression {
    /// gzip (RFC 1952).
    Gzip,
    /// Zstandard (RFC 8878).
    Zstd,
}

/// Compresses what is read.
pub fn compress(mut from: impl Read, to: impl Write, with: Compression) -> Result<(), ArchiveError> {
    match with {
        Compression::Gzip => {
            let mut encoder = flate2::write::GzEncoder::new(to, flate2::Compression::new(GZIP_LEVEL));
            std::io::copy(&mut from, &mut encoder)?;
            encoder.finish()?.flush()?;
        }
        Compression::Zstd => {
            let mut encoder = zstd::Encoder::new(to, ZSTD_LEVEL)?;
            encoder.include_checksum(true)?;
            std::io::copy(&mut from, &mut encoder)?;
            encoder.finish()?.flush()?;
        }
    }
    Ok(())
}

/// Expands what is read, whichever of the two it is; `size` is that of the compressed file.
/// Answers which it was.
pub fn expand(from: impl Read, mut to: impl Write, size: u64, limits: Limits) -> Result<Compression, ArchiveError> {
    let mut from = BufReader::with_capacity(crate::limits::CHUNK, from);
    let start = from.fill_buf()?;
    let mut meter = Meter::new(limits, size);
    let damaged = |error: ArchiveError| match error {
        ArchiveError::Io(error) if is_content(&error) => ArchiveError::Damaged(error.to_string()),
        other => other,
    };
    let with = match start {
        [0x1f, 0x8b, ..] => {
            // A file may be made of several, one after the other.
            meter.copy(&mut flate2::bufread::MultiGzDecoder::new(from), &mut to, &|| false).map_err(damaged)?;
            Compression::Gzip
        }
        [0x28, 0xb5, 0x2f, 0xfd, ..] => {
            meter.copy(&mut zstd::Decoder::with_buffer(from)?, &mut to, &|| false).map_err(damaged)?;
            Compression::Zstd
        }
        _ => return Err(ArchiveError::Damaged("it is neither gzip nor Zstandard".to_owned())),
    };
    to.flush()?;
    Ok(with)
}

/// Whether an error is about what was read, not about reading it. Decoders tell their own
/// complaints in these kinds.
pub(crate) fn is_content(error: &std::io::Error) -> bool {
    use std::io::ErrorKind::{InvalidData, InvalidInput, Other, UnexpectedEof};
    matches!(error.kind(), InvalidData | InvalidInput | UnexpectedEof | Other) && error.raw_os_error().is_none()
}
