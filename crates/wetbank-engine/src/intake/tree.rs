//! Whether anything changes below a folder of this machine.

use std::{
    path::{Path, PathBuf},
    sync::Arc,
};

use tokio_util::{sync::CancellationToken, task::TaskTracker};
use wetbank_core::RelPath;

use super::kernel::{Change, Changes, Kernel};

/// A folder that is watched with all below it.
pub(crate) struct Tree {
    root: PathBuf,
    folder: RelPath,
    is_deep: bool,
    kernel: Kernel,
    changes: Arc<Changes>,
    /// Everything has to be watched anew.
    is_new: bool,
}

impl Tree {
    /// Begins to watch. Nothing if the kernel tells no changes.
    pub fn of(
        root: PathBuf,
        folder: RelPath,
        is_deep: bool,
        tracker: &TaskTracker,
        stop: &CancellationToken,
    ) -> Option<Self> {
        let (kernel, changes) = Kernel::listen(tracker, stop.clone()).ok()?;
        Some(Self { root, folder, is_deep, kernel, changes, is_new: true })
    }

    /// Ends when something changed since [`Tree::follow`].
    pub async fn changed(&self) {
        self.changes.came.notified().await;
    }

    /// Of some folder the kernel tells nothing.
    pub fn is_blind(&self) -> bool {
        self.kernel.is_blind
    }

    /// Takes note of what changed, and watches folders that are new.
    pub async fn follow(&mut self) {
        let (changes, lost) = self.changes.take();
        let mut new = Vec::new();
        if self.is_new || lost {
            self.is_new = false;
            new.push(self.folder.clone());
        }
        for (path, change) in changes {
            match change {
                // What the twin's folder lies in tells that it is there by now.
                Change::NewFolder if self.folder.below(&path).is_some() => new.push(self.folder.clone()),
                Change::NewFolder if self.is_deep => new.push(path),
                Change::FolderGone => {
                    self.kernel.forget(&path);
                    if self.folder.below(&path).is_some() {
                        new.push(self.folder.clone());
                    }
                }
                Change::NewFolder | Change::Closed | Change::Appeared | Change::Gone => {}
            }
        }
        for folder in new {
            self.kernel.watch(&self.root, &folder);
            if !self.is_deep {
                continue;
            }
            let (root, top) = (self.root.clone(), folder);
            let below = tokio::task::spawn_blocking(move || folders_below(&root, &top)).await.unwrap_or_default();
            for folder in &below {
                self.kernel.watch(&self.root, folder);
            }
        }
    }
}

/// Every folder below this one, links not followed, the service's own left out.
fn folders_below(root: &Path, top: &RelPath) -> Vec<RelPath> {
    use std::os::unix::ffi::OsStrExt;
    let (mut found, mut open) = (Vec::new(), vec![top.clone()]);
    while let Some(folder) = open.pop() {
        let path = root.join(std::ffi::OsStr::from_bytes(folder.as_bytes()));
        for entry in std::fs::read_dir(path).into_iter().flatten().flatten() {
            if !entry.file_type().is_ok_and(|kind| kind.is_dir()) {
                continue;
            }
            if let Ok(below) = folder.join_name(entry.file_name().as_bytes())
                && !below.is_temporary()
            {
                found.push(below.clone());
                open.push(below);
            }
        }
    }
    found
}

#[cfg(test)]
mod tests {
    use std::{fs, time::Duration};

    use super::*;

    #[tokio::test]
    async fn changes_are_told_however_deep_and_in_folders_that_came_later() {
        let root = tempfile::tempdir().unwrap();
        let path = |below: &str| root.path().join(below);
        fs::create_dir_all(path("in/2026/old")).unwrap();
        let (tracker, stop) = (TaskTracker::new(), CancellationToken::new());
        let folder = RelPath::parse("in").unwrap();
        let mut tree = Tree::of(root.path().to_owned(), folder, true, &tracker, &stop).unwrap();
        tree.follow().await;
        let told = async |tree: &Tree| {
            tokio::time::timeout(Duration::from_secs(10), tree.changed()).await.expect("the kernel tells");
        };
        fs::write(path("in/2026/old/a.csv"), "a").unwrap();
        told(&tree).await;
        fs::create_dir_all(path("in/2026/new/deeper")).unwrap();
        told(&tree).await;
        tree.follow().await;
        fs::write(path("in/2026/new/deeper/b.csv"), "b").unwrap();
        told(&tree).await;
        tree.follow().await;
        // Another folder takes its place.
        fs::rename(path("in"), path("was")).unwrap();
        fs::create_dir_all(path("in/again")).unwrap();
        told(&tree).await;
        tree.follow().await;
        fs::remove_dir(path("in/again")).unwrap();
        told(&tree).await;
        stop.cancel();
    }
}
