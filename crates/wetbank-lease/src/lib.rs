//! Whether somebody has a file open for writing: one question to the kernel.
//!
//! Linux grants a read lease (`fcntl(2)`, `F_SETLEASE`) only on a file that nobody has open for writing. The lease
//! is taken and given back at once; whoever opens the file for writing in between is kept waiting for that
//! instant, and the signal that would tell us of it is one that does nothing.
//!
//! Only the owner of a file may take a lease, or a process with `CAP_LEASE`, and not every file system has
//! them. Where the kernel does not say, the open files of all processes that we may look at are searched.

use std::{
    fs::{self, File},
    os::{
        fd::{AsRawFd, RawFd},
        unix::fs::MetadataExt,
    },
    path::Path,
};

/// What is known of the writers of a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Writers {
    /// Nobody has it open for writing.
    None,
    /// Somebody has.
    Some,
    /// Nobody can tell: the file is not ours, or its file system does not say.
    Unknown,
}

/// Sets the signal that tells of a lease being broken, among others; from `asm-generic/fcntl.h`.
const F_SETSIG: libc::c_int = 10;

/// Whether somebody has a file open for writing. It must be open for reading only.
pub fn writers(file: &File) -> Writers {
    match ask(file.as_raw_fd()) {
        Writers::Unknown if is_written_by_a_process_we_see(file) => Writers::Some,
        answer => answer,
    }
}

/// Asks for a lease, and gives it back.
#[allow(unsafe_code, reason = "no crate wraps these calls; they take numbers only")]
fn ask(file: RawFd) -> Writers {
    // SAFETY: the descriptor is open as long as the file that the caller borrows; the arguments are plain
    // numbers, and no memory is passed.
    let (prepared, leased) = unsafe {
        // Whoever breaks the lease before it is given back sends this signal, which is ignored unless
        // somebody asks for it. The usual one would end the process.
        let prepared = libc::fcntl(file, F_SETSIG, libc::SIGURG);
        let leased = if prepared == 0 { libc::fcntl(file, libc::F_SETLEASE, libc::F_RDLCK) } else { -1 };
        (prepared, leased)
    };
    if prepared != 0 {
        return Writers::Unknown;
    }
    if leased != 0 {
        let error = std::io::Error::last_os_error();
        let refused = matches!(error.raw_os_error(), Some(libc::EAGAIN));
        return if refused { Writers::Some } else { Writers::Unknown };
    }
    // SAFETY: as above.
    unsafe { libc::fcntl(file, libc::F_SETLEASE, libc::F_UNLCK) };
    Writers::None
}

/// Searches the open files of other processes.
fn is_written_by_a_process_we_see(file: &File) -> bool {
    let Ok(wanted) = file.metadata() else { return false };
    let Ok(processes) = fs::read_dir("/proc") else { return false };
    let numbers = processes.flatten().filter(|entry| entry.file_name().to_string_lossy().parse::<u32>().is_ok());
    numbers.map(|process| process.path()).any(|process| has_open_for_writing(&process, &wanted))
}

fn has_open_for_writing(process: &Path, wanted: &fs::Metadata) -> bool {
    let Ok(descriptors) = fs::read_dir(process.join("fd")) else { return false };
    descriptors.flatten().any(|descriptor| {
        let is_it = fs::metadata(descriptor.path())
            .is_ok_and(|found| (found.dev(), found.ino()) == (wanted.dev(), wanted.ino()));
        is_it && writes(&process.join("fdinfo").join(descriptor.file_name()))
    })
}

/// Whether a descriptor's line `flags:` (in octal) has a mode of access that writes.
fn writes(info: &Path) -> bool {
    let Ok(info) = fs::read_to_string(info) else { return false };
    let flags = info.lines().find_map(|line| line.strip_prefix("flags:"));
    let flags = flags.and_then(|flags| i32::from_str_radix(flags.trim(), 8).ok()).unwrap_or(0);
    flags & libc::O_ACCMODE != libc::O_RDONLY
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

    use std::{fs::OpenOptions, io::Write};

    use super::*;

    fn file() -> (tempfile::TempDir, std::path::PathBuf) {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("a.csv");
        fs::write(&path, "one").unwrap();
        (folder, path)
    }

    #[test]
    fn a_file_has_a_writer_as_long_as_somebody_has_it_open_for_writing() {
        let (_folder, path) = file();
        assert_eq!(writers(&File::open(&path).unwrap()), Writers::None);
        let mut writer = OpenOptions::new().append(true).open(&path).unwrap();
        writer.write_all(b" two").unwrap();
        assert_eq!(writers(&File::open(&path).unwrap()), Writers::Some);
        drop(writer);
        assert_eq!(writers(&File::open(&path).unwrap()), Writers::None);
    }

    #[test]
    fn readers_are_no_writers_and_a_name_does_not_matter() {
        let (folder, path) = file();
        let _reader = File::open(&path).unwrap();
        assert_eq!(writers(&File::open(&path).unwrap()), Writers::None);
        let _writer = OpenOptions::new().write(true).open(&path).unwrap();
        let moved = folder.path().join("b.csv");
        fs::rename(&path, &moved).unwrap();
        assert_eq!(writers(&File::open(&moved).unwrap()), Writers::Some);
    }

    #[test]
    fn where_no_lease_is_to_be_had_open_files_are_searched() {
        let (_folder, path) = file();
        assert!(!is_written_by_a_process_we_see(&File::open(&path).unwrap()));
        let _writer = OpenOptions::new().write(true).open(&path).unwrap();
        assert!(is_written_by_a_process_we_see(&File::open(&path).unwrap()));
    }

    #[test]
    fn somebody_who_opens_the_file_meanwhile_is_not_refused_and_we_are_not_ended() {
        let (_folder, path) = file();
        std::thread::scope(|scope| {
            let asking = scope.spawn(|| {
                (0..20_000).map(|_| writers(&File::open(&path).unwrap())).filter(|one| *one == Writers::Unknown).count()
            });
            while !asking.is_finished() {
                drop(OpenOptions::new().append(true).open(&path).unwrap());
            }
            assert_eq!(asking.join().unwrap(), 0);
        });
    }
}
