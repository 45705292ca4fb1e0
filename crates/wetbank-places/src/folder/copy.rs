//! Copying and moving between folders of this machine: one crossing to a thread per file.

use std::{
    fs::File,
    io,
    os::unix::fs::FileExt,
    sync::{
        Arc,
        atomic::{AtomicBool, AtomicU64, Ordering},
        mpsc::{SyncSender, sync_channel},
    },
    thread::JoinHandle,
};

use bytes::Bytes;
use rustix::buffer::spare_capacity;
use tokio_util::sync::CancellationToken;
use wetbank_core::{Filling, RelPath};
use wetbank_crypt::{Digests, Hashing};

use super::{CHUNK, Folder, fill};
use crate::{Collision, Entry, Place, PlaceError, PlaceErrorKind, blocking, place::Result};

/// Written bytes after which the disk is set to work, so that the last sync finds little to do.
const WRITE_BEHIND: u64 = 16 << 20;

/// A copy that lies under its temporary name.
#[derive(Debug)]
pub struct Copied {
    /// The temporary file's state.
    pub entry: Entry,
    /// The checksums of what was read and written.
    pub digests: Digests,
    /// The state of the source after it was read.
    pub source: Entry,
}

impl Folder {
    /// Copies a file into a temporary one of another folder, durably, hashing on the way,
    /// with SHA-256 if that is wanted.
    /// `progress` counts bytes; cancelling ends it with `Interrupted`.
    pub async fn copy_in(
        &self,
        source: &Folder,
        path: &RelPath,
        temporary: &RelPath,
        sha256: bool,
        progress: Arc<AtomicU64>,
        cancel: CancellationToken,
    ) -> Result<Copied> {
        let (from, to) = (source.inner.clone(), self.inner.clone());
        let (path, temporary) = (path.clone(), temporary.clone());
        blocking::run(move || {
            let read = |e: &io::Error| from.error("read", &path, e);
            let write = |e: &io::Error| to.error("write", &temporary, e);
            let input = from.open_to_read(&path).map_err(|e| read(&e))?;
            // What only its owner could read is for no others elsewhere, either.
            let is_private = super::is_private(&input.metadata().map_err(|e| read(&e))?);
            let output = to.create(&temporary, None, is_private).map_err(|e| write(&e))?;
            let digests =
                stream(&input, output, Hashing::with_sha256(sha256), &progress, &cancel).map_err(|failure| {
                    match failure {
                        Failure::Read(e) => read(&e),
                        Failure::Write(e) => write(&e),
                        Failure::Cancelled => PlaceError {
                            kind: PlaceErrorKind::Interrupted,
                            ..write(&io::Error::other("the service is stopping"))
                        },
                    }
                })?;
            let (digests, output) = digests;
            let metadata = output.metadata().map_err(|e| write(&e))?;
            let after = input.metadata().map_err(|e| read(&e))?;
            Ok(Copied {
                entry: to.entry(temporary.clone(), &metadata),
                digests,
                source: from.entry(path.clone(), &after),
            })
        })
        .await
    }

    /// Moves a file in from another folder by renaming it, if both lie on one file system;
    /// `Unsupported` if they do not, and nothing was changed.
    pub async fn move_in(&self, source: &Folder, path: &RelPath, target: &RelPath, collision: Collision) -> Result<()> {
        if source.root() == self.root() {
            return self.rename(path, target, collision).await.map(drop);
        }
        let (from, to) = (source.inner.clone(), self.inner.clone());
        let (old, new) = (path.clone(), target.clone());
        blocking::run(move || {
            let (from_folder, from_name) = from.root.parent_of(&old).map_err(|e| from.error("move", &old, &e))?;
            let (to_folder, to_name) = to.root.parent_of(&new).map_err(|e| to.error("move to", &new, &e))?;
            let flags = match collision {
                Collision::Refuse => rustix::fs::RenameFlags::NOREPLACE,
                Collision::Replace => rustix::fs::RenameFlags::empty(),
            };
            rustix::fs::renameat_with(from_folder, from_name, to_folder, to_name, flags).map_err(|e| match e {
                rustix::io::Errno::XDEV => PlaceError {
                    kind: PlaceErrorKind::Unsupported,
                    ..to.error("move to", &new, &io::Error::other("another file system"))
                },
                // Whose side a missing name is on only the two sides can tell.
                rustix::io::Errno::NOENT => from.error("move", &old, &e.into()),
                e => to.error("move to", &new, &e.into()),
            })
        })
        .await?;
        self.sync_folder(&target.parent()).await?;
        source.sync_folder(&path.parent()).await
    }
}

