//! Watching a place that reports no changes: looking through it again and again.

use std::{sync::Arc, time::Duration};

use futures_util::StreamExt;
use tokio::time::Instant;
use tokio_util::sync::CancellationToken;
use wetbank_core::RelPath;
use wetbank_places::{Depth, EntryKind, Place};

use super::{
    Watched,
    ledger::{SeenPaths, TOGETHER, forget_gone, sighting, untaken},
    markers::Markers,
    pace::Pace,
    settle::{Answer, Seen, Settling},
};
use crate::{clock, engine::Core};

struct Look {
    folder: RelPath,
    deep: bool,
    pace: Pace,
    due: Instant,
    settling: Settling,
    /// Markers that the last complete look showed.
    markers: Markers,
}

/// Looks through the folders until told to stop. One listing serves all rules on a folder.
pub(super) async fn watch(core: Arc<Core>, place: Arc<dyn Place>, watched: Watched, stop: CancellationToken) {
    let mut looks: Vec<Look> = watched
        .folders()
        .into_iter()
        .map(|(folder, deep)| {
            let rules = watched.rules.iter().filter(|live| live.rule.arrival.folder == folder);
            Look {
                pace: Pace::new(rules.map(|live| live.rule.arrival.pace)),
                folder,
                deep,
                due: Instant::now(),
                settling: Settling::default(),
                markers: Markers::default(),
            }
        })
        .collect();
    loop {
        let Some(next) = looks.iter_mut().min_by_key(|look| look.due) else { return };
        tokio::select! {
            () = tokio::time::sleep_until(next.due) => {}
            () = stop.cancelled() => return,
        }
        if let Some((until, _)) = core.health.paused(place.name()) {
            next.due = Instant::now() + clock::until(until);
            continue;
        }
        tokio::select! {
            () = look_through(&core, &place, &watched, next) => {}
            () = stop.cancelled() => return,
        }
    }
}

async fn look_through(core: &Arc<Core>, place: &Arc<dyn Place>, watched: &Watched, look: &mut Look) {
    let since = clock::now();
    let mut seen = SeenPaths::default();
    let began = Instant::now();
    let mut soonest: Option<Duration> = None;
    let mut found_new = false;
    let mut markers = Markers::default();
    let depth = if look.deep { Depth::All } else { Depth::One };
    let mut listing = place.list(&look.folder, depth).ready_chunks(TOGETHER);
    while let Some(chunk) = listing.next().await {
        let mut entries = Vec::with_capacity(chunk.len());
        for entry in chunk {
            match entry {
                Ok(entry) if entry.kind == EntryKind::File => {
                    seen.insert(&entry.path);
                    markers.note(watched, &entry);
                    entries.push(entry);
                }
                Ok(_) => {}
                Err(error) => {
                    if core.place_failed(&error) {
                        tracing::warn!(%error, "a watched folder cannot be listed");
                    }
                    // What was not listed is not gone.
                    look.due = Instant::now() + look.pace.after(false, began.elapsed());
                    return;
                }
            }
        }
        for (at, file) in untaken(core, place.as_ref(), watched, &entries).await {
            found_new = true;
            let (live, entry) = (&watched.rules[at], &entries[file]);
            let settle = live.rule.arrival.settle;
            if live.rule.arrival.marker.is_some() {
                if !markers.vouch_for(live, entry) && !look.markers.vouch_for(live, entry) {
                    continue;
                }
                if settle.is_zero() {
                    core.intake.offer(sighting(live, place.as_ref(), entry, since)).await;
                    continue;
                }
            }
            let now = clock::now();
            match look.settling.look(at, &entry.path, &entry.fingerprint, settle, Seen::FoundElsewhere, now) {
                Answer::Settled => core.intake.offer(sighting(live, place.as_ref(), entry, since)).await,
                Answer::LookAgain(due) => {
                    let wait = clock::until(due);
                    soonest = Some(soonest.map_or(wait, |soonest| soonest.min(wait)));
                }
            }
        }
    }
    if core.health.well(place.name()) {
        core.place_well(place.name());
    }
    look.settling.keep(|path| seen.contains(path));
    // A marker may stand behind its file in the listing: then the next look takes the file.
    if markers.are_news_after(&look.markers) {
        soonest = Some(Duration::ZERO);
    }
    look.markers = markers;
    let rules = watched.rules.iter().filter(|live| live.rule.arrival.folder == look.folder);
    forget_gone(core, place.as_ref(), rules, &seen, since).await;
    let pause = look.pace.after(found_new, began.elapsed());
    look.due = Instant::now() + soonest.map_or(pause, |soonest| soonest.min(pause).max(began.elapsed()));
}
