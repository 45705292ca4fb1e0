//! The places of the book, ready to use.

use std::{collections::HashMap, sync::Arc};

use jiff::Timestamp;
use parking_lot::Mutex;
use tokio::sync::{OwnedSemaphorePermit, Semaphore};
use tokio_util::task::TaskTracker;
use wetbank_core::{FilePath, Name, RetryPolicy};
use wetbank_places::{Place, PlaceError};

use super::{
    dock::Dock,
    health::Health,
    moored::Moored,
    troubles::{About, Misnamed, Trouble},
};
use crate::{
    arranged::Arranged,
    events::{Event, Events},
    record::Record,
};

/// A file over this size holds many chunks in memory while it travels.
const LARGE: u64 = 8 << 20;
/// Large files on their way to one place at once.
const LARGE_SLOTS: usize = 4;

/// The places of the book, ready to use.
#[derive(Debug)]
pub(crate) struct Moorings {
    pub(super) arranged: Arc<Arranged>,
    pub(super) dock: Arc<Dock>,
    large_slots: Mutex<HashMap<Name, Arc<Semaphore>>>,
}

/// Why a place cannot be used now.
#[derive(Debug)]
pub(crate) enum Away {
    /// It failed, and nobody tries before this time.
    Paused(Timestamp, PlaceError),
    /// It cannot be used at all.
    Unusable(PlaceError),
}

impl From<Away> for crate::EngineError {
    fn from(away: Away) -> Self {
        let (Away::Paused(_, error) | Away::Unusable(error)) = away;
        error.into()
    }
}

impl Moorings {
    pub fn new(record: Record, arranged: Arc<Arranged>, events: Events, tracker: TaskTracker) -> Self {
        let dock = Dock::new(record, events, tracker);
        Self { arranged, dock: Arc::new(dock), large_slots: Mutex::default() }
    }

    /// A place of the book, unless it is paused.
    pub fn get(&self, name: &Name) -> Result<Arc<dyn Place>, Away> {
        match self.paused(name) {
            Some((until, error)) => Err(Away::Paused(until, error)),
            None => self.arranged.now().place(name).map_err(Away::Unusable),
        }
    }

    /// The same place, whose every call is noted from now on.
    pub fn moor(&self, place: Arc<dyn Place>) -> Arc<dyn Place> {
        Arc::new(Moored::new(place, self.dock.clone()))
    }

    /// The last failure and when to ask again, if a place is paused.
    pub fn paused(&self, name: &Name) -> Option<(Timestamp, PlaceError)> {
        self.dock.health.paused(name)
    }

    /// How a place is doing.
    pub fn health(&self, name: &Name) -> Health {
        self.dock.health.of(name)
    }

    /// A place was changed: what is known of it is of no use.
    pub fn forget(&self, name: &Name) {
        self.dock.health.forget(name);
    }

    /// What a call of a place on this machine came to that did not pass through it.
    pub fn noted<T>(&self, outcome: Result<T, PlaceError>) -> Result<T, PlaceError> {
        self.dock.noted(outcome)
    }

    /// A file was copied between two folders of this machine, which passes through no place: there is room.
    pub fn has_room(&self, name: &Name) {
        self.dock.has_room(name);
    }

    /// When what failed at a place is tried again, as its limits say.
    pub fn retry_at(&self, error: &PlaceError) -> Option<RetryPolicy> {
        self.arranged.now().limits.get(&error.place)?.retry.clone()
    }

    /// Waits for a turn to send a large file to a place; small ones need none.
    pub async fn large_slot(&self, place: &Name, size: u64) -> Option<OwnedSemaphorePermit> {
        if size <= LARGE {
            return None;
        }
        let slots = {
            let mut all = self.large_slots.lock();
            all.entry(place.clone()).or_insert_with(|| Arc::new(Semaphore::new(LARGE_SLOTS))).clone()
        };
        slots.acquire_owned().await.ok()
    }

    /// Waits until places that were away can be used again; answers which.
    pub async fn came_back(&self) -> Vec<Name> {
        loop {
            let came = self.dock.came_back.notified();
            let well = std::mem::take(&mut *self.dock.well.lock());
            if !well.is_empty() {
                return well;
            }
            came.await;
        }
    }

    /// Nobody knows how places did while the service was not there.
    pub fn begin(&self) {
        let places = self.arranged.now().specs.keys().map(ToString::to_string).collect();
        self.dock.remember(places, "unknown", None);
    }

    /// A watched folder could not be looked at: whoever waits for its files must see that.
    pub fn look_failed(&self, folder: &FilePath, error: &PlaceError) {
        // A place that is away tells that itself.
        if self.paused(&folder.place).is_some() {
            return;
        }
        let why = format!("{folder} cannot be looked through, so no file is taken from there: {}", error.reason());
        if self.dock.troubles.put(About::folder(folder), why.clone(), &error.remedy()) {
            tracing::warn!(why, "a watched folder cannot be looked through");
            self.dock.events.tell(Event::Book);
        }
    }

    /// A watched folder was looked through.
    pub fn look_worked(&self, folder: &FilePath) {
        if self.dock.troubles.clear(&About::folder(folder)) {
            tracing::info!(%folder, "a watched folder can be looked through again");
            self.dock.events.tell(Event::Book);
        }
    }

    /// What a look at a watched folder found that no rule can take under its name.
    pub fn look_told(&self, folder: &FilePath, misnamed: &Misnamed) {
        if misnamed.count == 0 {
            if self.dock.troubles.clear(&About::names(folder)) {
                self.dock.events.tell(Event::Book);
            }
            return;
        }
        let why = format!("{folder} holds {}, so none of them is taken", misnamed.words());
        if self.dock.troubles.put(About::names(folder), why.clone(), "Give them other names on the server.") {
            tracing::warn!(why, "names that cannot be used");
            self.dock.events.tell(Event::Book);
        }
    }

    /// Nobody looks at a place's folders any more.
    pub fn looks_no_more(&self, place: &Name) {
        self.dock.troubles.clear_folders(place);
    }

    /// What is wrong with a folder that is watched.
    pub fn troubles_of(&self, folder: &FilePath) -> Vec<Trouble> {
        [About::folder(folder), About::names(folder)].iter().filter_map(|about| self.dock.troubles.get(about)).collect()
    }

    /// What is wrong now, the oldest first.
    pub fn troubles(&self) -> Vec<Trouble> {
        self.dock.troubles.all()
    }
}
