//! What belongs to the service itself. A place that reached it would give away the key of the vault and the token, and
//! have the list of programs written through the API.

use std::{
    fs,
    io::{self, BufRead},
    os::unix::{ffi::OsStringExt, fs::MetadataExt},
    path::{Path, PathBuf},
};

use wetbank_errands::Programs;

/// The data folder, the list of programs and the programs in it.
#[derive(Debug, Clone)]
pub(crate) struct Guarded {
    data: PathBuf,
    programs: PathBuf,
}

/// Where something lies: as the system names it, by device and inode, and by its file system and the path in that.
#[derive(Debug)]
struct Spot {
    /// Itself, if it is there.
    own: Option<(u64, u64)>,
    /// It, as far as it is there, and the folders above it.
    chain: Vec<(u64, u64)>,
    /// The device of the file system, and the path from its own root.
    within: Option<(String, PathBuf)>,
}

impl Spot {
    /// Where a path leads, through links. Of what is not there, the nearest folder above counts.
    fn of(path: &Path, mounts: &[Mount]) -> io::Result<Self> {
        let (mut there, mut missing) = (path.to_owned(), Vec::new());
        let mut real = loop {
            match fs::canonicalize(&there) {
                Ok(real) => break real,
                Err(error) if error.kind() == io::ErrorKind::NotFound => {
                    let name = there.file_name().map(ToOwned::to_owned);
                    if let (Some(name), true) = (name, there.pop()) {
                        missing.push(name);
                    } else {
                        return Err(error);
                    }
                }
                Err(error) => return Err(error),
            }
        };
        let mut chain = Vec::new();
        for at in real.ancestors() {
            let metadata = fs::metadata(at)?;
            chain.push((metadata.dev(), metadata.ino()));
        }
        let own = chain.first().copied().filter(|_| missing.is_empty());
        real.extend(missing.into_iter().rev());
        let mount = mounts.iter().rev().filter(|mount| real.starts_with(&mount.at));
        let mount = mount.max_by_key(|mount| mount.at.components().count());
        let within =
            mount.and_then(|mount| Some((mount.device.clone(), mount.root.join(real.strip_prefix(&mount.at).ok()?))));
        Ok(Self { own, chain, within })
    }

    /// Whether this is the other or lies below it.
    fn is_in(&self, other: &Self) -> bool {
        let by_inode = other.own.is_some_and(|at| self.chain.contains(&at));
        let by_path = match (&self.within, &other.within) {
            (Some((device, path)), Some((other_device, other))) => device == other_device && path.starts_with(other),
            _ => false,
        };
        by_inode || by_path
    }
}

/// Something that is mounted.
#[derive(Debug)]
struct Mount {
    device: String,
    /// What of its file system is seen.
    root: PathBuf,
    at: PathBuf,
}

/// What is mounted now (proc(5), `mountinfo`); nothing where that is not told.
fn mounts() -> Vec<Mount> {
    let Ok(file) = fs::File::open("/proc/self/mountinfo") else { return Vec::new() };
    let lines = io::BufReader::new(file).split(b'\n').map_while(Result::ok);
    let mount = |line: Vec<u8>| {
        let mut words = line.split(|byte| *byte == b' ').skip(2);
        let device = String::from_utf8_lossy(words.next()?).into_owned();
        Some(Mount { device, root: unescaped(words.next()?), at: unescaped(words.next()?) })
    };
    lines.filter_map(mount).collect()
}

/// A path in which blanks and the like are written as `\040`.
fn unescaped(text: &[u8]) -> PathBuf {
    let (mut plain, mut rest) = (Vec::with_capacity(text.len()), text);
    while let Some((first, after)) = rest.split_first() {
        let octal = rest.get(1..4).filter(|_| *first == b'\\').and_then(|digits| std::str::from_utf8(digits).ok());
        match octal.and_then(|digits| u8::from_str_radix(digits, 8).ok()) {
            Some(byte) => {
                plain.push(byte);
                rest = &rest[4..];
            }
            None => {
                plain.push(*first);
                rest = after;
            }
        }
    }
    std::ffi::OsString::from_vec(plain).into()
}

impl Guarded {
    pub fn new(data: &Path, programs: &Path) -> Self {
        Self { data: data.to_owned(), programs: programs.to_owned() }
    }

    /// Why a folder cannot be a place's root; nothing if it can. It is asked for on a thread that may wait.
    pub fn refuses_root(&self, root: &Path) -> Option<String> {
        let mounts = mounts();
        let Ok(there) = Spot::of(root, &mounts) else { return None };
        if let Ok(data) = Spot::of(&self.data, &mounts) {
            let root = root.display();
            if there.is_in(&data) {
                return Some(format!("{root} lies in Wetbank's own data folder {}", self.data.display()));
            }
            if data.is_in(&there) || self.is_mounted_below(&there, &data, &mounts) {
                return Some(format!("Wetbank's own data folder {} lies in {root}", self.data.display()));
            }
        }
        let list = Programs::read(&self.programs).unwrap_or_default();
        let files = std::iter::once(self.programs.as_path()).chain(list.paths());
        for file in files {
            if Spot::of(file, &mounts).is_ok_and(|file| file.is_in(&there)) {
                let what = if file == self.programs { "the list of programs" } else { "a program that rules may run" };
                return Some(format!("{what}, {}, lies in {}", file.display(), root.display()));
            }
        }
        None
    }

