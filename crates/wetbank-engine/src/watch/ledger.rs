//! Keeping the ledger true to what lies there.

use std::{
    collections::HashSet,
    hash::{DefaultHasher, Hash, Hasher},
};

use jiff::Timestamp;
use wetbank_core::{FilePath, RelPath};
use wetbank_journal::Sighting;
use wetbank_places::{Entry, EntryKind, Place};

use super::{Watched, Watching};
use crate::{clock, engine::Core, step::EVENT};

/// What happened to a file that is not there any more.
pub(crate) const GONE: &str = "gone";

/// Files whose ledger rows are looked up together.
pub(super) const TOGETHER: usize = 256;
/// Ledger rows read at once.
const PAGE: i64 = 2000;

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

pub(super) fn short(path: &RelPath) -> u64 {
    let mut hasher = DefaultHasher::new();
    path.hash(&mut hasher);
    hasher.finish()
}

/// A file that a rule did not take in this state before.
#[derive(Debug, Clone, Copy)]
pub(super) struct Untaken {
    /// The rule's index.
    pub rule: usize,
    /// The file's index.
    pub file: usize,
    /// Whether the rule knows the file in another state.
    pub changed: bool,
}

/// Files that the ledger has and a complete scan, begun at `since`, did not show are gone: one
/// that comes back is new.
pub(super) async fn forget_gone<'r>(
    core: &Core,
    place: &dyn Place,
    rules: impl Iterator<Item = &'r Watching>,
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
                forget(core, live, gone, since).await;
            }
        }
    }
}

/// Files that a rule took are gone: one that comes back is new. A rule that is about files that go is
/// started.
pub(super) async fn forget(core: &Core, live: &Watching, files: Vec<FilePath>, since: Timestamp) {
    let (name, now) = (&live.rule.name, clock::now());
    if !live.arrival.of.gone {
        let _ = core.journal.forget_sightings(name, files, since).await;
        return;
    }
    let about = about_event(GONE);
    match core.journal.take_gone((name, live.version), files, since, about, now).await {
        Ok(works) => core.claims.add(works),
        Err(error) => tracing::error!(rule = %name, %error, "that files are gone cannot be recorded"),
    }
}

fn about_event(event: &str) -> String {
    serde_json::json!({ EVENT: event }).to_string()
}

/// Which rules are about which of these files and did not take them in this state before, files in
/// their order.
pub(super) async fn untaken(core: &Core, place: &dyn Place, watched: &Watched, entries: &[Entry]) -> Vec<Untaken> {
    let mut pairs = Vec::new();
    for (file, entry) in entries.iter().enumerate().filter(|(_, entry)| entry.kind == EntryKind::File) {
        pairs.extend(watched.about(&entry.path).map(|(rule, _)| Untaken { rule, file, changed: false }));
    }
    if pairs.is_empty() {
        return pairs;
    }
    let asked = pairs.iter().map(|pair| (&watched.rules[pair.rule].rule.name, &entries[pair.file].path));
    // Taking files in tells known ones apart as well, only at a higher price.
    let known = core.journal.known_states(place.name(), asked).await.unwrap_or_default();
    let mut at = 0..;
    pairs.retain_mut(|pair| {
        let state = at.next().and_then(|at| known.get(&at));
        pair.changed = state.is_some();
        state.is_none_or(|state| *state != entries[pair.file].fingerprint.to_string())
    });
    pairs
}

/// What is offered for a complete file.
pub(super) fn sighting(live: &Watching, place: &dyn Place, entry: &Entry, changed: bool, seen: Timestamp) -> Sighting {
    let of = live.arrival.of;
    Sighting {
        rule: live.rule.name.clone(),
        version: live.version,
        file: FilePath { place: place.name().clone(), path: entry.path.clone() },
        fingerprint: entry.fingerprint.to_string(),
        size: entry.fingerprint.size,
        seen,
        own_results: live.arrival.own_results,
        again: false,
        about: changed.then(|| about_event("changed")),
        // The ledger must know it all the same, or nobody could tell that it changes or goes.
        note_only: if changed { !of.changed } else { !of.new },
    }
}
