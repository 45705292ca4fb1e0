//! A file of this machine for whoever reads and writes at offsets.

use std::{fs::File, os::unix::fs::FileExt, path::PathBuf, sync::Arc};

use bytes::Bytes;
use rustix::{
    buffer::spare_capacity,
    fs::{Mode, OFlags},
};
use wetbank_core::RelPath;

use super::{Folder, Inner, fill};
use crate::{Entry, blocking, place::Result};

/// The mode of a file, and the bit that marks one: nobody runs what is handed in.
const PLAIN: u32 = 0o644;
const MARK: u32 = 0o100;

/// A file that is held open. Clones share it.
#[derive(Debug, Clone)]
pub struct Held {
    folder: Folder,
    path: RelPath,
    file: Arc<File>,
}

impl Folder {
    /// A folder of it as a place of its own: nothing that lies there leads out of it.
    #[must_use]
    pub fn below(&self, path: &RelPath) -> Self {
        if path.is_root() {
            return self.clone();
        }
        use std::os::unix::ffi::OsStrExt;
        let root = self.root().join(std::ffi::OsStr::from_bytes(path.as_bytes()));
        let mount: Option<PathBuf> = self.inner.root.mount().map(Into::into);
        Self::mounted(self.inner.name.clone(), root, mount)
    }

    /// Holds a file to read it.
    ///
    /// # Errors
    ///
    /// If it is not there, or no regular file.
    pub async fn hold(&self, path: &RelPath) -> Result<(Held, Entry)> {
        let owned = path.clone();
        let opened = self.run("read", path, move |inner| {
            let file = inner.open_to_read(&owned)?;
            let entry = inner.entry(owned, &file.metadata()?);
            Ok((file, entry))
        });
        let (file, entry) = opened.await?;
        Ok((Held { folder: self.clone(), path: path.clone(), file: file.into() }, entry))
    }

    /// Whether a temporary file bears a mark.
    ///
    /// # Errors
    ///
    /// If it cannot be looked at.
    pub async fn is_marked(&self, temporary: &RelPath) -> Result<bool> {
        use std::os::unix::fs::MetadataExt;
        let owned = temporary.clone();
        self.run("look at", temporary, move |inner| {
            let file = inner.root.open(&owned, OFlags::PATH | OFlags::NOFOLLOW, Mode::empty())?;
            Ok(file.metadata()?.mode() & MARK != 0)
        })
        .await
    }

    /// Holds a temporary file to write it, as far as it is there already or anew; with `from` it begins as a copy of that
    /// file.
    ///
    /// # Errors
    ///
    /// If it cannot be made.
    pub async fn hold_staged(&self, temporary: &RelPath, keep: bool, from: Option<&RelPath>) -> Result<(Held, Entry)> {
        let (owned, from) = (temporary.clone(), from.cloned());
        let opened = self.run("write", temporary, move |inner| {
            let file = inner.open_staged(&owned, keep)?;
            if let Some(from) = from {
                std::io::copy(&mut &inner.open_to_read(&from)?, &mut &file)?;
            }
            let entry = inner.entry(owned, &file.metadata()?);
            Ok((file, entry))
        });
        let (file, entry) = opened.await?;
        Ok((Held { folder: self.clone(), path: temporary.clone(), file: file.into() }, entry))
    }
}

impl Inner {
    fn open_staged(&self, temporary: &RelPath, keep: bool) -> std::io::Result<File> {
        let flags = OFlags::RDWR | OFlags::NOFOLLOW | OFlags::CREATE | OFlags::NONBLOCK;
        let file = self.root.open(temporary, flags, Mode::from_raw_mode(PLAIN))?;
        if !file.metadata()?.is_file() {
            return Err(std::io::Error::new(std::io::ErrorKind::Unsupported, "it is no regular file"));
        }
        if !keep {
            file.set_len(0)?;
        }
        Ok(file)
    }
}

impl Held {
    async fn run<T: Send + 'static>(
        &self,
        call: &'static str,
        work: impl FnOnce(&File) -> std::io::Result<T> + Send + 'static,
    ) -> Result<T> {
        let file = self.file.clone();
        blocking::run(move || work(&file)).await.map_err(|error| self.folder.error(call, &self.path, &error))
    }

    /// Reads at an offset, so much unless the file ends before.
    ///
    /// # Errors
    ///
    /// If it cannot be read.
    pub async fn read(&self, at: u64, length: usize) -> Result<Bytes> {
        self.run("read", move |file| {
            let rest = file.metadata()?.len().saturating_sub(at);
            let wanted = usize::try_from(rest).map_or(length, |rest| rest.min(length));
            let mut chunk = Vec::with_capacity(wanted);
            fill(&mut chunk, wanted, |chunk| {
                let at = at + chunk.len() as u64;
                rustix::io::pread(file, spare_capacity(chunk), at)
            })?;
            Ok(chunk.into())
        })
        .await
    }

    /// Writes pieces one behind the other, from an offset on.
    ///
    /// # Errors
    ///
    /// If they cannot be written, also for want of room.
    pub async fn write_all(&self, mut at: u64, pieces: Vec<Bytes>) -> Result<()> {
        self.run("write", move |file| {
            for piece in pieces {
                file.write_all_at(&piece, at)?;
                at += piece.len() as u64;
            }
            Ok(())
        })
        .await
    }

    /// Puts a mark on the file, or takes it off.
    ///
    /// # Errors
    ///
    /// If the file system keeps none.
    pub async fn set_marked(&self, is: bool) -> Result<()> {
        let mode = if is { PLAIN | MARK } else { PLAIN };
        self.run("write", move |file| Ok(rustix::fs::fchmod(file, Mode::from_raw_mode(mode))?)).await
    }

    /// Cuts it to a length.
    ///
    /// # Errors
    ///
    /// If that cannot be done.
    pub async fn set_length(&self, length: u64) -> Result<()> {
        self.run("write", move |file| file.set_len(length)).await
    }

    /// Says when it was changed, in seconds since 1970. A file system that takes no times keeps its own.
    ///
    /// # Errors
    ///
    /// If the file is not held any more.
    pub async fn set_modified(&self, seconds: i64) -> Result<()> {
        self.run("set the time of", move |file| {
            let at = |tv_sec, tv_nsec| rustix::fs::Timespec { tv_sec, tv_nsec };
            let times = rustix::fs::Timestamps {
                last_access: at(0, rustix::fs::UTIME_OMIT),
                last_modification: at(seconds, 0),
            };
            let _ = rustix::fs::futimens(file, &times);
            Ok(())
        })
        .await
    }

    /// How it is now.
    ///
    /// # Errors
    ///
    /// If that cannot be told.
    pub async fn entry(&self) -> Result<Entry> {
        let (inner, path) = (self.folder.inner.clone(), self.path.clone());
        self.run("look at", move |file| Ok(inner.entry(path, &file.metadata()?))).await
    }

    /// Waits until it is on disk; answers how it is then.
    ///
    /// # Errors
    ///
    /// If it did not come there.
    pub async fn finish(&self) -> Result<Entry> {
        let (inner, path) = (self.folder.inner.clone(), self.path.clone());
        self.run("write", move |file| {
            file.sync_data()?;
            Ok(inner.entry(path, &file.metadata()?))
        })
        .await
    }
}
