//! Folders that were there a moment ago.

use std::{
    collections::HashMap,
    time::{Duration, Instant},
};

use parking_lot::{Mutex, MutexGuard};
use wetbank_core::RelPath;

/// For so long nobody is asked again.
const FRESH: Duration = Duration::from_secs(60);
/// Folders that are remembered at most.
const MOST: usize = 1_000;

/// What many files in a row would ask again and again over a slow line: whether their folder is there. Whoever is
/// refused for want of it forgets it and asks.
#[derive(Debug, Default)]
pub(crate) struct KnownFolders(Mutex<HashMap<RelPath, Instant>>);

impl KnownFolders {
    fn lock(&self) -> MutexGuard<'_, HashMap<RelPath, Instant>> {
        self.0.lock()
    }

    /// Whether a folder was there a moment ago. The root is asked for like any other.
    pub fn has(&self, folder: &RelPath) -> bool {
        self.lock().get(folder).is_some_and(|at| at.elapsed() < FRESH)
    }

    /// A folder was seen or made.
    pub fn seen(&self, folder: &RelPath) {
        let mut all = self.lock();
        if all.len() >= MOST {
            all.retain(|_, at| at.elapsed() < FRESH);
        }
        if all.len() < MOST {
            all.insert(folder.clone(), Instant::now());
        }
    }

    /// A folder is gone, and what lay below it.
    pub fn forget(&self, folder: &RelPath) {
        self.lock().retain(|known, _| known.below(folder).is_none());
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_folder_is_known_until_it_is_forgotten_with_what_lay_below_it() {
        let path = |text| RelPath::parse(text).unwrap();
        let known = KnownFolders::default();
        for folder in ["in", "in/2026", "out"] {
            known.seen(&path(folder));
        }
        known.forget(&path("in"));
        assert!(!known.has(&path("in")) && !known.has(&path("in/2026")) && known.has(&path("out")));
    }

    #[test]
    fn no_more_are_remembered_than_there_is_room_for() {
        let known = KnownFolders::default();
        for number in 0..2 * MOST {
            known.seen(&RelPath::parse(&number.to_string()).unwrap());
        }
        assert_eq!(known.lock().len(), MOST);
    }
}
