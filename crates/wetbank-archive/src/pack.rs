//! Many files into one.

use std::{
    collections::HashSet,
    io::{Read, Seek, Write},
};

use jiff::{Timestamp, tz::TimeZone};
use wetbank_core::RelPath;
use zip::{AesMode, CompressionMethod, DateTime, ZipWriter, write::SimpleFileOptions};

use crate::{ArchiveError, limits::CHUNK};

/// The usual measure between speed and size.
const LEVEL: i64 = 6;

/// The form of an archive.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Format {
    /// Zip.
    Zip,
    /// A tape archive (POSIX.1-2001 `ustar`), compressed with gzip.
    TarGz,
}

/// A file on its way into an archive.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Member {
    /// Its name there, with folders.
    pub name: RelPath,
    /// Its size in bytes.
    pub size: u64,
    /// When it was last modified.
    pub modified: Timestamp,
}

/// How files are packed.
#[derive(Debug, Clone, Default)]
pub struct Packing<'a> {
    /// What opens it: AES-256. Only a zip can have one.
    pub passphrase: Option<&'a str>,
}

/// Packs files in the order given. Two of one name are refused: the second would hide the first.
pub fn pack<R: Read>(
    format: Format,
    to: impl Write + Seek,
    packing: &Packing<'_>,
    members: impl Iterator<Item = Result<(Member, R), ArchiveError>>,
) -> Result<usize, ArchiveError> {
    let mut names = HashSet::new();
    let members = members.map(|member| {
        let (member, content) = member?;
        // As it is called; bytes that are no text are written as people are shown them.
        let bytes = member.name.as_bytes().to_vec();
        let name = String::from_utf8(bytes).unwrap_or_else(|_| member.name.to_string());
        if names.insert(member.name.clone()) { Ok((member, name, content)) } else { Err(ArchiveError::Twice(name)) }
    });
    match format {
        Format::Zip => pack_zip(to, packing, members),
        Format::TarGz => pack_tar(to, members),
    }
}

type Named<R> = Result<(Member, String, R), ArchiveError>;

fn pack_zip<R: Read>(
    to: impl Write + Seek,
    packing: &Packing<'_>,
    members: impl Iterator<Item = Named<R>>,
) -> Result<usize, ArchiveError> {
    let mut zip = ZipWriter::new(to);
    let mut packed = 0;
    let mut buffer = vec![0; CHUNK];
    for member in members {
        let (member, name, mut content) = member?;
        let mut options = SimpleFileOptions::default()
            .compression_method(CompressionMethod::Deflated)
            .compression_level(Some(LEVEL))
            .unix_permissions(0o644)
            // A file may grow while it is read, so the announced size is only a guess.
            .large_file(member.size > u64::from(u32::MAX) / 2);
        if let Some(time) = dos_time(member.modified) {
            options = options.last_modified_time(time);
        }
        if let Some(passphrase) = packing.passphrase {
            options = options.with_aes_encryption(AesMode::Aes256, passphrase);
        }
        zip.start_file(name, options)?;
        loop {
            let read = content.read(&mut buffer)?;
            if read == 0 {
                break;
            }
            zip.write_all(&buffer[..read])?;
        }
        packed += 1;
    }
    zip.finish()?.flush()?;
    Ok(packed)
}

/// A time as a zip keeps it, in UTC: from 1980 on, two seconds apart.
fn dos_time(at: Timestamp) -> Option<DateTime> {
    let at = at.to_zoned(TimeZone::UTC);
    let part = |number: i8| u8::try_from(number).ok();
    let year = u16::try_from(at.year()).ok()?;
    let (month, day) = (part(at.month())?, part(at.day())?);
    DateTime::from_date_and_time(year, month, day, part(at.hour())?, part(at.minute())?, part(at.second())?).ok()
}

fn pack_tar<R: Read>(to: impl Write, members: impl Iterator<Item = Named<R>>) -> Result<usize, ArchiveError> {
    let encoder = flate2::write::GzEncoder::new(to, flate2::Compression::new(LEVEL as u32));
    let mut tar = tar::Builder::new(encoder);
    let mut packed = 0;
    for member in members {
        let (member, name, content) = member?;
        let mut header = tar::Header::new_gnu();
        header.set_size(member.size);
        header.set_mode(0o644);
        header.set_mtime(u64::try_from(member.modified.as_second()).unwrap_or(0));
        // The size stands before the content: a file that changed meanwhile breaks the archive.
        let mut counted = content.take(member.size);
        tar.append_data(&mut header, &name, &mut counted)?;
        if counted.limit() > 0 {
            return Err(std::io::Error::new(
                std::io::ErrorKind::Interrupted,
                format!("{name} became shorter while it was read"),
            )
            .into());
        }
        packed += 1;
    }
    tar.into_inner()?.finish()?.flush()?;
    Ok(packed)
}
