//! Watching a place that reports no changes: looking through it again and again.

use std::{
    collections::{HashMap, HashSet},
    sync::Arc,
    time::Duration,
};

use futures_util::{StreamExt, TryStreamExt};
use jiff::Timestamp;
use tokio::time::Instant;
use tokio_util::sync::CancellationToken;
use wetbank_core::{FilePath, RelPath};
use wetbank_places::{Change, ChangeStream, Depth, Entry, EntryKind, Place, PlaceError, PlaceErrorKind, Writers};

use super::{
    arrivals::Noticed,
    ledger::{TOGETHER, Untaken, forget, forget_gone, sighting, untaken},
    markers::Markers,
    means::Intake,
    pace::Pace,
    settle::{Answer, Seen, Settling},
    watched::Watched,
};
use crate::{clock, moorings::Misnamed, runner::SeenPaths};

/// Everything is looked through so often even where changes are told.
const WHOLE_EVERY: Duration = Duration::from_secs(15 * 60);

struct Look {
    folder: RelPath,
    deep: bool,
    pace: Pace,
    due: Instant,
    settling: Settling,
    /// Markers that the last complete look showed.
    markers: Markers,
    told: Told,
    noticed: Noticed,
}

/// What the place tells of changes.
#[derive(Default)]
struct Told {
    /// From where on changes are to be asked.
    since: Option<String>,
    /// When all was looked through the last time; nothing before the first time.
    whole_at: Option<Instant>,
    /// The place tells none.
    none: bool,
    /// Files that were told and wait: only another change would tell them again.
    waiting: HashMap<RelPath, Entry>,
}

/// Looks through the folders until told to stop. One listing serves all rules on a folder.
pub(super) async fn watch(intake: Arc<Intake>, place: Arc<dyn Place>, watched: Watched, stop: CancellationToken) {
    let mut looks: Vec<Look> = watched
        .folders()
        .into_iter()
        .map(|(folder, deep)| {
            let rules = watched.rules.iter().filter(|live| live.arrival.folder == folder);
            Look {
                pace: Pace::new(rules.map(|live| live.arrival.pace)),
                folder,
                deep,
                due: Instant::now(),
                settling: Settling::default(),
                markers: Markers::default(),
                told: Told::default(),
                noticed: Noticed::default(),
            }
        })
        .collect();
    loop {
        let Some(next) = looks.iter_mut().min_by_key(|look| look.due) else { return };
        tokio::select! {
            () = tokio::time::sleep_until(next.due) => {}
            () = stop.cancelled() => return,
        }
        if let Some((until, _)) = intake.moorings.paused(place.name()) {
            next.due = Instant::now() + clock::until(until);
            continue;
        }
        tokio::select! {
            () = look_through(&intake, &place, &watched, next) => {}
            () = stop.cancelled() => return,
        }
    }
}

/// One look at a folder.
struct Looking<'a> {
    intake: &'a Arc<Intake>,
    place: &'a Arc<dyn Place>,
    watched: &'a Watched,
    since: Timestamp,
    markers: Markers,
    /// When to look again at the earliest that is asked for.
    soonest: Option<Duration>,
    found_new: bool,
    misnamed: Misnamed,
}

/// What there is to look at: changes where the place tells them, else everything. A whole look
/// comes now and then even so.
fn source(place: &Arc<dyn Place>, look: &mut Look) -> (ChangeStream, bool) {
    let depth = if look.deep { Depth::All } else { Depth::One };
    let everything = || place.list(&look.folder, depth).map_ok(Change::There).boxed();
    if look.told.none {
        return (everything(), true);
    }
    let is_due = look.told.whole_at.is_none_or(|at| at.elapsed() > WHOLE_EVERY);
    let since = look.told.since.clone().filter(|_| !is_due);
    let is_whole = since.is_none();
    match place.changes(&look.folder, depth, since) {
        Some(changes) => (changes, is_whole),
        None => {
            look.told.none = true;
            (everything(), true)
        }
    }
}

