//! A folder of this machine, or one mounted on it.

mod beneath;
mod copy;
mod held;
mod opens;
mod owners;
mod staged;
mod still;
mod sync;

use std::{
    fs::File,
    os::{fd::AsRawFd, unix::fs::MetadataExt},
    path::{Path, PathBuf},
    sync::Arc,
};

use async_trait::async_trait;
use bytes::Bytes;
use futures_util::{StreamExt, stream};
use rustix::{
    buffer::spare_capacity,
    fs::{AtFlags, Mode, OFlags, RenameFlags},
};
use wetbank_core::{Fingerprint, PlaceName, RelPath};

use crate::{
    Capabilities, Collision, Depth, Entry, EntryKind, EntryStream, Place, PlaceError, PlaceErrorKind, ReadStream,
    Staged, blocking, fingerprint_of, place::Result,
};
use beneath::Root;
pub use copy::{Copied, WriteBehind};
pub use held::Held;
use staged::StagedFile;
pub use still::{Still, Writers};
use sync::FolderSync;

/// Bytes in one read: large enough that crossing to a thread costs little.
const CHUNK: usize = 512 << 10;
/// Entries that a listing may be ahead of its reader.
const AHEAD: usize = 1024;

/// A folder tree of this machine. Every path is resolved by the kernel below the open root
/// (`openat2` with `RESOLVE_BENEATH`), so no link leads out.
#[derive(Debug, Clone)]
pub struct Folder {
    inner: Arc<Inner>,
}

#[derive(Debug)]
struct Inner {
    name: PlaceName,
    root: Root,
    sync: FolderSync,
}

impl Folder {
    /// The place with this name and absolute root. The root is looked at only when used.
    pub fn new(name: PlaceName, root: impl Into<PathBuf>) -> Self {
        Self::mounted(name, root, None::<PathBuf>)
    }

    /// The same, there only while something is mounted at `mount`.
    pub fn mounted(name: PlaceName, root: impl Into<PathBuf>, mount: Option<impl Into<PathBuf>>) -> Self {
        let root = Root::new(root.into(), mount.map(Into::into));
        Self { inner: Arc::new(Inner { name, root, sync: FolderSync::default() }) }
    }

    /// The absolute root.
    pub fn root(&self) -> &Path {
        self.inner.root.path()
    }

    fn error(&self, call: &'static str, path: &RelPath, error: &std::io::Error) -> PlaceError {
        self.inner.error(call, path, error)
    }

    /// Whether nobody but its owner may read a file.
    pub async fn is_private(&self, path: &RelPath) -> Result<bool> {
        let owned = path.clone();
        self.run("look at", path, move |inner| {
            let file = inner.root.open(&owned, OFlags::PATH | OFlags::NOFOLLOW, Mode::empty())?;
            Ok(is_private(&file.metadata()?))
        })
        .await
    }

    /// Gives a file a second name outside of the place, for programs that must get this very file and no other that
    /// somebody puts in its place meanwhile. Answers whether that could be done: not on another file system.
    pub async fn lend(&self, path: &RelPath, to: &Path) -> Result<bool> {
        let (owned, to) = (path.clone(), to.to_owned());
        self.run("read", path, move |inner| {
            let file = inner.open_to_read(&owned)?;
            let opened = format!("/proc/self/fd/{}", file.as_raw_fd());
            let here = rustix::fs::CWD;
            Ok(rustix::fs::linkat(here, opened, here, &to, AtFlags::SYMLINK_FOLLOW).is_ok())
        })
        .await
    }

    /// Runs a blocking call on the root.
    async fn run<T: Send + 'static>(
        &self,
        call: &'static str,
        path: &RelPath,
        work: impl FnOnce(&Inner) -> std::io::Result<T> + Send + 'static,
    ) -> Result<T> {
        let inner = self.inner.clone();
        blocking::run(move || work(&inner)).await.map_err(|e| self.error(call, path, &e))
    }
}

