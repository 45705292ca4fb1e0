//! What the kernel tells of the folders that are watched.

use std::{
    collections::{HashMap, VecDeque},
    ffi::OsStr,
    io,
    os::unix::ffi::OsStrExt,
    path::Path,
    sync::Arc,
};

use futures_util::StreamExt;
use inotify::{EventMask, Inotify, WatchDescriptor, WatchMask, Watches};
use parking_lot::Mutex;
use tokio::sync::Notify;
use tokio_util::{sync::CancellationToken, task::TaskTracker};
use wetbank_core::RelPath;

/// Changed paths remembered at most; past that everything is scanned anew.
const REMEMBERED: usize = 200_000;
/// What became of a path.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Change {
    Closed,
    Appeared,
    Gone,
    NewFolder,
    FolderGone,
}

/// What the kernel told and nobody looked at yet; each path once, its latest change.
#[derive(Debug, Default)]
pub(super) struct Changes {
    state: Mutex<(HashMap<RelPath, Change>, VecDeque<RelPath>, bool)>,
    pub came: Notify,
}

impl Changes {
    fn put(&self, path: RelPath, change: Change) {
        let mut state = self.state.lock();
        if state.0.len() >= REMEMBERED {
            state.0.clear();
            state.1.clear();
            state.2 = true;
        } else if state.0.insert(path.clone(), change).is_none() {
            state.1.push_back(path);
        }
        drop(state);
        self.came.notify_one();
    }

    fn lost(&self) {
        self.state.lock().2 = true;
        self.came.notify_one();
    }

    /// The changes since it was asked last, in their order, and whether some were lost.
    pub fn take(&self) -> (Vec<(RelPath, Change)>, bool) {
        let mut state = self.state.lock();
        let (changes, order, lost) = std::mem::take(&mut *state);
        (order.into_iter().filter_map(|path| Some((path.clone(), *changes.get(&path)?))).collect(), lost)
    }
}

type Folders = Arc<Mutex<HashMap<WatchDescriptor, RelPath>>>;

/// The folders of which the kernel tells.
pub(super) struct Kernel {
    watches: Watches,
    folders: Folders,
    /// Of some folder it does not tell.
    pub is_blind: bool,
}

impl Kernel {
    /// Begins to listen.
    pub fn listen(tracker: &TaskTracker, stop: CancellationToken) -> io::Result<(Self, Arc<Changes>)> {
        let inotify = Inotify::init()?;
        let (changes, folders) = (Arc::new(Changes::default()), Folders::default());
        let watches = inotify.watches();
        tracker.spawn(read_events(inotify, folders.clone(), changes.clone(), stop));
        Ok((Self { watches, folders, is_blind: false }, changes))
    }

    /// Asks the kernel for events of a folder. Whatever happens in it from here on is told;
    /// what lay in it before, only a scan shows.
    pub fn watch(&mut self, root: &Path, folder: &RelPath) {
        if self.watch_one(root, folder) || folder.is_root() {
            return;
        }
        // It is not there yet: the nearest folder above it tells when it comes.
        let mut above = folder.parent();
        while !self.watch_one(root, &above) && !above.is_root() {
            above = above.parent();
        }
        // It may have come just now.
        self.watch_one(root, folder);
    }

    /// Answers whether the folder is there.
    fn watch_one(&mut self, root: &Path, folder: &RelPath) -> bool {
        let path = root.join(OsStr::from_bytes(folder.as_bytes()));
        let mask = WatchMask::CLOSE_WRITE
            | WatchMask::MOVED_TO
            | WatchMask::CREATE
            | WatchMask::MOVED_FROM
            | WatchMask::DELETE
            | WatchMask::DELETE_SELF
            | WatchMask::MOVE_SELF
            | WatchMask::ONLYDIR
            | WatchMask::DONT_FOLLOW;
        match self.watches.add(path, mask) {
            Ok(descriptor) => {
                self.folders.lock().insert(descriptor, folder.clone());
            }
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return false,
            Err(error) => {
                if !self.is_blind {
                    tracing::warn!(root = %root.display(), %folder, %error, "no kernel events for some folders; they are only looked through");
                }
                self.is_blind = true;
            }
        }
        true
    }

