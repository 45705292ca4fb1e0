//! Files beside files that tell that these are complete.

use std::collections::HashMap;

use wetbank_core::RelPath;
use wetbank_places::Entry;

use super::watched::{Watched, Watching};
use crate::runner::short;

/// The markers that were seen and when each was written; by the hash of its path, so that a
/// million fit in little memory.
#[derive(Debug, Default)]
pub(super) struct Markers(HashMap<u64, i64>);

impl Markers {
    /// Takes note of a file if it is a marker.
    pub fn note(&mut self, watched: &Watched, entry: &Entry) -> bool {
        let is_marker = watched.is_marker(&entry.path);
        if is_marker {
            self.0.insert(short(&entry.path), entry.fingerprint.modified);
        }
        is_marker
    }

    /// Whether the marker of a file is there, and no older than the file: an old one speaks of
    /// what the file was before.
    pub fn vouch_for(&self, live: &Watching, entry: &Entry) -> bool {
        let marker = live.arrival.marker.as_ref().and_then(|marker| marker.of(&entry.path));
        marker
            .is_some_and(|path| self.0.get(&short(&path)).is_some_and(|written| *written >= entry.fingerprint.modified))
    }

    /// Those of a look that showed changes only.
    pub fn also(&mut self, more: Self) {
        self.0.extend(more.0);
    }

    /// A marker is gone.
    pub fn forget(&mut self, path: &RelPath) {
        self.0.remove(&short(path));
    }

    /// Whether there is one that an earlier look did not show, or not as it is now.
    pub fn are_news_after(&self, before: &Self) -> bool {
        self.0.iter().any(|(marker, written)| before.0.get(marker) != Some(written))
    }
}
