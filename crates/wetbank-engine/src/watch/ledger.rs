//! Keeping the ledger true to what lies there.

use std::{
    collections::HashSet,
    hash::{DefaultHasher, Hash, Hasher},
};

use jiff::Timestamp;
use wetbank_core::{FilePath, RelPath};
use wetbank_journal::Sighting;
use wetbank_places::{Entry, EntryKind, Place};

use super::Watched;
use crate::{LiveRule, engine::Core};

/// Files whose ledger rows are looked up together.
pub(super) const TOGETHER: usize = 256;
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

pub(super) fn short(path: &RelPath) -> u64 {
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

/// Which rules are about which of these files and did not take them in this state before: pairs
/// of the rule's and the file's index, files in their order.
pub(super) async fn untaken(
    core: &Core,
    place: &dyn Place,
    watched: &Watched,
    entries: &[Entry],
) -> Vec<(usize, usize)> {
    let mut pairs = Vec::new();
    for (file, entry) in entries.iter().enumerate().filter(|(_, entry)| entry.kind == EntryKind::File) {
        pairs.extend(watched.about(&entry.path).map(|(rule, _)| (rule, file)));
    }
    if pairs.is_empty() {
        return pairs;
    }
    let asked = pairs.iter().map(|&(rule, file)| (&watched.rules[rule].rule.name, &entries[file].path));
    // Taking files in tells known ones apart as well, only at a higher price.
    let known = core.journal.known_states(place.name(), asked).await.unwrap_or_default();
    let mut at = 0..;
    pairs.retain(|&(_, file)| {
        let state = at.next().and_then(|at| known.get(&at));
        state.is_none_or(|state| *state != entries[file].fingerprint.to_string())
    });
    pairs
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
