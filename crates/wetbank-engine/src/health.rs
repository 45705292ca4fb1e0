//! How places are doing: one dead place must slow no other.

use std::{
    collections::HashMap,
    sync::{Mutex, PoisonError},
    time::Duration,
};

use jiff::Timestamp;
use wetbank_core::Name;
use wetbank_places::{PlaceError, PlaceErrorKind};

use crate::clock;

/// The first pause after a place could not be reached; it doubles up to the longest.
const FIRST: Duration = Duration::from_secs(2);
const LONGEST: Duration = Duration::from_secs(120);

/// What is known of a place's health.
#[derive(Debug, Clone, Default)]
pub(crate) struct Health {
    /// Failures in a row.
    pub failures: u32,
    /// The last one.
    pub error: Option<PlaceError>,
    /// When something last worked, or failed.
    pub at: Option<Timestamp>,
    /// Since when it fails.
    pub since: Option<Timestamp>,
    /// Nobody tries before this time.
    pub paused_until: Option<Timestamp>,
}

#[derive(Debug, Default)]
pub(crate) struct HealthBook(Mutex<HashMap<Name, Health>>);

impl HealthBook {
    fn lock(&self) -> std::sync::MutexGuard<'_, HashMap<Name, Health>> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Something worked. Answers whether that is news.
    pub fn well(&self, place: &Name) -> bool {
        let mut all = self.lock();
        let health = all.entry(place.clone()).or_default();
        let news = health.error.is_some() || health.at.is_none();
        *health = Health { at: Some(clock::now()), ..Health::default() };
        news
    }

    /// Something failed. Failures that say nothing about the place as a whole are ignored.
    /// Answers whether that is news.
    pub fn failed(&self, error: &PlaceError) -> bool {
        if !matches!(error.kind, PlaceErrorKind::Unreachable | PlaceErrorKind::Refused | PlaceErrorKind::HostKey) {
            return false;
        }
        let now = clock::now();
        let mut all = self.lock();
        let health = all.entry(error.place.clone()).or_default();
        let news = health.error.is_none();
        // Many files may fail on one outage: it counts once per pause.
        if health.paused_until.is_none_or(|until| until <= now) {
            health.failures += 1;
            let pause = FIRST.saturating_mul(1 << (health.failures - 1).min(10)).min(LONGEST);
            health.paused_until = Some(clock::after(now, pause));
        }
        health.error = Some(error.clone());
        health.since.get_or_insert(now);
        health.at = Some(now);
        news
    }

    /// The failure and the end of the pause, if the place is paused now.
    pub fn paused(&self, place: &Name) -> Option<(Timestamp, PlaceError)> {
        let all = self.lock();
        let health = all.get(place)?;
        let until = health.paused_until.filter(|until| *until > clock::now())?;
        Some((until, health.error.clone()?))
    }

    pub fn of(&self, place: &Name) -> Health {
        self.lock().get(place).cloned().unwrap_or_default()
    }

    /// Forgets everything about a place, because it was changed.
    pub fn forget(&self, place: &Name) {
        self.lock().remove(place);
    }
}
