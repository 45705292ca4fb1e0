//! Whether a file is still what was seen of it, and whether somebody writes it: asked of the open file, not of
//! its name, before it is taken, moved or removed.

use std::{
    fs::File,
    os::{fd::AsRawFd, unix::fs::MetadataExt},
};

use rustix::fs::{AtFlags, Mode, OFlags};
use wetbank_core::{Fingerprint, RelPath};
pub use wetbank_lease::Writers;

use super::{Folder, Inner, unlink_at};
use crate::{Entry, EntryKind, place::Result};

/// How a file is now, compared with a state that it had.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Still {
    /// It is in that state.
    Same,
    /// It changed, or another one is there.
    Changed,
    /// Somebody has it open for writing.
    Written,
    /// It is not there.
    Gone,
}

impl Folder {
    /// What lies at a path, and who writes it.
    ///
    /// # Errors
    ///
    /// As for [`crate::Place::stat`].
    pub async fn look(&self, path: &RelPath) -> Result<(Entry, Writers)> {
        let owned = path.clone();
        self.run("look at", path, move |inner| {
            let found = inner.root.open(&owned, OFlags::PATH | OFlags::NOFOLLOW, Mode::empty())?;
            let entry = inner.entry(owned, &found.metadata()?);
            // Only what is known to be a file is opened, and it is that very file.
            let opened = match entry.kind {
                EntryKind::File => File::open(format!("/proc/self/fd/{}", found.as_raw_fd())).ok(),
                _ => None,
            };
            let writers = opened.map_or(Writers::Unknown, |file| wetbank_lease::writers(&file));
            Ok((entry, writers))
        })
        .await
    }

    /// Who writes these files, in their order; of what is not there or is no file nothing is known.
    pub async fn writers(&self, paths: Vec<RelPath>) -> Vec<Writers> {
        let unknown = vec![Writers::Unknown; paths.len()];
        let root = RelPath::root();
        let asked = self.run("look at", &root, move |inner| Ok(paths.iter().map(|path| inner.writers(path)).collect()));
        asked.await.unwrap_or(unknown)
    }

    /// Whether a file is still in a state, and nobody writes it.
    ///
    /// # Errors
    ///
    /// If it cannot be looked at.
    pub async fn still(&self, path: &RelPath, state: &Fingerprint) -> Result<Still> {
        let (owned, state) = (path.clone(), state.clone());
        self.run("look at", path, move |inner| Ok(inner.still(&owned, &state)?.0)).await
    }

    /// Removes a file if it is still in a state and nobody writes it; answers how it was.
    ///
    /// # Errors
    ///
    /// If it cannot be looked at or removed.
    pub async fn remove_if_still(&self, path: &RelPath, state: &Fingerprint) -> Result<Still> {
        let (owned, state) = (path.clone(), state.clone());
        let removed = self
            .run("delete", path, move |inner| {
                let (still, file) = inner.still(&owned, &state)?;
                let (Still::Same, Some(file)) = (still, file) else { return Ok(still) };
                // The name must still be that of the file that was looked at.
                let (folder, name) = inner.root.parent_of(&owned)?;
                let named = rustix::fs::statat(&folder, name, AtFlags::SYMLINK_NOFOLLOW)?;
                if named.st_ino != file.metadata()?.ino() {
                    return Ok(Still::Changed);
                }
                unlink_at(&folder, name).map(|()| Still::Same)
            })
            .await?;
        if removed == Still::Same {
            self.sync_folder(&path.parent()).await?;
        }
        Ok(removed)
    }
}

impl Inner {
    fn writers(&self, path: &RelPath) -> Writers {
        self.open_to_read(path).map_or(Writers::Unknown, |file| wetbank_lease::writers(&file))
    }

    /// How a file is, with the file itself where it can be opened.
    fn still(&self, path: &RelPath, state: &Fingerprint) -> std::io::Result<(Still, Option<File>)> {
        let file = match self.open_to_read(path) {
            Ok(file) => file,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok((Still::Gone, None)),
            // What is there cannot be read, so it is no file that we read.
            Err(error) if error.kind() == std::io::ErrorKind::Unsupported => return Ok((Still::Changed, None)),
            Err(error) => return Err(error),
        };
        if self.entry(path.clone(), &file.metadata()?).fingerprint != *state {
            return Ok((Still::Changed, None));
        }
        if wetbank_lease::writers(&file) == Writers::Some {
            return Ok((Still::Written, None));
        }
        Ok((Still::Same, Some(file)))
    }
}

#[cfg(test)]
mod tests {
    use std::fs;

    use wetbank_core::Name;

    use super::*;
    use crate::Place;

    fn scene() -> (tempfile::TempDir, Folder, RelPath) {
        let root = tempfile::tempdir().unwrap();
        fs::write(root.path().join("a.csv"), "one").unwrap();
        let folder = Folder::new(Name::new("office").unwrap(), root.path());
        (root, folder, RelPath::parse("a.csv").unwrap())
    }

    #[tokio::test]
    async fn a_file_that_somebody_writes_or_changed_is_not_removed() {
        let (root, folder, path) = scene();
        let state = folder.stat(&path).await.unwrap().fingerprint;
        let writer = fs::OpenOptions::new().append(true).open(root.path().join("a.csv")).unwrap();
        assert_eq!(folder.remove_if_still(&path, &state).await.unwrap(), Still::Written);
        drop(writer);
        fs::write(root.path().join("a.csv"), "longer").unwrap();
        assert_eq!(folder.remove_if_still(&path, &state).await.unwrap(), Still::Changed);
        assert!(root.path().join("a.csv").exists());
        let state = folder.stat(&path).await.unwrap().fingerprint;
        assert_eq!(folder.remove_if_still(&path, &state).await.unwrap(), Still::Same);
        assert_eq!(folder.remove_if_still(&path, &state).await.unwrap(), Still::Gone);
    }

    #[tokio::test]
    async fn who_writes_is_told_of_many_files_at_once() {
        let (root, folder, path) = scene();
        let other = root.path().join("b.csv");
        let _writer = fs::File::create(&other).unwrap();
        let paths = vec![path, RelPath::parse("b.csv").unwrap(), RelPath::parse("none.csv").unwrap()];
        assert_eq!(folder.writers(paths).await, [Writers::None, Writers::Some, Writers::Unknown]);
    }
}