impl Inner {
    fn error(&self, call: &'static str, path: &RelPath, error: &std::io::Error) -> PlaceError {
        use std::io::ErrorKind as E;
        let raw = error.raw_os_error().map(rustix::io::Errno::from_raw_os_error);
        let kind = match (error.kind(), raw) {
            (_, Some(rustix::io::Errno::XDEV | rustix::io::Errno::LOOP)) => PlaceErrorKind::Denied,
            (_, Some(rustix::io::Errno::STALE | rustix::io::Errno::NOTCONN | rustix::io::Errno::HOSTDOWN)) => {
                PlaceErrorKind::Unreachable
            }
            (E::NotConnected | E::StaleNetworkFileHandle | E::HostUnreachable, _) => PlaceErrorKind::Unreachable,
            (E::NotFound, _) if !self.root.path().is_dir() => PlaceErrorKind::Unreachable,
            (E::NotFound | E::NotADirectory, _) => PlaceErrorKind::NotFound,
            (E::PermissionDenied | E::ReadOnlyFilesystem, _) => PlaceErrorKind::Denied,
            (E::AlreadyExists | E::IsADirectory | E::DirectoryNotEmpty, _) => PlaceErrorKind::Exists,
            (E::StorageFull | E::QuotaExceeded | E::FileTooLarge, _) => PlaceErrorKind::NoSpace,
            (E::ResourceBusy | E::ExecutableFileBusy, _) => PlaceErrorKind::Busy,
            (E::InvalidFilename, _) => PlaceErrorKind::BadName,
            (E::Unsupported, _) => PlaceErrorKind::Unsupported,
            _ => PlaceErrorKind::Other,
        };
        let detail = match (kind, raw) {
            (PlaceErrorKind::Unreachable, None) => error.to_string(),
            (PlaceErrorKind::Unreachable, _) => {
                format!("the folder {} is missing; is it mounted?", self.root.path().display())
            }
            (_, Some(rustix::io::Errno::XDEV | rustix::io::Errno::LOOP)) => {
                "a symbolic link leads out of the place".to_owned()
            }
            _ => error.to_string(),
        };
        PlaceError { kind, place: self.name.clone(), call, path: path.clone(), detail, secret: None }
    }

    fn entry(&self, path: RelPath, metadata: &std::fs::Metadata) -> Entry {
        let kind = match metadata.file_type() {
            t if t.is_file() => EntryKind::File,
            t if t.is_dir() => EntryKind::Folder,
            t if t.is_symlink() => EntryKind::Link,
            _ => EntryKind::Other,
        };
        let modified = metadata.mtime().saturating_mul(1_000_000_000).saturating_add(metadata.mtime_nsec());
        let fingerprint = fingerprint_of(metadata.len(), modified, Some(metadata.ino()));
        Entry { path, kind, fingerprint, owner: owners::name(metadata.uid()) }
    }

    fn open_to_read(&self, path: &RelPath) -> std::io::Result<File> {
        // NONBLOCK so that a pipe put in a file's place cannot make us wait for its writer.
        let flags = OFlags::RDONLY | OFlags::NOFOLLOW | OFlags::NONBLOCK;
        let file = self.root.open(path, flags, Mode::empty())?;
        if file.metadata()?.is_file() {
            Ok(file)
        } else {
            Err(std::io::Error::new(std::io::ErrorKind::Unsupported, "it is no regular file"))
        }
    }

    fn create(&self, temporary: &RelPath, resume: Option<u64>, is_private: bool) -> std::io::Result<File> {
        let flags = OFlags::WRONLY | OFlags::NOFOLLOW;
        if let Some(kept) = resume {
            let file = self.root.open(temporary, flags, Mode::empty())?;
            if file.metadata()?.len() >= kept {
                file.set_len(kept)?;
                return Ok(file);
            }
        }
        let create = flags | OFlags::CREATE | OFlags::EXCL;
        let mode = Mode::from_raw_mode(if is_private { 0o600 } else { 0o644 });
        match self.root.open(temporary, create, mode) {
            Err(e) if e.kind() == std::io::ErrorKind::AlreadyExists => {
                self.root.unlink(temporary)?;
                self.root.open(temporary, create, mode)
            }
            result => result,
        }
    }
}

#[async_trait]
impl Place for Folder {
    fn name(&self) -> &PlaceName {
        &self.inner.name
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities {
            replaces_atomically: true,
            refuses_atomically: true,
            resumes: true,
            cuts_when_resuming: true,
            fine_times: true,
            // A server does not tell the kernel of this machine what others changed there.
            reports_changes: cfg!(target_os = "linux") && !self.inner.root.is_mount(),
            tells_links: true,
            sets_times: true,
            ..Capabilities::LEAST
        }
    }

    async fn reach(&self) -> Result<String> {
        let root = RelPath::root();
        self.run("reach", &root, |inner| inner.root.check()).await?;
        Ok(format!("the folder {} is there", self.root().display()))
    }

