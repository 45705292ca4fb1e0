//! What is known of places, and where every call reports what came of it.

use parking_lot::Mutex;
use tokio::sync::Notify;
use tokio_util::task::TaskTracker;
use wetbank_core::Name;
use wetbank_places::{PlaceError, PlaceErrorKind};

use super::{
    health::HealthBook,
    troubles::{About, Troubles},
};
use crate::{
    clock,
    events::{Event, Events},
    record::Record,
};

/// What is known of places. Each place that is used reports here by itself.
#[derive(Debug)]
pub(super) struct Dock {
    pub record: Record,
    pub events: Events,
    pub tracker: TaskTracker,
    pub health: HealthBook,
    pub troubles: Troubles,
    /// A place failed, or was probed.
    pub news: Notify,
    /// Places that were away and can be used again.
    pub well: Mutex<Vec<Name>>,
    pub came_back: Notify,
}

impl Dock {
    pub fn new(record: Record, events: Events, tracker: TaskTracker) -> Self {
        Self {
            record,
            events,
            tracker,
            health: HealthBook::default(),
            troubles: Troubles::default(),
            news: Notify::new(),
            well: Mutex::default(),
            came_back: Notify::new(),
        }
    }

    /// Notes what a call came to.
    pub fn noted<T>(&self, outcome: Result<T, PlaceError>) -> Result<T, PlaceError> {
        if let Err(error) = &outcome {
            self.failed(error);
        }
        outcome
    }

    pub fn failed(&self, error: &PlaceError) {
        if self.health.failed(error) {
            tracing::warn!(place = %error.place, %error, "place failed");
            self.events.tell(Event::Place { place: error.place.clone() });
            self.remember(vec![error.place.to_string()], "away", Some(error.to_string()));
            self.news.notify_one();
        }
        if error.kind == PlaceErrorKind::NoSpace {
            let why = format!("there is no room in {}: {}", error.place, error.nameless());
            self.troubles.put(About::Room(error.place.clone()), why, &error.remedy());
        }
    }

    /// Something answered.
    pub fn seen(&self, place: &Name) {
        if self.health.seen(place) {
            self.is_well(place);
        }
    }

    fn is_well(&self, place: &Name) {
        self.events.tell(Event::Place { place: place.clone() });
        self.remember(vec![place.to_string()], "well", None);
    }

    /// Something worked that shows that the place can be used.
    pub fn worked(&self, place: &Name) {
        if self.health.well(place) {
            self.is_well(place);
            self.well.lock().push(place.clone());
            self.came_back.notify_one();
        }
    }

    /// A file was written: there is room.
    pub fn has_room(&self, place: &Name) {
        self.troubles.clear(&About::Room(place.clone()));
    }

    /// Records how places do. It is only for people: nobody waits for it.
    pub fn remember(&self, places: Vec<String>, state: &'static str, why: Option<String>) {
        let journal = self.record.journal.clone();
        self.tracker.spawn(async move {
            if let Err(error) = journal.note_states(places, state, why, clock::now()).await {
                tracing::warn!(%error, "how a place does could not be recorded");
            }
        });
    }
}
