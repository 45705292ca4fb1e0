//! Files that wait for each other, to be one run.
//!
//! What waits is in no ledger yet: after a stop the next look finds it again.

use std::{
    collections::{BTreeMap, HashMap},
    time::{Duration, Instant},
};

use wetbank_core::{Arrival, Gather, Name, RelPath};
use wetbank_journal::Sighting;

/// So many never wait for more.
const MOST: usize = 10_000;

/// What waits, rule by rule.
#[derive(Debug, Default)]
pub(crate) struct Gathering(HashMap<Name, Waiting>);

#[derive(Debug)]
struct Waiting {
    version: i64,
    gather: Gather,
    files: BTreeMap<RelPath, Sighting>,
    marker: Option<Sighting>,
    last: Instant,
}

impl Waiting {
    fn names(&self) -> impl Iterator<Item = String> + Clone {
        self.files.keys().map(RelPath::name_text)
    }

    fn is_complete(&self, now: Instant) -> bool {
        if self.files.is_empty() {
            return false;
        }
        let quiet = now.saturating_duration_since(self.last);
        let names: Vec<String> = match self.gather {
            Gather::Set(_) | Gather::Count(_) => self.names().collect(),
            Gather::Quiet(_) | Gather::Marker(_) => Vec::new(),
        };
        self.files.len() >= MOST
            || self.gather.is_complete(names.iter().map(String::as_str), quiet, self.marker.is_some())
    }
}

impl Gathering {
    /// Has a file wait. The same file in another state takes the place of the one before.
    pub fn put(&mut self, sighting: Sighting, gather: &Gather, now: Instant) {
        let waiting = self.0.entry(sighting.rule.clone()).or_insert_with(|| Waiting {
            version: sighting.version,
            gather: gather.clone(),
            files: BTreeMap::new(),
            marker: None,
            last: now,
        });
        if waiting.version != sighting.version {
            *waiting = Waiting {
                version: sighting.version,
                gather: gather.clone(),
                files: BTreeMap::new(),
                marker: None,
                last: now,
            };
        }
        if is_marker(gather, &sighting.file.path) {
            waiting.marker = Some(Sighting { note_only: true, ..sighting });
            return;
        }
        let known = waiting.files.get(&sighting.file.path).is_some_and(|one| one.fingerprint == sighting.fingerprint);
        if !known {
            waiting.last = now;
            waiting.files.insert(sighting.file.path.clone(), sighting);
        }
    }

    /// What is complete, the marker included; rules that are not `wanted` any more keep nothing.
    pub fn take_complete(&mut self, now: Instant, wanted: impl Fn(&Name) -> bool) -> Vec<Vec<Sighting>> {
        self.0.retain(|rule, _| wanted(rule));
        let complete: Vec<Name> =
            self.0.iter().filter(|(_, waiting)| waiting.is_complete(now)).map(|(rule, _)| rule.clone()).collect();
        let taken = complete.into_iter().filter_map(|rule| self.0.remove(&rule));
        taken.map(|waiting| waiting.files.into_values().chain(waiting.marker).collect()).collect()
    }

    /// How long until something may be complete because nothing else came.
    pub fn pause(&self, now: Instant) -> Option<Duration> {
        let quiet =
            self.0.values().filter(|waiting| !waiting.files.is_empty()).filter_map(|waiting| match waiting.gather {
                Gather::Quiet(time) => Some((waiting.last + time).saturating_duration_since(now)),
                _ => None,
            });
        quiet.min()
    }
}

/// Whether a path is the marker that files wait for.
pub(crate) fn is_marker(gather: &Gather, path: &RelPath) -> bool {
    matches!(gather, Gather::Marker(name) if path.name() == name.as_bytes())
}

/// Whether a path is the marker of what a rule gathers.
pub(super) fn is_marker_of(arrival: &Arrival, path: &RelPath) -> bool {
    arrival.gather.as_ref().is_some_and(|gather| is_marker(gather, path))
}