    async fn stat(&self, path: &RelPath) -> Result<Entry> {
        let owned = path.clone();
        self.run("look at", path, move |inner| {
            let file = inner.root.open(&owned, OFlags::PATH | OFlags::NOFOLLOW, Mode::empty())?;
            Ok(inner.entry(owned, &file.metadata()?))
        })
        .await
    }

    fn list(&self, folder: &RelPath, depth: Depth) -> EntryStream {
        let (entries, mut listed) = tokio::sync::mpsc::channel(AHEAD);
        let (inner, folder) = (self.inner.clone(), folder.clone());
        // A listing may wait long for its reader, so it counts as no blocking call.
        tokio::task::spawn_blocking(move || {
            if let Err((path, error)) = walk(&inner, folder, depth, &entries) {
                let _ = entries.blocking_send(Err(inner.error("list", &path, &error)));
            }
        });
        stream::poll_fn(move |context| listed.poll_recv(context)).boxed()
    }

    async fn read(&self, path: &RelPath, from: u64) -> Result<ReadStream> {
        let owned = path.clone();
        // The first chunk is read with the same call: that is all of most files.
        let (file, first) = self
            .run("read", path, move |inner| {
                let file = inner.open_to_read(&owned)?;
                let first = read_chunk(&file, from)?;
                Ok((file, first))
            })
            .await?;
        let (place, path, file) = (self.clone(), path.clone(), Arc::new(file));
        Ok(stream::try_unfold((Some(first), from), move |(ready, at)| {
            let (place, path, file) = (place.clone(), path.clone(), file.clone());
            async move {
                let (chunk, is_last) = match ready {
                    Some(ready) => ready,
                    None => place.run("read", &path, move |_| read_chunk(&file, at)).await?,
                };
                let next = at + chunk.len() as u64;
                let after = is_last.then(|| (Bytes::new(), true));
                Ok((!chunk.is_empty()).then_some((chunk, (after, next))))
            }
        })
        .boxed())
    }

    async fn stage(&self, temporary: &RelPath, _target: &RelPath, resume: Option<u64>) -> Result<Box<dyn Staged>> {
        let owned = temporary.clone();
        let file = self.run("write", temporary, move |inner| inner.create(&owned, resume, false)).await?;
        Ok(Box::new(StagedFile::new(self.clone(), temporary.clone(), file, resume.unwrap_or(0))))
    }

    async fn set_modified(&self, path: &RelPath, at: i64) -> Result<Entry> {
        let owned = path.clone();
        self.run("set the time of", path, move |inner| {
            let file = inner.open_to_read(&owned)?;
            let (seconds, nanos) = (at.div_euclid(1_000_000_000), at.rem_euclid(1_000_000_000));
            let modified = rustix::fs::Timespec { tv_sec: seconds, tv_nsec: nanos };
            let accessed = rustix::fs::Timespec { tv_sec: 0, tv_nsec: rustix::fs::UTIME_OMIT };
            let times = rustix::fs::Timestamps { last_access: accessed, last_modification: modified };
            // A file system that takes no times keeps its own.
            let _ = rustix::fs::futimens(&file, &times);
            Ok(inner.entry(owned, &file.metadata()?))
        })
        .await
    }

    async fn rename(&self, from: &RelPath, to: &RelPath, collision: Collision) -> Result<Option<Fingerprint>> {
        let (source, target) = (from.clone(), to.clone());
        self.run("rename to", to, move |inner| {
            let (from_folder, from_name) = inner.root.parent_of(&source)?;
            let (to_folder, to_name) = inner.root.parent_of(&target)?;
            let flags = match collision {
                Collision::Refuse => RenameFlags::NOREPLACE,
                Collision::Replace => RenameFlags::empty(),
            };
            Ok(rustix::fs::renameat_with(from_folder, from_name, to_folder, to_name, flags)?)
        })
        .await?;
        self.sync_folder(&to.parent()).await?;
        if from.parent() != to.parent() {
            self.sync_folder(&from.parent()).await?;
        }
        Ok(None)
    }

    async fn delete(&self, path: &RelPath) -> Result<()> {
        let owned = path.clone();
        self.run("delete", path, move |inner| inner.root.unlink(&owned)).await?;
        self.sync_folder(&path.parent()).await
    }

    async fn make_folder(&self, path: &RelPath) -> Result<()> {
        let owned = path.clone();
        let made = self.run("make folder", path, move |inner| inner.root.make_folders(&owned)).await?;
        for folder in made {
            self.sync_folder(&folder.parent()).await?;
        }
        Ok(())
    }

