//! Opening paths below a root that nothing leads out of.

use std::{
    ffi::OsStr,
    fs::File,
    io,
    os::unix::ffi::OsStrExt,
    path::{Path, PathBuf},
};

use rustix::fs::{AtFlags, Mode, OFlags, ResolveFlags, StatxAttributes, StatxFlags};
use wetbank_core::RelPath;

use super::unlink_at;

/// A root. It is opened anew for every call, so that a share mounted over it is noticed.
#[derive(Debug)]
pub(super) struct Root {
    path: PathBuf,
    mount: Option<PathBuf>,
}

impl Root {
    /// With a mount it is there only while something is mounted there: else the empty folder
    /// below a mount that is gone would look like one without files.
    pub fn new(path: PathBuf, mount: Option<PathBuf>) -> Self {
        Self { path, mount }
    }

    /// Whether it is there only while something is mounted.
    pub fn is_mount(&self) -> bool {
        self.mount.is_some()
    }

    /// Where something must be mounted.
    pub fn mount(&self) -> Option<&Path> {
        self.mount.as_deref()
    }

    fn must_be_mounted(&self) -> io::Result<()> {
        let Some(mount) = &self.mount else { return Ok(()) };
        let told = rustix::fs::statx(rustix::fs::CWD, mount, AtFlags::empty(), StatxFlags::empty());
        match told {
            Ok(told) if told.stx_attributes.contains(StatxAttributes::MOUNT_ROOT) => Ok(()),
            Err(e) if e != rustix::io::Errno::NOENT => Err(e.into()),
            _ => Err(io::Error::new(io::ErrorKind::NotConnected, format!("nothing is mounted at {}", mount.display()))),
        }
    }

    pub fn path(&self) -> &Path {
        &self.path
    }

    fn handle(&self) -> io::Result<File> {
        self.must_be_mounted()?;
        let flags = OFlags::PATH | OFlags::DIRECTORY | OFlags::CLOEXEC;
        Ok(File::from(rustix::fs::open(&self.path, flags, Mode::empty())?))
    }

    /// Proves that the root is a folder that can be listed.
    pub fn check(&self) -> io::Result<()> {
        self.must_be_mounted()?;
        std::fs::read_dir(&self.path).map(|_| ())
    }

    /// Opens a path below the root.
    pub fn open(&self, path: &RelPath, flags: OFlags, mode: Mode) -> io::Result<File> {
        let relative: &OsStr = if path.is_root() { OsStr::new(".") } else { OsStr::from_bytes(path.as_bytes()) };
        let root = self.handle()?;
        let beneath = ResolveFlags::BENEATH | ResolveFlags::NO_MAGICLINKS;
        loop {
            match rustix::fs::openat2(&root, relative, flags | OFlags::CLOEXEC, mode, beneath) {
                Ok(file) => return Ok(File::from(file)),
                // The kernel asks to try again when a rename raced with the resolution.
                Err(rustix::io::Errno::AGAIN | rustix::io::Errno::INTR) => {}
                Err(e) => return Err(e.into()),
            }
        }
    }

    /// The open parent folder of a path, and the last name.
    pub fn parent_of<'p>(&self, path: &'p RelPath) -> io::Result<(File, &'p OsStr)> {
        if path.is_root() {
            return Err(io::Error::new(io::ErrorKind::InvalidInput, "the root itself"));
        }
        let parent = self.open(&path.parent(), OFlags::PATH | OFlags::DIRECTORY, Mode::empty())?;
        Ok((parent, OsStr::from_bytes(path.name())))
    }

    /// Removes a file.
    pub fn unlink(&self, path: &RelPath) -> io::Result<()> {
        let (parent, name) = self.parent_of(path)?;
        unlink_at(&parent, name)
    }

    /// Removes an empty folder.
    pub fn remove_folder(&self, path: &RelPath) -> io::Result<()> {
        let (parent, name) = self.parent_of(path)?;
        Ok(rustix::fs::unlinkat(&parent, name, AtFlags::REMOVEDIR)?)
    }

    /// Makes a folder and those above it; answers which were made.
    pub fn make_folders(&self, path: &RelPath) -> io::Result<Vec<RelPath>> {
        let mut made = Vec::new();
        let mut at = RelPath::root();
        for part in path.parts() {
            at = at.join_name(part).map_err(|e| io::Error::new(io::ErrorKind::InvalidInput, e))?;
            let (parent, name) = self.parent_of(&at)?;
            match rustix::fs::mkdirat(&parent, name, Mode::from_raw_mode(0o755)) {
                Ok(()) => made.push(at.clone()),
                Err(rustix::io::Errno::EXIST) => {
                    self.open(&at, OFlags::PATH | OFlags::DIRECTORY, Mode::empty())?;
                }
                Err(e) => return Err(e.into()),
            }
        }
        Ok(made)
    }
}
