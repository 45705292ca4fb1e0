//! Which paths were seen.

use std::{
    collections::HashSet,
    hash::{DefaultHasher, Hash, Hasher},
};

use wetbank_core::RelPath;

/// The paths that a scan saw, eight bytes each, so that a million fit in little memory. Two
/// paths with one hash only delay forgetting the one that is gone.
#[derive(Debug, Default)]
pub(crate) struct SeenPaths(HashSet<u64>);

impl SeenPaths {
    pub fn insert(&mut self, path: &RelPath) {
        self.0.insert(short(path));
    }

    pub fn contains(&self, path: &RelPath) -> bool {
        self.0.contains(&short(path))
    }
}

pub(crate) fn short(path: &RelPath) -> u64 {
    let mut hasher = DefaultHasher::new();
    path.hash(&mut hasher);
    hasher.finish()
}
