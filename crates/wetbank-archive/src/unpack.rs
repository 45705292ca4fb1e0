//! One file into many, and nowhere but below a folder of ours.

use std::{
    collections::HashSet,
    fs::{File, OpenOptions},
    io::{self, BufReader, BufWriter, Read, Seek, Write},
    os::unix::fs::OpenOptionsExt,
    path::{Path, PathBuf},
};

use wetbank_core::RelPath;
use zip::{ZipArchive, result::ZipError};

use crate::{
    ArchiveError, Limits,
    compress::is_content,
    limits::{CHUNK, Meter},
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

/// Takes every file of a zip, or of a tape archive with or without gzip, out into a folder that
/// is empty. All is taken out or an error is answered; then the folder holds what nobody should
/// use. Files get numbers there, so that no name of theirs reaches the file system.
pub fn unpack(
    archive: File,
    folder: &Path,
    passphrase: Option<&str>,
    limits: Limits,
) -> Result<Vec<Unpacked>, ArchiveError> {
    let size = archive.metadata()?.len();
    let mut taken = Taken { folder, meter: Meter::new(limits, size), names: HashSet::new(), files: Vec::new() };
    let mut archive = BufReader::with_capacity(CHUNK, archive);
    let mut start = [0; 4];
    let read = read_start(&mut archive, &mut start)?;
    archive.rewind()?;
    match &start[..read] {
        // The start of a file, or of the directory of an empty zip.
        [b'P', b'K', 3, 4] | [b'P', b'K', 5, 6] => from_zip(archive, passphrase, &mut taken)?,
        [0x1f, 0x8b, ..] => from_tar(flate2::bufread::MultiGzDecoder::new(archive), &mut taken)?,
        _ => from_tar(archive, &mut taken)?,
    }
    Ok(taken.files)
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
    folder: &'a Path,
    meter: Meter,
    names: HashSet<RelPath>,
    files: Vec<Unpacked>,
}

impl Taken<'_> {
    fn take(&mut self, raw: &[u8], content: &mut dyn Read) -> Result<(), ArchiveError> {
        let name = self.name(raw)?;
        self.meter.file()?;
        let path = self.folder.join(self.files.len().to_string());
        let file = OpenOptions::new().write(true).create_new(true).mode(0o600).open(&path)?;
        let mut file = BufWriter::with_capacity(CHUNK, file);
        let size = self.meter.copy(content, &mut file)?;
        file.flush()?;
        file.get_ref().sync_data()?;
        self.files.push(Unpacked { name, path, size });
        Ok(())
    }

    fn name(&mut self, raw: &[u8]) -> Result<RelPath, ArchiveError> {
        let shown = || String::from_utf8_lossy(raw).escape_debug().take(200).collect::<String>();
        let bad = |source| ArchiveError::Name { name: shown(), source };
        // A path that is cleaned up is another path: what is not plain is refused.
        let name = RelPath::from_bytes(raw).map_err(bad)?;
        if name.as_bytes() != raw || raw.contains(&b'\\') || raw.get(1) == Some(&b':') {
            return Err(bad(wetbank_core::InvalidPath::BadCharacter(shown())));
        }
        if self.names.insert(name.clone()) { Ok(name) } else { Err(ArchiveError::Twice(shown())) }
    }
}

fn from_zip(archive: impl Read + Seek, passphrase: Option<&str>, taken: &mut Taken<'_>) -> Result<(), ArchiveError> {
    let mut zip = ZipArchive::new(archive)?;
    if zip.has_duplicate_names() {
        return Err(ArchiveError::Twice("one that comes again".to_owned()));
    }
    for number in 0..zip.len() {
        let (raw, is_folder, is_link, is_locked) = {
            let entry = zip.by_index_data(number)?;
            (entry.name_raw().to_vec(), entry.is_dir(), entry.is_symlink(), entry.encrypted())
        };
        let shown = String::from_utf8_lossy(&raw).into_owned();
        if is_folder {
            continue;
        }
        if is_link {
            return Err(ArchiveError::NotAFile(shown));
        }
        let mut entry = match passphrase {
            _ if !is_locked => zip.by_index(number)?,
            None => return Err(ArchiveError::Locked(shown)),
            Some(passphrase) => match zip.by_index_decrypt(number, passphrase.as_bytes()) {
                Err(ZipError::InvalidPassword) => return Err(ArchiveError::WrongPassphrase(shown)),
                entry => entry?,
            },
        };
        taken.take(&raw, &mut entry).map_err(|error| match error {
            // What is decrypted with a wrong passphrase that happened to fit at first is noise.
            ArchiveError::Io(error) if is_content(&error) && is_locked => ArchiveError::WrongPassphrase(shown),
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
    let mut tar = tar::Archive::new(archive);
    for entry in tar.entries().map_err(damaged)? {
        let mut entry = entry.map_err(damaged)?;
        let kind = entry.header().entry_type();
        let raw = entry.path_bytes().into_owned();
        if kind.is_dir() || kind.is_pax_global_extensions() {
            continue;
        }
        if !kind.is_file() {
            return Err(ArchiveError::NotAFile(String::from_utf8_lossy(&raw).into_owned()));
        }
        // Other programs write "./name".
        let plain = raw.strip_prefix(b"./").unwrap_or(&raw).to_vec();
        taken.take(&plain, &mut entry).map_err(|error| match error {
            ArchiveError::Io(error) => damaged(error),
            other => other,
        })?;
    }
    Ok(())
}
