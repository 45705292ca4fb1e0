//! A disk that is soon full.

use std::{
    path::{Path, PathBuf},
    process::Command,
};

/// A file system of a few KiB, mounted over a folder until it is dropped.
#[derive(Debug)]
pub struct SmallDisk {
    at: PathBuf,
}

impl SmallDisk {
    /// Mounts it; nothing where that is not allowed, because only root may mount. Everybody may
    /// write to it.
    pub fn over(folder: &Path, kib: u32) -> Option<Self> {
        let how = ["-t", "tmpfs", "-o", &format!("size={kib}k,mode=777"), "tmpfs"];
        mount(&how, folder).then(|| Self { at: folder.to_owned() })
    }

    /// Gives it another size.
    pub fn resize(&self, kib: u32) {
        assert!(mount(&["-o", &format!("remount,size={kib}k")], &self.at));
    }

    /// Nobody can write to it, or everybody again.
    pub fn set_read_only(&self, is: bool) {
        assert!(mount(&["-o", if is { "remount,ro" } else { "remount,rw" }], &self.at));
    }
}

impl Drop for SmallDisk {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg("-l").arg(&self.at).status();
    }
}

/// A folder that is to be found at another path, too, until it is dropped.
#[derive(Debug)]
pub struct Mounted(PathBuf);

impl Mounted {
    /// Mounts it; nothing where that is not allowed.
    pub fn at(folder: &Path, at: &Path) -> Option<Self> {
        mount(&["--bind", &folder.display().to_string()], at).then(|| Self(at.to_owned()))
    }
}

impl Drop for Mounted {
    fn drop(&mut self) {
        let _ = Command::new("umount").arg("-l").arg(&self.0).status();
    }
}

fn mount(how: &[&str], at: &Path) -> bool {
    Command::new("mount").args(how).arg(at).status().is_ok_and(|status| status.success())
}