#[cfg(test)]
mod tests {
    use wetbank_core::{FilePath, name_pattern};

    use super::*;

    fn sighting(name: &str, state: &str) -> Sighting {
        Sighting {
            rule: Name::new("huts").unwrap(),
            version: 1,
            file: FilePath { place: Name::new("office").unwrap(), path: RelPath::parse(name).unwrap() },
            fingerprint: state.to_owned(),
            size: 1,
            seen: jiff::Timestamp::UNIX_EPOCH,
            own_results: false,
            again: false,
            about: None,
            note_only: false,
        }
    }

    fn names(taken: Vec<Vec<Sighting>>) -> Vec<String> {
        let mut names = Vec::new();
        for one in taken.into_iter().flatten() {
            let sign = if one.note_only { "!" } else { "" };
            names.push(format!("{sign}{}:{}", one.file.path, one.fingerprint));
        }
        names
    }

    fn gathered(gather: &Gather, came: &[(&str, &str)]) -> Gathering {
        let mut gathering = Gathering::default();
        came.iter().for_each(|(name, state)| gathering.put(sighting(name, state), gather, Instant::now()));
        gathering
    }

    #[test]
    fn a_file_that_changes_while_it_waits_is_taken_once_as_it_is_now() {
        let mut gathering = gathered(&Gather::Count(2), &[("a", "1"), ("a", "2")]);
        assert!(gathering.take_complete(Instant::now(), |_| true).is_empty());
        gathering.put(sighting("b", "1"), &Gather::Count(2), Instant::now());
        assert_eq!(names(gathering.take_complete(Instant::now(), |_| true)), ["a:2", "b:1"]);
        assert!(gathering.take_complete(Instant::now(), |_| true).is_empty());
    }

    #[test]
    fn quiet_is_counted_from_the_last_that_came_and_not_from_a_second_look_at_it() {
        let gather = Gather::Quiet(Duration::from_secs(10));
        let began = Instant::now();
        let mut gathering = Gathering::default();
        gathering.put(sighting("a", "1"), &gather, began);
        gathering.put(sighting("a", "1"), &gather, began + Duration::from_secs(9));
        assert!(gathering.take_complete(began + Duration::from_secs(9), |_| true).is_empty());
        assert_eq!(gathering.pause(began + Duration::from_secs(9)), Some(Duration::from_secs(1)));
        assert_eq!(names(gathering.take_complete(began + Duration::from_secs(10), |_| true)), ["a:1"]);
    }

    #[test]
    fn a_marker_is_told_along_and_is_no_file_of_the_run() {
        let gather = Gather::Marker("ready.txt".to_owned());
        let mut gathering = gathered(&gather, &[("ready.txt", "1")]);
        assert!(gathering.take_complete(Instant::now(), |_| true).is_empty(), "a marker alone is nothing");
        gathering.put(sighting("a", "1"), &gather, Instant::now());
        assert_eq!(names(gathering.take_complete(Instant::now(), |_| true)), ["a:1", "!ready.txt:1"]);
    }

    #[test]
    fn a_set_is_complete_with_one_for_each_pattern() {
        let gather = Gather::Set(vec![name_pattern("gauge-*", true).unwrap(), name_pattern("tide-*", true).unwrap()]);
        let mut gathering = gathered(&gather, &[("gauge-1", "1"), ("gauge-2", "1")]);
        assert!(gathering.take_complete(Instant::now(), |_| true).is_empty());
        gathering.put(sighting("tide-1", "1"), &gather, Instant::now());
        assert_eq!(names(gathering.take_complete(Instant::now(), |_| true)).len(), 3);
    }

    #[test]
    fn what_waits_for_a_rule_that_is_off_is_forgotten() {
        let mut gathering = gathered(&Gather::Count(2), &[("a", "1")]);
        assert!(gathering.take_complete(Instant::now(), |_| false).is_empty());
        gathering.put(sighting("b", "1"), &Gather::Count(2), Instant::now());
        assert!(gathering.take_complete(Instant::now(), |_| true).is_empty());
    }
}
