//! The clock of one service, put as a person or a time server puts it.

use std::{fs, path::PathBuf};

use tempfile::TempDir;

/// A clock that goes on from where it is put.
pub struct Clock {
    _folder: TempDir,
    file: PathBuf,
    library: String,
}

/// What makes a program see another clock.
fn library() -> String {
    let folders = fs::read_dir("/usr/lib").unwrap().map(|entry| entry.unwrap().path());
    let mut libraries = folders.map(|folder| folder.join("faketime/libfaketimeMT.so.1"));
    libraries.find(|library| library.exists()).expect("libfaketime is installed").display().to_string()
}

impl Clock {
    /// A clock that stands at this time of UTC, as in `2026-03-14 05:59:55`.
    pub fn at(time: &str) -> Self {
        let folder = TempDir::new().unwrap();
        let clock = Self { file: folder.path().join("clock"), _folder: folder, library: library() };
        clock.put(time);
        clock
    }

    /// Puts it forward or back.
    pub fn put(&self, time: &str) {
        let aside = self.file.with_extension("new");
        fs::write(&aside, format!("@{time}\n")).unwrap();
        fs::rename(aside, &self.file).unwrap();
    }

    /// With this in its environment a service goes by this clock.
    pub fn environment(&self) -> [(&'static str, &str); 5] {
        [
            ("LD_PRELOAD", &self.library),
            ("FAKETIME_TIMESTAMP_FILE", self.file.to_str().unwrap()),
            ("FAKETIME_NO_CACHE", "1"),
            ("FAKETIME_DONT_FAKE_MONOTONIC", "1"),
            ("TZ", "UTC"),
        ]
    }
}