async fn look_through(intake: &Arc<Intake>, place: &Arc<dyn Place>, watched: &Watched, look: &mut Look) {
    let began = Instant::now();
    let (source, is_whole) = source(place, look);
    let mut looking = Looking {
        intake,
        place,
        watched,
        since: clock::now(),
        markers: Markers::default(),
        soonest: None,
        found_new: false,
        misnamed: Misnamed::default(),
    };
    let (mut seen, mut until) = (SeenPaths::default(), None);
    let mut changes = source.ready_chunks(TOGETHER);
    if is_whole {
        look.told.waiting.clear();
    }
    while let Some(chunk) = changes.next().await {
        let mut entries = Vec::with_capacity(chunk.len());
        for change in chunk {
            match change {
                Ok(Change::There(entry)) if entry.kind == EntryKind::File => {
                    seen.insert(&entry.path);
                    looking.markers.note(watched, &entry);
                    look.told.waiting.remove(&entry.path);
                    entries.push(entry);
                }
                Ok(Change::There(entry)) if entry.kind == EntryKind::Misnamed => looking.misnamed.note(&entry),
                Ok(Change::There(_)) => {}
                Ok(Change::Gone(path)) => looking.gone(look, path).await,
                Ok(Change::Until(token)) => until = Some(token),
                Err(error) => {
                    look.due = Instant::now() + looking.failed(look, &error, began.elapsed());
                    return;
                }
            }
        }
        look.noticed.notice(&intake.arrivals, place.as_ref(), watched, &entries).await;
        looking.consider(look, &entries).await;
    }
    look.noticed.is_acquainted |= is_whole;
    intake.moorings.look_worked(&looking.folder(look));
    if is_whole || looking.misnamed.count > 0 {
        intake.moorings.look_told(&looking.folder(look), &looking.misnamed);
    }
    if is_whole {
        look.settling.keep(|path| seen.contains(path));
        let rules = watched.rules.iter().filter(|live| live.arrival.folder == look.folder);
        forget_gone(intake, place.as_ref(), rules, &seen, looking.since).await;
        look.told.whole_at = Some(began);
    }
    // A marker may stand behind its file in the listing: then the next look takes the file.
    if looking.markers.are_news_after(&look.markers) {
        looking.soonest = Some(Duration::ZERO);
    }
    if is_whole {
        look.markers = std::mem::take(&mut looking.markers);
    } else {
        look.markers.also(std::mem::take(&mut looking.markers));
        // What waits is told no more: it is the same as it was.
        let waiting: Vec<_> = look.told.waiting.values().filter(|entry| !seen.contains(&entry.path)).cloned().collect();
        for chunk in waiting.chunks(TOGETHER) {
            looking.consider(look, chunk).await;
        }
    }
    look.told.since = until;
    let pause = look.pace.after(looking.found_new, began.elapsed());
    look.due = Instant::now() + looking.soonest.map_or(pause, |soonest| soonest.min(pause).max(began.elapsed()));
}

impl Looking<'_> {
    /// What to do when a look fails: when to look again.
    fn failed(&self, look: &mut Look, error: &PlaceError, took: Duration) -> Duration {
        if error.kind == PlaceErrorKind::Unsupported {
            // No changes are told, or none since then: everything is looked through.
            look.told.none = look.told.since.take().is_none();
            look.told.whole_at = None;
            return Duration::ZERO;
        }
        // What was told before may be lost with this answer.
        look.told.since = None;
        self.intake.moorings.look_failed(&self.folder(look), error);
        // What was not listed is not gone.
        look.pace.after(false, took)
    }

    fn folder(&self, look: &Look) -> FilePath {
        FilePath { place: self.place.name().clone(), path: look.folder.clone() }
    }

    async fn gone(&self, look: &mut Look, path: RelPath) {
        look.told.waiting.remove(&path);
        look.markers.forget(&path);
        for (at, live) in self.watched.about(&path) {
            look.settling.forget(at, &path);
            let file = FilePath { place: self.place.name().clone(), path: path.clone() };
            forget(self.intake, live, vec![file], self.since).await;
        }
    }

    /// Takes files in for every rule that is about them, once they are complete.
    async fn consider(&mut self, look: &mut Look, entries: &[Entry]) {
        let mut waits = HashSet::new();
        for Untaken { rule: at, file, changed } in
            untaken(self.intake, self.place.as_ref(), self.watched, entries).await
        {
            self.found_new = true;
            let (live, entry) = (&self.watched.rules[at], &entries[file]);
            let arrival = &live.arrival;
            if arrival.marker.is_some() && !self.markers.vouch_for(live, entry) && !look.markers.vouch_for(live, entry)
            {
                waits.insert(file);
                continue;
            }
            let now = clock::now();
            // A letter is there as a whole or not at all.
            let answer = if (arrival.marker.is_some() && arrival.settle.is_zero()) || arrival.letter.is_some() {
                Answer::Settled
            } else {
                let (path, state) = (&entry.path, &entry.fingerprint);
                look.settling.look(at, path, state, arrival.settle, (Seen::FoundElsewhere, Writers::Unknown), now)
            };
            match answer {
                Answer::Settled => {
                    self.intake.offers.offer(sighting(live, self.place.as_ref(), entry, changed, self.since)).await;
                }
                Answer::LookAgain(due) => {
                    waits.insert(file);
                    let wait = clock::until(due);
                    self.soonest = Some(self.soonest.map_or(wait, |soonest| soonest.min(wait)));
                }
            }
        }
        for (file, entry) in entries.iter().enumerate().filter(|_| !look.told.none) {
            if waits.contains(&file) {
                look.told.waiting.insert(entry.path.clone(), entry.clone());
            } else {
                look.told.waiting.remove(&entry.path);
            }
        }
    }
}
