//! Keeping the ledger true to what lies there.

use jiff::Timestamp;
use wetbank_core::{FilePath, RelPath};
use wetbank_journal::Sighting;
use wetbank_places::{Entry, EntryKind, Place};

use super::{
    means::Intake,
    watched::{Watched, Watching},
};
use crate::{
    clock,
    effects::{EVENT, GONE},
    runner::SeenPaths,
};

/// Files whose ledger rows are looked up together.
pub(super) const TOGETHER: usize = 256;
/// Ledger rows read at once.
const PAGE: i64 = 2000;

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
    intake: &Intake,
    place: &dyn Place,
    rules: impl Iterator<Item = &'r Watching>,
    seen: &SeenPaths,
    since: Timestamp,
) {
    for live in rules {
        let (name, place) = (&live.rule.name, place.name());
        let mut after = Vec::new();
        loop {
            // What cannot be read is asked again: an empty ledger would be another answer.
            let Some(page) = intake.record.insist(|| intake.record.journal.sightings(name, place, &after, PAGE)).await
            else {
                return;
            };
            let Some(last) = page.last() else { break };
            after = last.clone();
            let gone: Vec<_> = page
                .iter()
                .filter_map(|path| RelPath::from_bytes(path).ok())
                .filter(|path| !seen.contains(path))
                .map(|path| FilePath { place: place.clone(), path })
                .collect();
            if !gone.is_empty() {
                forget(intake, live, gone, since).await;
            }
        }
    }
}

/// Files that a rule took are gone: one that comes back is new. A rule that is about files that go is
/// started.
pub(super) async fn forget(intake: &Intake, live: &Watching, files: Vec<FilePath>, since: Timestamp) {
    let (name, now) = (&live.rule.name, clock::now());
    if !live.arrival.of.gone {
        intake.record.insist(|| intake.record.journal.forget_sightings(name, files.clone(), since)).await;
        return;
    }
    let about = about_event(GONE);
    let rule = (name, live.version);
    let taken =
        intake.record.insist(|| intake.record.journal.take_gone(rule, files.clone(), since, about.clone(), now)).await;
    intake.queue.claims.add(taken.into_iter().flatten());
}

fn about_event(event: &str) -> String {
    serde_json::json!({ EVENT: event }).to_string()
}

/// Which rules are about which of these files and did not take them in this state before, files in
/// their order.
pub(super) async fn untaken(intake: &Intake, place: &dyn Place, watched: &Watched, entries: &[Entry]) -> Vec<Untaken> {
    let mut pairs = Vec::new();
    for (file, entry) in entries.iter().enumerate().filter(|(_, entry)| entry.kind == EntryKind::File) {
        pairs.extend(watched.about(&entry.path).map(|(rule, _)| Untaken { rule, file, changed: false }));
    }
    if pairs.is_empty() {
        return pairs;
    }
    let asked = || pairs.iter().map(|pair| (&watched.rules[pair.rule].rule.name, &entries[pair.file].path));
    // Without an answer a file that changed would pass for a new one.
    let known = intake.record.insist(|| intake.record.journal.known_states(place.name(), asked())).await;
    let Some(known) = known else { return Vec::new() };
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