    /// A folder is gone, with what is below it.
    pub fn forget(&self, gone: &RelPath) {
        let mut folders = self.folders.lock();
        folders.retain(|_, folder| folder.below(gone).is_none());
    }
}

/// Drains the kernel's queue and nothing else, so that it overflows as late as possible.
async fn read_events(inotify: Inotify, folders: Folders, changes: Arc<Changes>, stop: CancellationToken) {
    let Ok(mut events) = inotify.into_event_stream(vec![0; 64 << 10]) else {
        changes.lost();
        return;
    };
    loop {
        let event = tokio::select! {
            event = events.next() => event,
            () = stop.cancelled() => return,
        };
        let Some(Ok(event)) = event else {
            changes.lost();
            return;
        };
        if event.mask.contains(EventMask::Q_OVERFLOW) {
            changes.lost();
            continue;
        }
        if event.mask.contains(EventMask::IGNORED) {
            folders.lock().remove(&event.wd);
            continue;
        }
        if event.mask.intersects(EventMask::DELETE_SELF | EventMask::MOVE_SELF | EventMask::UNMOUNT) {
            // Whether it is one that has to be there, the look at the watched folders shows.
            let gone = folders.lock().remove(&event.wd);
            if let Some(folder) = gone {
                changes.put(folder, Change::FolderGone);
            }
            continue;
        }
        let folder = folders.lock().get(&event.wd).cloned();
        let (Some(folder), Some(name)) = (folder, event.name) else { continue };
        let Ok(path) = folder.join_name(name.as_bytes()) else { continue };
        if path.is_temporary() {
            continue;
        }
        let is_folder = event.mask.contains(EventMask::ISDIR);
        let arrives = event.mask.intersects(EventMask::MOVED_TO | EventMask::CLOSE_WRITE);
        let change = if event.mask.intersects(EventMask::DELETE | EventMask::MOVED_FROM) {
            if is_folder { Change::FolderGone } else { Change::Gone }
        } else if is_folder {
            Change::NewFolder
        } else if arrives {
            Change::Closed
        } else {
            Change::Appeared
        };
        changes.put(path, change);
    }
}

#[cfg(test)]
mod tests {
    use std::{fs, time::Duration};

    use super::*;

    fn path(text: &str) -> RelPath {
        RelPath::parse(text).unwrap()
    }

    #[test]
    fn each_path_is_told_once_with_its_latest_change_and_too_many_are_told_as_lost() {
        let changes = Changes::default();
        changes.put(path("a.csv"), Change::Appeared);
        changes.put(path("b.csv"), Change::Closed);
        changes.put(path("a.csv"), Change::Closed);
        let told = vec![(path("a.csv"), Change::Closed), (path("b.csv"), Change::Closed)];
        assert_eq!(changes.take(), (told, false));
        assert_eq!(changes.take(), (vec![], false));
        for number in 0..=REMEMBERED {
            changes.put(path(&format!("{number}.csv")), Change::Closed);
        }
        assert!(changes.take().1, "everything must be looked through");
    }

    #[tokio::test]
    async fn a_file_is_told_when_it_is_closed_and_a_folder_that_is_to_come_when_it_is_there() {
        let root = tempfile::tempdir().unwrap();
        let (tracker, stop) = (TaskTracker::new(), CancellationToken::new());
        let (mut kernel, changes) = Kernel::listen(&tracker, stop.clone()).unwrap();
        kernel.watch(root.path(), &path("in/boats"));
        fs::create_dir(root.path().join("in")).unwrap();
        let next = async || {
            tokio::time::timeout(Duration::from_secs(10), changes.came.notified()).await.expect("the kernel tells");
            changes.take().0
        };
        assert_eq!(next().await, [(path("in"), Change::NewFolder)]);
        fs::create_dir(root.path().join("in/boats")).unwrap();
        kernel.watch(root.path(), &path("in/boats"));
        fs::write(root.path().join("in/boats/.wetbank-1"), "ours").unwrap();
        fs::write(root.path().join("in/boats/a.csv"), "levels").unwrap();
        let mut told = next().await;
        while told.last().is_none_or(|(_, change)| *change != Change::Closed) {
            told = next().await;
        }
        assert_eq!(told, [(path("in/boats/a.csv"), Change::Closed)]);
        assert!(!kernel.is_blind);
        stop.cancel();
    }
}
