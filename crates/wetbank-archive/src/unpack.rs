//! One file into many, and nowhere but below a folder of ours.

use std::{
    collections::HashSet,
    fs::{File, OpenOptions},
    io::{self, BufReader, BufWriter, Read, Seek, Write},
    os::unix::fs::{FileExt, OpenOptionsExt},
    path::{Path, PathBuf},
};

use wetbank_core::{Filling, InvalidPath, RelPath, TEMPORARY_PREFIX};
use zip::{ZipArchive, result::ZipError};

use crate::{
    ArchiveError, Limits,
    compress::is_content,
    guard::Guard,
    limits::{CHUNK, Meter},
    sparse::Told,
};

/// A file that was taken out.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Unpacked {
    /// Its name in the archive, with folders.
    pub name: RelPath,
    /// Where it lies below the folder.
    pub path: PathBuf,
    /// Its size in bytes.
    pub size: u64,
}

/// How files are taken out.
#[derive(Clone, Copy)]
pub struct Taking<'a> {
    /// What opens a zip.
    pub passphrase: Option<&'a str>,
    /// How much may come out.
    pub limits: Limits,
    /// The permission bits of what comes out.
    pub mode: u32,
    /// Whether it is to stop.
    pub stop: &'a dyn Fn() -> bool,
}

impl Default for Taking<'_> {
    fn default() -> Self {
        Self { passphrase: None, limits: Limits::default(), mode: 0o600, stop: &|| false }
    }
}

/// Takes every file of a zip, or of a tape archive with or without gzip, out into a folder that
/// is empty. All is taken out or an error is answered; then the folder holds what nobody should
/// use. Files get numbers there, so that no name of theirs reaches the file system.
pub fn unpack(archive: File, folder: &Path, taking: Taking<'_>) -> Result<Vec<Unpacked>, ArchiveError> {
    let size = archive.metadata()?.len();
    let mut taken = Taken {
        folder,
        meter: Meter::new(taking.limits, size),
        taking,
        names: HashSet::new(),
        folders: HashSet::new(),
        files: Vec::new(),
    };
    let heads = archive.try_clone()?;
    let mut archive = BufReader::with_capacity(CHUNK, archive);
    let mut start = [0; START];
    let read = read_start(&mut archive, &mut start)?;
    archive.rewind()?;
    match &start[..read] {
        // The start of a file, or of the directory of an empty zip.
        [b'P', b'K', 3, 4, ..] | [b'P', b'K', 5, 6, ..] => from_zip(archive, &heads, &mut taken)?,
        [0x1f, 0x8b, ..] => from_tar(flate2::bufread::MultiGzDecoder::new(archive), &mut taken)?,
        // Something else may stand before a zip, as a program that unpacks it.
        start if !is_tar(start) && ZipArchive::new(&mut archive).is_ok() => {
            archive.rewind()?;
            from_zip(archive, &heads, &mut taken)?;
        }
        _ => {
            archive.rewind()?;
            from_tar(archive, &mut taken)?;
        }
    }
    Ok(taken.files)
}

/// Bytes by which archives are told apart.
const START: usize = 512;

/// Whether this begins like a tape archive: its first header bears its own checksum.
fn is_tar(start: &[u8]) -> bool {
    let Ok(bytes) = <[u8; START]>::try_from(start) else { return false };
    let mut header = tar::Header::new_old();
    header.as_mut_bytes().copy_from_slice(&bytes);
    let sum = |range: std::ops::Range<usize>| bytes[range].iter().map(|byte| u32::from(*byte)).sum::<u32>();
    header.cksum().is_ok_and(|told| told == sum(0..148) + 8 * u32::from(b' ') + sum(156..512))
}

fn read_start(from: &mut impl Read, start: &mut [u8]) -> io::Result<usize> {
    let mut filled = 0;
    while filled < start.len() {
        match from.read(&mut start[filled..])? {
            0 => break,
            read => filled += read,
        }
    }
    Ok(filled)
}

