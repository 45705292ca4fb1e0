//! What watchers see, on record whether a rule takes it or not.

use std::{
    collections::{HashSet, hash_map::DefaultHasher},
    hash::{Hash, Hasher},
    sync::atomic::{AtomicU32, Ordering::Relaxed},
};

use jiff::Timestamp;
use tokio::sync::mpsc;
use tokio_util::sync::CancellationToken;
use wetbank_core::FilePath;
use wetbank_journal::{Journal, NewArrival};
use wetbank_places::{Entry, EntryKind, Place};

use super::watched::Watched;
use crate::{clock, keeping::Keeping};

/// Arrivals that may wait for their transaction.
const QUEUE: usize = 4096;
/// Arrivals recorded at once.
const BATCH: usize = 512;
/// States of files that a watcher remembers to have noticed; what comes beyond is recorded at every look, where it is on
/// record already.
const REMEMBERED: usize = 2_000_000;

/// Where arrivals are told.
#[derive(Debug)]
pub(crate) struct Arrivals {
    sender: mpsc::Sender<NewArrival>,
    /// For so many days they stay on record.
    days: AtomicU32,
}

impl Arrivals {
    pub fn new(keeping: Keeping) -> (Self, mpsc::Receiver<NewArrival>) {
        let (sender, receiver) = mpsc::channel(QUEUE);
        (Self { sender, days: AtomicU32::new(keeping.days) }, receiver)
    }

    /// Says how long they stay on record from now on.
    pub fn keep(&self, keeping: Keeping) {
        self.days.store(keeping.days, Relaxed);
    }

    fn oldest(&self, now: Timestamp) -> Timestamp {
        clock::before(now, Keeping { days: self.days.load(Relaxed), ..Keeping::default() }.age())
    }
}

/// Records what is told until the service stops. What cannot be recorded is left out: files are taken in all the same.
pub(crate) async fn run(journal: Journal, mut told: mpsc::Receiver<NewArrival>, cancel: CancellationToken) {
    let mut batch = Vec::with_capacity(BATCH);
    loop {
        let count = tokio::select! {
            count = told.recv_many(&mut batch, BATCH) => count,
            () = cancel.cancelled() => return,
        };
        if count == 0 {
            return;
        }
        if let Err(error) = journal.note_arrivals(std::mem::take(&mut batch)).await {
            tracing::warn!(%error, count, "what came could not be put on record");
        }
    }
}

/// What one watcher noticed so far.
#[derive(Debug, Default)]
pub(super) struct Noticed {
    states: HashSet<u64>,
    /// Everything was looked through once since the watcher began.
    pub is_acquainted: bool,
}

impl Noticed {
    /// Notices files that lie in a watched folder, each state of each once. What lay there already when the watcher
    /// began counts as having come if it is not older than what is kept on record.
    pub async fn notice(&mut self, arrivals: &Arrivals, place: &dyn Place, watched: &Watched, entries: &[Entry]) {
        let now = clock::now();
        for entry in entries.iter().filter(|entry| entry.kind == EntryKind::File) {
            let mut hasher = DefaultHasher::new();
            (&entry.path, &entry.fingerprint).hash(&mut hasher);
            let state = hasher.finish();
            if self.states.contains(&state) {
                continue;
            }
            if self.states.len() < REMEMBERED {
                self.states.insert(state);
            }
            let modified = entry.fingerprint.modified_at();
            if !watched.covers(&entry.path) {
                continue;
            }
            if !self.is_acquainted && modified < arrivals.oldest(now) {
                continue;
            }
            let file = FilePath { place: place.name().clone(), path: entry.path.clone() };
            let (fingerprint, size) = (entry.fingerprint.to_string(), entry.fingerprint.size);
            // It ends only with the service.
            let _ = arrivals.sender.send(NewArrival { file, fingerprint, size, modified, seen: now }).await;
        }
    }
}