    /// Whether the data folder, or a part of it, is mounted somewhere below a folder as well.
    fn is_mounted_below(&self, folder: &Spot, data: &Spot, mounts: &[Mount]) -> bool {
        mounts.iter().any(|mount| match Spot::of(&mount.at, mounts) {
            Ok(at) => {
                at.chain.get(1..).unwrap_or_default().iter().any(|above| folder.own == Some(*above))
                    && (at.is_in(data) || data.is_in(&at))
            }
            Err(_) => false,
        })
    }

    /// Why a file cannot be a database; nothing if it can. It is asked for on a thread that may wait.
    pub fn refuses_database(&self, file: &Path) -> Option<String> {
        let mounts = mounts();
        let (there, data) = (Spot::of(file, &mounts).ok()?, Spot::of(&self.data, &mounts).ok()?);
        let own = || {
            let own = fs::read_dir(&self.data).ok()?.flatten().filter_map(|entry| entry.metadata().ok());
            let identity = fs::metadata(file).ok().map(|metadata| (metadata.dev(), metadata.ino()))?;
            own.map(|metadata| (metadata.dev(), metadata.ino())).find(|own| *own == identity)
        };
        (there.is_in(&data) || own().is_some())
            .then(|| format!("{} belongs to Wetbank's own data in {}", file.display(), self.data.display()))
    }
}

#[cfg(test)]
mod tests {
    use std::{os::unix::fs::symlink, process::Command};

    use super::*;

    struct Ground {
        folder: tempfile::TempDir,
        guarded: Guarded,
    }

    impl Ground {
        fn new() -> Self {
            let folder = tempfile::tempdir().unwrap();
            let at = folder.path();
            for name in ["srv/office", "srv/data/work", "etc"] {
                fs::create_dir_all(at.join(name)).unwrap();
            }
            fs::write(at.join("srv/data/journal.db"), "").unwrap();
            let guarded = Guarded::new(&at.join("srv/data"), &at.join("etc/programs.toml"));
            Self { folder, guarded }
        }

        fn path(&self, name: &str) -> PathBuf {
            self.folder.path().join(name)
        }

        fn refuses(&self, name: &str) -> bool {
            self.guarded.refuses_root(&self.path(name)).is_some()
        }
    }

    #[test]
    fn a_root_in_at_or_above_the_data_folder_is_refused_and_one_beside_it_is_not() {
        let ground = Ground::new();
        for name in ["srv", "srv/data", "srv/data/work", "srv/data/work/new", "srv/office/../data", "srv/data/none"] {
            assert!(ground.refuses(name), "{name}");
        }
        assert!(ground.guarded.refuses_root(Path::new("/")).is_some());
        for name in ["srv/office", "srv/dat", "srv/data-2/new", "srv/none"] {
            assert!(!ground.refuses(name), "{name}");
        }
    }

    #[test]
    fn a_link_leads_where_it_leads() {
        let ground = Ground::new();
        symlink(ground.path("srv/data"), ground.path("srv/office/way")).unwrap();
        symlink("..", ground.path("srv/office/up")).unwrap();
        assert!(ground.refuses("srv/office/way") && ground.refuses("srv/office/way/work/x"));
        assert!(ground.refuses("srv/office/up"));
    }

    #[test]
    fn the_list_of_programs_and_the_programs_in_it_are_in_no_place() {
        let ground = Ground::new();
        assert!(ground.refuses("etc"), "also before the list is written");
        fs::create_dir(ground.path("tools")).unwrap();
        let list = format!("[program.check]\npath = \"{}\"\n", ground.path("tools/check").display());
        fs::write(ground.path("etc/programs.toml"), list).unwrap();
        assert!(ground.refuses("tools"));
    }

    #[test]
    fn a_database_is_no_file_of_our_own() {
        let ground = Ground::new();
        symlink(ground.path("srv/data/journal.db"), ground.path("srv/office/link.db")).unwrap();
        fs::hard_link(ground.path("srv/data/journal.db"), ground.path("srv/office/hard.db")).unwrap();
        fs::write(ground.path("srv/office/own.db"), "").unwrap();
        let refuses = |name| ground.guarded.refuses_database(&ground.path(name)).is_some();
        assert!(refuses("srv/data/journal.db") && refuses("srv/office/link.db") && refuses("srv/office/hard.db"));
        assert!(!refuses("srv/office/own.db") && !refuses("srv/office/none.db"));
    }

    #[test]
    fn a_mount_shows_what_it_mounts() {
        let ground = Ground::new();
        fs::create_dir_all(ground.path("mnt/inner")).unwrap();
        let mount = |what: &str, at: &str| {
            let done = Command::new("mount").arg("--bind").arg(ground.path(what)).arg(ground.path(at)).output();
            done.is_ok_and(|output| output.status.success())
        };
        let unmount = |at: &str| assert!(Command::new("umount").arg(ground.path(at)).status().unwrap().success());
        // Only root may mount.
        if !mount("srv/data/work", "mnt/inner") {
            return;
        }
        let (at, above) = (ground.refuses("mnt/inner"), ground.refuses("mnt"));
        unmount("mnt/inner");
        assert!(at && above, "a part of the data folder is mounted there, or below: {at}, {above}");
        assert!(mount("srv", "mnt/inner"));
        let (at, beside) = (ground.refuses("mnt/inner"), ground.refuses("mnt/inner/office"));
        unmount("mnt/inner");
        assert!(at && !beside, "the folder above the data folder is mounted there: {at}, {beside}");
    }
}