enum Failure {
    Read(io::Error),
    Write(io::Error),
    Cancelled,
}

fn stream(
    input: &File,
    output: File,
    mut hashing: Hashing,
    progress: &AtomicU64,
    cancel: &CancellationToken,
) -> std::result::Result<(Digests, Arc<File>), Failure> {
    let output = Arc::new(output);
    let (mut behind, mut filling) = (WriteBehind::default(), Filling::default());
    let expected = input.metadata().map_err(Failure::Read)?.len();
    // One byte more than the file has, so that a small file is read with one call.
    let first = usize::try_from(expected + 1).map_or(CHUNK, |size| size.min(CHUNK));
    loop {
        if cancel.is_cancelled() {
            return Err(Failure::Cancelled);
        }
        let mut chunk = Vec::with_capacity(first);
        let is_full = fill(&mut chunk, first, |chunk| rustix::io::read(input, spare_capacity(chunk)));
        let is_last = !is_full.map_err(Failure::Read)?;
        let chunk = Bytes::from(chunk);
        filling.put(&chunk, |bytes, at| output.write_all_at(bytes, at)).map_err(Failure::Write)?;
        behind.wrote(&output, chunk.len() as u64);
        progress.fetch_add(chunk.len() as u64, Ordering::Relaxed);
        hashing.update_blocking(&chunk);
        if is_last {
            break;
        }
    }
    filling.length_to_set().map_or(Ok(()), |length| output.set_len(length)).map_err(Failure::Write)?;
    behind.stop().and_then(|()| output.sync_data()).map_err(Failure::Write)?;
    Ok((hashing.finish(), output))
}

/// Keeps the disk busy while a large file is read and hashed.
///
/// The kernel tells of bytes that never reached the disk once, at the next sync, whoever asks for
/// it: what this one is told is kept for [`WriteBehind::stop`], the last sync would hear nothing of it.
#[derive(Debug, Default)]
pub struct WriteBehind {
    unsynced: u64,
    busy: Arc<AtomicBool>,
    worker: Option<(SyncSender<()>, JoinHandle<io::Result<()>>)>,
}

impl WriteBehind {
    /// So many bytes more were written to the file.
    pub fn wrote(&mut self, file: &Arc<File>, bytes: u64) {
        self.unsynced += bytes;
        if self.unsynced < WRITE_BEHIND || self.busy.load(Ordering::Acquire) {
            return;
        }
        self.unsynced = 0;
        self.busy.store(true, Ordering::Release);
        let (wake, _) = self.worker.get_or_insert_with(|| {
            let (wake, woken) = sync_channel::<()>(1);
            let (file, busy) = (file.clone(), self.busy.clone());
            let worker = std::thread::spawn(move || {
                while woken.recv().is_ok() {
                    file.sync_data()?;
                    busy.store(false, Ordering::Release);
                }
                Ok(())
            });
            (wake, worker)
        });
        // One that failed has ended, and is not woken any more.
        let _ = wake.try_send(());
    }

    /// Waits for what it has begun.
    ///
    /// # Errors
    ///
    /// If some of the bytes did not reach the disk.
    pub fn stop(&mut self) -> io::Result<()> {
        let Some((wake, worker)) = self.worker.take() else { return Ok(()) };
        drop(wake);
        worker.join().unwrap_or_else(|_| Err(io::Error::other("the thread that brings it to the disk failed")))
    }
}

#[cfg(test)]
mod tests {
    use std::io::Write;

    use super::*;

    #[test]
    fn a_sync_that_failed_on_the_way_fails_the_file() {
        let (_reader, writer) = std::io::pipe().unwrap();
        let unsyncable = Arc::new(File::from(std::os::fd::OwnedFd::from(writer)));
        let mut behind = WriteBehind::default();
        behind.wrote(&unsyncable, WRITE_BEHIND - 1);
        behind.stop().expect("nothing was to be done yet");
        behind.wrote(&unsyncable, 1);
        behind.wrote(&unsyncable, WRITE_BEHIND);
        behind.stop().expect_err("the bytes are not on the disk");
    }

    #[test]
    fn what_reached_the_disk_is_no_failure() {
        let file = Arc::new(tempfile::tempfile().unwrap());
        let mut behind = WriteBehind::default();
        (&*file).write_all(b"pages").unwrap();
        behind.wrote(&file, WRITE_BEHIND);
        behind.stop().unwrap();
    }
}