struct Taken<'a> {
    taking: Taking<'a>,
    folder: &'a Path,
    meter: Meter,
    names: HashSet<RelPath>,
    /// Folders in which files lie.
    folders: HashSet<RelPath>,
    files: Vec<Unpacked>,
}

impl Taken<'_> {
    fn take(&mut self, raw: &[u8], content: &mut dyn Read) -> Result<(), ArchiveError> {
        let name = self.name(raw)?;
        self.meter.file()?;
        let path = self.folder.join(self.files.len().to_string());
        let file = OpenOptions::new().write(true).create_new(true).mode(self.taking.mode).open(&path)?;
        let filling = Filling::default();
        let mut file = BufWriter::with_capacity(CHUNK, WithHoles { file, filling });
        let size = self.meter.copy(content, &mut file, self.taking.stop)?;
        file.flush()?;
        let WithHoles { file, filling } = file.get_ref();
        filling.length_to_set().map_or(Ok(()), |length| file.set_len(length))?;
        file.sync_data()?;
        self.files.push(Unpacked { name, path, size });
        Ok(())
    }

    fn name(&mut self, raw: &[u8]) -> Result<RelPath, ArchiveError> {
        let shown = || String::from_utf8_lossy(raw).escape_debug().take(200).collect::<String>();
        let bad = |source| ArchiveError::Name { name: shown(), source };
        // A path that is cleaned up is another path: what is not plain is refused.
        let name = RelPath::from_bytes(raw).map_err(bad)?;
        if name.as_bytes() != raw || raw.contains(&b'\\') || raw.get(1) == Some(&b':') {
            return Err(bad(InvalidPath::BadCharacter(shown())));
        }
        // Our own unfinished files are called so: it would be taken for one, and removed.
        if name.parts().any(|part| part.starts_with(TEMPORARY_PREFIX.as_bytes())) {
            return Err(bad(InvalidPath::BadCharacter(shown())));
        }
        if name.parts().any(|part| part.len() > LONGEST_NAME) {
            return Err(bad(InvalidPath::TooLong(shown())));
        }
        if !self.names.insert(name.clone()) {
            return Err(ArchiveError::Twice(shown()));
        }
        let mut above = name.parent();
        while !above.is_root() {
            if self.names.contains(&above) {
                return Err(ArchiveError::FileAndFolder(above.to_string()));
            }
            let is_known = !self.folders.insert(above.clone());
            if is_known {
                break;
            }
            above = above.parent();
        }
        if self.folders.contains(&name) {
            return Err(ArchiveError::FileAndFolder(shown()));
        }
        Ok(name)
    }
}

/// A file that is written without its holes.
struct WithHoles {
    file: File,
    filling: Filling,
}

impl Write for WithHoles {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        self.filling.put(bytes, |bytes, at| self.file.write_all_at(bytes, at))?;
        Ok(bytes.len())
    }

    fn flush(&mut self) -> io::Result<()> {
        Ok(())
    }
}

/// Bytes of one name that file systems take.
const LONGEST_NAME: usize = 255;

/// What stands before a file's content in a zip (APPNOTE, section 4.3.7).
struct LocalHead {
    is_aes: bool,
    name: Vec<u8>,
}

impl LocalHead {
    fn read(archive: &File, at: u64) -> io::Result<Self> {
        let mut head = [0; 30];
        archive.read_exact_at(&mut head, at)?;
        let number = |at: usize| u16::from_le_bytes([head[at], head[at + 1]]);
        let mut name = vec![0; number(26).into()];
        archive.read_exact_at(&mut name, at + 30)?;
        Ok(Self { is_aes: number(8) == 99, name })
    }
}

