//! Keeping the ledger true to what lies there.

use std::{
    collections::HashSet,
    hash::{DefaultHasher, Hash, Hasher},
};

use jiff::Timestamp;
use wetbank_core::{FilePath, RelPath};
use wetbank_journal::Sighting;
use wetbank_places::{Entry, Place};

use crate::{LiveRule, engine::Core};

/// Ledger rows read at once.
const PAGE: i64 = 2000;

/// The paths that a scan saw, eight bytes each, so that a million fit in little memory. Two
/// paths with one hash only delay forgetting the one that is gone.
#[derive(Debug, Default)]
pub(super) struct SeenPaths(HashSet<u64>);

impl SeenPaths {
    pub fn insert(&mut self, path: &RelPath) {
        self.0.insert(short(path));
    }

    pub fn contains(&self, path: &RelPath) -> bool {
        self.0.contains(&short(path))
    }
}

fn short(path: &RelPath) -> u64 {
    let mut hasher = DefaultHasher::new();
    path.hash(&mut hasher);
    hasher.finish()
}

/// Files that the ledger has and a complete scan, begun at `since`, did not show are gone: one
/// that comes back is new.
pub(super) async fn forget_gone<'r>(
    core: &Core,
    place: &dyn Place,
    rules: impl Iterator<Item = &'r LiveRule>,
    seen: &SeenPaths,
    since: Timestamp,
) {
    for live in rules {
        let (name, place) = (&live.rule.name, place.name());
        let mut after = Vec::new();
        while let Ok(page) = core.journal.sightings(name, place, &after, PAGE).await {
            let Some(last) = page.last() else { break };
            after = last.clone();
            let gone: Vec<_> = page
                .iter()
                .filter_map(|path| RelPath::from_bytes(path).ok())
                .filter(|path| !seen.contains(path))
                .map(|path| FilePath { place: place.clone(), path })
                .collect();
            if !gone.is_empty() {
                let _ = core.journal.forget_sightings(name, gone, since).await;
            }
        }
    }
}

/// What is offered for a complete file.
pub(super) fn sighting(live: &LiveRule, place: &dyn Place, entry: &Entry, seen: Timestamp) -> Sighting {
    Sighting {
        rule: live.rule.name.clone(),
        version: live.version,
        file: FilePath { place: place.name().clone(), path: entry.path.clone() },
        fingerprint: entry.fingerprint.to_string(),
        size: entry.fingerprint.size,
        seen,
        own_results: live.rule.arrival.own_results,
        by_hand: false,
    }
}