    async fn remove_folder(&self, path: &RelPath) -> Result<()> {
        let owned = path.clone();
        self.run("remove folder", path, move |inner| inner.root.remove_folder(&owned)).await?;
        self.sync_folder(&path.parent()).await
    }

    fn as_folder(&self) -> Option<&Folder> {
        Some(self)
    }
}

impl Folder {
    /// Waits until the folder's names are on disk. Many waiters share one sync.
    async fn sync_folder(&self, folder: &RelPath) -> Result<()> {
        let (inner, owned) = (self.inner.clone(), folder.clone());
        self.inner
            .sync
            .sync(folder, move || {
                inner.root.open(&owned, OFlags::RDONLY | OFlags::DIRECTORY, Mode::empty())?.sync_all()
            })
            .await
            .map_err(|e| self.error("sync", folder, &e))
    }
}

/// The next chunk, and whether the file ends behind it.
fn read_chunk(file: &File, at: u64) -> std::io::Result<(Bytes, bool)> {
    // One byte more than is there, so that the end is seen at once.
    let rest = file.metadata()?.len().saturating_sub(at).saturating_add(1);
    let wanted = usize::try_from(rest).map_or(CHUNK, |rest| rest.min(CHUNK));
    let mut chunk = Vec::with_capacity(wanted);
    let is_last = !fill(&mut chunk, wanted, |chunk| {
        let at = at + chunk.len() as u64;
        rustix::io::pread(file, spare_capacity(chunk), at)
    })?;
    Ok((chunk.into(), is_last))
}

/// Reads into an empty buffer until so much is there, and tells whether it is: the file may end before.
fn fill(
    chunk: &mut Vec<u8>,
    wanted: usize,
    mut read: impl FnMut(&mut Vec<u8>) -> rustix::io::Result<usize>,
) -> std::io::Result<bool> {
    while chunk.len() < wanted {
        match read(chunk) {
            Ok(0) => return Ok(false),
            Ok(_) | Err(rustix::io::Errno::INTR) => {}
            Err(e) => return Err(e.into()),
        }
    }
    Ok(true)
}

type Listed = tokio::sync::mpsc::Sender<Result<Entry>>;

fn walk(
    inner: &Inner,
    top: RelPath,
    depth: Depth,
    entries: &Listed,
) -> std::result::Result<(), (RelPath, std::io::Error)> {
    let mut folders = vec![top];
    while let Some(folder) = folders.pop() {
        let at = |error: std::io::Error| (folder.clone(), error);
        let open = inner.root.open(&folder, OFlags::RDONLY | OFlags::DIRECTORY, Mode::empty()).map_err(at)?;
        let mut reader = rustix::fs::Dir::read_from(&open).map_err(|e| at(e.into()))?;
        while let Some(next) = reader.read() {
            let next = next.map_err(|e| at(e.into()))?;
            let name = next.file_name().to_bytes();
            if name == b"." || name == b".." {
                continue;
            }
            // The kernel gives single names only.
            let Ok(path) = folder.join_name(name) else { continue };
            let file = rustix::fs::openat(
                &open,
                next.file_name(),
                OFlags::PATH | OFlags::NOFOLLOW | OFlags::CLOEXEC,
                Mode::empty(),
            );
            let metadata = match file.map(File::from).map_err(std::io::Error::from).and_then(|f| f.metadata()) {
                Ok(metadata) => metadata,
                // Gone between the listing and the look: as if it was never listed.
                Err(e) if e.kind() == std::io::ErrorKind::NotFound => continue,
                Err(e) => return Err((path, e)),
            };
            let entry = inner.entry(path, &metadata);
            if entry.kind == EntryKind::Folder && depth == Depth::All {
                folders.push(entry.path.clone());
            }
            if entries.blocking_send(Ok(entry)).is_err() {
                return Ok(());
            }
        }
    }
    Ok(())
}

/// Removes by a path whose parent the kernel resolved below the root.
/// Whether nobody but its owner may read a file.
fn is_private(metadata: &std::fs::Metadata) -> bool {
    metadata.mode() & 0o077 == 0
}

fn unlink_at(folder: &impl std::os::fd::AsFd, name: &std::ffi::OsStr) -> std::io::Result<()> {
    Ok(rustix::fs::unlinkat(folder, name, AtFlags::empty())?)
}