fn from_zip(archive: impl Read + Seek, heads: &File, taken: &mut Taken<'_>) -> Result<(), ArchiveError> {
    let mut zip = ZipArchive::new(archive)?;
    if zip.has_duplicate_names() {
        return Err(ArchiveError::Twice("one that comes again".to_owned()));
    }
    for number in 0..zip.len() {
        let (raw, told, is_folder, is_link, is_locked, at) = {
            let entry = zip.by_index_data(number)?;
            let told = entry.name()?.into_owned();
            (
                entry.name_raw().to_vec(),
                told,
                entry.is_dir(),
                entry.is_symlink(),
                entry.encrypted(),
                entry.header_start(),
            )
        };
        // Old programs write names in the code page 437 (APPNOTE, appendix D); newer ones write UTF-8, and not all say so.
        let name = if std::str::from_utf8(&raw).is_ok() { raw.clone() } else { told.into_bytes() };
        let shown = String::from_utf8_lossy(&name).into_owned();
        let head = LocalHead::read(heads, at)?;
        if head.name != raw {
            return Err(ArchiveError::TwoNames(shown));
        }
        if is_folder {
            continue;
        }
        if is_link {
            return Err(ArchiveError::NotAFile(shown));
        }
        let mut entry = match taken.taking.passphrase {
            _ if !is_locked => zip.by_index(number)?,
            None => return Err(ArchiveError::Locked(shown)),
            Some(passphrase) => match zip.by_index_decrypt(number, passphrase.as_bytes()) {
                Err(ZipError::InvalidPassword) => return Err(ArchiveError::WrongPassphrase(shown)),
                entry => entry?,
            },
        };
        taken.take(&name, &mut entry).map_err(|error| match error {
            // Old encryption looks at one byte: what a wrong passphrase that happened to fit decrypts is noise. AES
            // (AE-2) looks at two, and proves the content afterwards.
            ArchiveError::Io(error) if is_content(&error) && is_locked && !head.is_aes => {
                ArchiveError::WrongPassphrase(shown)
            }
            ArchiveError::Io(error) if is_content(&error) => ArchiveError::Damaged(format!("{shown}: {error}")),
            other => other,
        })?;
    }
    Ok(())
}

fn from_tar(archive: impl Read, taken: &mut Taken<'_>) -> Result<(), ArchiveError> {
    let damaged = |error: io::Error| {
        if is_content(&error) { ArchiveError::Damaged(error.to_string()) } else { ArchiveError::Io(error) }
    };
    let mut tar = tar::Archive::new(Guard::new(archive));
    for entry in tar.entries().map_err(damaged)? {
        let mut entry = entry.map_err(damaged)?;
        let kind = entry.header().entry_type();
        let raw = entry.path_bytes().into_owned();
        if kind.is_dir() || kind.is_pax_global_extensions() {
            continue;
        }
        if !kind.is_file() && !kind.is_gnu_sparse() {
            return Err(ArchiveError::NotAFile(String::from_utf8_lossy(&raw).into_owned()));
        }
        let holes = holes_of(&mut entry).map_err(damaged)?;
        let raw = holes.as_ref().map_or(raw, |told| told.name.clone());
        // Other programs write "./name".
        let plain = raw.strip_prefix(b"./").unwrap_or(&raw).to_vec();
        match holes {
            Some(told) => taken.take(&plain, &mut told.whole(entry).map_err(damaged)?),
            None => taken.take(&plain, &mut entry),
        }
        .map_err(|error| match error {
            ArchiveError::Io(error) if is_content(&error) => {
                ArchiveError::Damaged(format!("{}: {error}", String::from_utf8_lossy(&plain)))
            }
            other => other,
        })?;
    }
    Ok(())
}

/// What the extended header of an entry tells of its holes.
fn holes_of(entry: &mut tar::Entry<'_, impl Read>) -> io::Result<Option<Told>> {
    let Some(records) = entry.pax_extensions()? else { return Ok(None) };
    let records: Vec<_> = records.collect::<io::Result<_>>()?;
    Told::of(records.iter().map(|record| (record.key_bytes(), record.value_bytes())))
}
