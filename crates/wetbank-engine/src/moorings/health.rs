//! How places are doing: one dead place must slow no other.

use std::{collections::HashMap, time::Duration};

use jiff::Timestamp;
use parking_lot::Mutex;
use wetbank_core::Name;
use wetbank_places::{PlaceError, PlaceErrorKind};

use crate::clock;

/// The first pause after a place could not be reached; it doubles up to the longest.
const FIRST: Duration = Duration::from_secs(2);
const LONGEST: Duration = Duration::from_secs(120);
/// The same after a refused sign-in: servers lock accounts that are tried too often.
const FIRST_REFUSED: Duration = Duration::from_secs(60);
const LONGEST_REFUSED: Duration = Duration::from_secs(30 * 60);
/// While a place is probed nobody else tries; they ask again after this time.
const PROBING: Duration = Duration::from_secs(1);

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
    /// A probe is on its way.
    pub is_probed: bool,
}

#[derive(Debug, Default)]
pub(crate) struct HealthBook(Mutex<HashMap<Name, Health>>);

impl HealthBook {
    fn lock(&self) -> parking_lot::MutexGuard<'_, HashMap<Name, Health>> {
        self.0.lock()
    }

    /// Something worked. Answers whether that is news.
    pub fn well(&self, place: &Name) -> bool {
        let mut all = self.lock();
        let health = all.entry(place.clone()).or_default();
        let news = health.error.is_some() || health.at.is_none();
        *health = Health { at: Some(clock::now()), ..Health::default() };
        news
    }

    /// Something answered. That lifts no pause: whether a place that failed can be used again, a probe or a whole
    /// file shows, so that calls in flight do not have it come and go. Answers whether it is the first answer.
    pub fn seen(&self, place: &Name) -> bool {
        let mut all = self.lock();
        let health = all.entry(place.clone()).or_default();
        if health.error.is_some() {
            return false;
        }
        health.at.replace(clock::now()).is_none()
    }

    /// Something failed. Failures that say nothing about the place as a whole are ignored.
    /// Answers whether that is news.
    pub fn failed(&self, error: &PlaceError) -> bool {
        if !error.kind.is_of_place() {
            return false;
        }
        let now = clock::now();
        let mut all = self.lock();
        let health = all.entry(error.place.clone()).or_default();
        let news = health.error.is_none();
        // Many files may fail on one outage: it counts once per pause.
        if health.paused_until.is_none_or(|until| until <= now) {
            health.failures += 1;
            let (first, longest) = match error.kind {
                PlaceErrorKind::Unreachable => (FIRST, LONGEST),
                _ => (FIRST_REFUSED, LONGEST_REFUSED),
            };
            let pause = first.saturating_mul(1 << (health.failures - 1).min(10)).min(longest);
            health.paused_until = Some(clock::after(now, pause));
        }
        health.error = Some(error.clone());
        health.since.get_or_insert(now);
        health.at = Some(now);
        news
    }

    /// The failure and when to ask again, if the place is paused now. A pause does not end by
    /// itself: a probe lifts it, so that one call is at stake and not one for every file.
    pub fn paused(&self, place: &Name) -> Option<(Timestamp, PlaceError)> {
        let all = self.lock();
        let health = all.get(place)?;
        let until = health.paused_until?.max(clock::after(clock::now(), PROBING));
        Some((until, health.error.clone()?))
    }

    /// Places whose pause is over at this time, to be probed, and when the next one is. Whoever
    /// asks probes them: they are told once.
    pub fn due(&self, now: Timestamp) -> (Vec<Name>, Option<Timestamp>) {
        let mut due = Vec::new();
        let mut next: Option<Timestamp> = None;
        for (place, health) in self.lock().iter_mut().filter(|(_, health)| health.error.is_some()) {
            match health.paused_until {
                Some(until) if until <= now && !health.is_probed => {
                    health.is_probed = true;
                    due.push(place.clone());
                }
                Some(until) if !health.is_probed => next = Some(next.map_or(until, |next| next.min(until))),
                _ => {}
            }
        }
        (due, next)
    }

    /// A probe came to its end, whatever it found.
    pub fn probed(&self, place: &Name) {
        if let Some(health) = self.lock().get_mut(place) {
            health.is_probed = false;
        }
    }

    pub fn of(&self, place: &Name) -> Health {
        self.lock().get(place).cloned().unwrap_or_default()
    }

    /// Forgets everything about a place, because it was changed.
    pub fn forget(&self, place: &Name) {
        self.lock().remove(place);
    }
}

#[cfg(test)]
mod tests {
    use wetbank_core::RelPath;

    use super::*;

    fn error(kind: PlaceErrorKind) -> PlaceError {
        let (place, path) = (Name::new("harbour").expect("a name"), RelPath::root());
        PlaceError { kind, place, call: "reach", path, detail: String::new(), secret: None }
    }

    #[test]
    fn a_pause_lasts_until_a_probe_lifts_it_and_each_is_probed_once() {
        let (book, place) = (HealthBook::default(), Name::new("harbour").expect("a name"));
        assert!(book.paused(&place).is_none());
        assert!(book.failed(&error(PlaceErrorKind::Unreachable)), "that is news");
        assert!(!book.failed(&error(PlaceErrorKind::Unreachable)), "that is not");
        let later = clock::after(clock::now(), Duration::from_secs(3600));
        assert_eq!(book.due(clock::now()).0, []);
        let (due, next) = book.due(later);
        assert_eq!((due.as_slice(), next), (std::slice::from_ref(&place), None));
        assert_eq!(book.due(later), (Vec::new(), None), "a probe is on its way");
        assert!(book.paused(&place).is_some());
        book.probed(&place);
        assert!(book.well(&place) && book.paused(&place).is_none());
    }

    #[test]
    fn a_refused_sign_in_is_tried_again_seldom_and_a_missing_file_says_nothing_about_its_place() {
        let (book, place) = (HealthBook::default(), Name::new("harbour").expect("a name"));
        assert!(!book.failed(&error(PlaceErrorKind::NotFound)) && book.paused(&place).is_none());
        book.failed(&error(PlaceErrorKind::Refused));
        let (until, _) = book.paused(&place).expect("it is paused");
        assert!(until > clock::after(clock::now(), Duration::from_secs(50)));
    }
}
