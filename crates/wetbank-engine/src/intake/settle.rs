//! Is a file complete?

use std::{
    collections::{BTreeSet, HashMap},
    time::Duration,
};

use jiff::Timestamp;
use wetbank_core::{Fingerprint, RelPath};
use wetbank_places::Writers;

use crate::clock;

/// The shortest time that a file must be unchanged where nobody can tell whether it is still written; and a file
/// that only appeared is looked at after it, because its writer will close it.
pub(super) const QUIET: Duration = Duration::from_secs(2);
/// How long a file must be unchanged where nobody can tell whether it is still written, unless its rule says
/// another time.
const SILENCE: Duration = Duration::from_secs(10);
/// A file that somebody writes is looked at again after this time, if its closing is not told before.
const WRITTEN: Duration = Duration::from_secs(2);

/// How long a file must be unchanged where nobody can tell whether it is still written.
pub(crate) fn silence(settle: Duration) -> Duration {
    if settle.is_zero() { SILENCE } else { settle.max(QUIET) }
}

/// What is known about how a file came to be seen.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Seen {
    /// Its writer closed it, or it was moved in whole.
    Closed,
    /// It lies there; the clock that dated it is ours.
    Found,
    /// It lies there, dated by a clock that may differ from ours.
    FoundElsewhere,
}

/// Files that are watched until they stay the same. Keys are a rule's index and a path.
#[derive(Debug, Default)]
pub(super) struct Settling {
    waiting: HashMap<(usize, RelPath), (Fingerprint, Timestamp)>,
}

/// Files to look at again, each at one time.
#[derive(Debug, Default)]
pub(super) struct Again {
    by_time: BTreeSet<(Timestamp, RelPath)>,
    by_path: HashMap<RelPath, (Timestamp, Seen)>,
}

impl Again {
    /// Asks for a look; of two that are asked for, the earlier stays.
    pub fn put(&mut self, due: Timestamp, path: RelPath, seen: Seen) {
        match self.by_path.get(&path) {
            Some((earlier, _)) if *earlier <= due => return,
            Some((later, _)) => drop(self.by_time.remove(&(*later, path.clone()))),
            None => {}
        }
        self.by_time.insert((due, path.clone()));
        self.by_path.insert(path, (due, seen));
    }

    /// No look is needed any more.
    pub fn forget(&mut self, path: &RelPath) {
        if let Some((due, _)) = self.by_path.remove(path) {
            self.by_time.remove(&(due, path.clone()));
        }
    }

    /// When the first look is due.
    pub fn next(&self) -> Option<Timestamp> {
        self.by_time.first().map(|(due, _)| *due)
    }

    /// What is due by now.
    pub fn take(&mut self, now: Timestamp) -> Vec<(RelPath, Seen)> {
        let mut due = Vec::new();
        while self.by_time.first().is_some_and(|(first, _)| *first <= now) {
            let Some((_, path)) = self.by_time.pop_first() else { break };
            if let Some((_, seen)) = self.by_path.remove(&path) {
                due.push((path, seen));
            }
        }
        due
    }
}

/// The answer about one file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Answer {
    /// It is complete.
    Settled,
    /// Look again at this time.
    LookAgain(Timestamp),
}

impl Settling {
    /// Takes a look at a file for a rule with this settle time.
    pub fn look(
        &mut self,
        rule: usize,
        path: &RelPath,
        fingerprint: &Fingerprint,
        settle: Duration,
        (seen, writers): (Seen, Writers),
        now: Timestamp,
    ) -> Answer {
        let wanted = match (seen, writers) {
            // However long it takes: its time begins when it is closed.
            (_, Writers::Some) => {
                self.forget(rule, path);
                return Answer::LookAgain(clock::after(now, WRITTEN));
            }
            // The kernel tells of a closing, or that there is nobody left who could close it.
            (Seen::Closed, _) | (Seen::Found, Writers::None) => settle,
            _ => silence(settle),
        };
        let age = Duration::try_from(now.duration_since(fingerprint.modified_at())).unwrap_or_default();
        if wanted.is_zero() || (seen == Seen::Found && age >= wanted) {
            self.forget(rule, path);
            return Answer::Settled;
        }
        let since = match self.waiting.get(&(rule, path.clone())) {
            Some((same, since)) if same == fingerprint => *since,
            _ => {
                self.waiting.insert((rule, path.clone()), (fingerprint.clone(), now));
                now
            }
        };
        let due = since.checked_add(wanted).unwrap_or(Timestamp::MAX);
        if due <= now {
            self.forget(rule, path);
            return Answer::Settled;
        }
        Answer::LookAgain(due)
    }

    pub fn forget(&mut self, rule: usize, path: &RelPath) {
        self.waiting.remove(&(rule, path.clone()));
    }

    /// Drops what a complete listing did not show any more.
    pub fn keep(&mut self, is_there: impl Fn(&RelPath) -> bool) {
        self.waiting.retain(|(_, path), _| is_there(path));
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn at(second: i64) -> Timestamp {
        Timestamp::from_second(second).unwrap()
    }

    fn file(size: u64, modified: i64) -> Fingerprint {
        Fingerprint { size, modified: modified * 1_000_000_000, inode: None, tag: None }
    }

    fn look(settling: &mut Settling, file: &Fingerprint, settle: u64, seen: Seen, now: i64) -> Answer {
        let path = RelPath::parse("a.csv").unwrap();
        let writers = if seen == Seen::Closed { Writers::None } else { Writers::Unknown };
        settling.look(0, &path, file, Duration::from_secs(settle), (seen, writers), at(now))
    }

    #[test]
    fn a_closed_file_is_complete_at_once_unless_a_settle_time_is_asked() {
        let mut settling = Settling::default();
        assert_eq!(look(&mut settling, &file(1, 100), 0, Seen::Closed, 100), Answer::Settled);
        assert_eq!(look(&mut settling, &file(1, 100), 3, Seen::Closed, 100), Answer::LookAgain(at(103)));
        assert_eq!(look(&mut settling, &file(1, 100), 3, Seen::Closed, 103), Answer::Settled);
    }

    #[test]
    fn a_file_that_grows_starts_its_time_anew() {
        let mut settling = Settling::default();
        assert_eq!(look(&mut settling, &file(1, 100), 1, Seen::Found, 100), Answer::LookAgain(at(102)));
        assert_eq!(look(&mut settling, &file(2, 101), 1, Seen::Found, 102), Answer::LookAgain(at(104)));
        assert_eq!(look(&mut settling, &file(2, 101), 1, Seen::Found, 104), Answer::Settled);
    }

    #[test]
    fn an_old_file_found_here_is_complete_but_elsewhere_two_looks_are_needed() {
        let mut settling = Settling::default();
        assert_eq!(look(&mut settling, &file(1, 10), 0, Seen::Found, 100), Answer::Settled);
        assert_eq!(look(&mut settling, &file(1, 10), 0, Seen::FoundElsewhere, 100), Answer::LookAgain(at(110)));
        assert_eq!(look(&mut settling, &file(1, 10), 0, Seen::FoundElsewhere, 110), Answer::Settled);
        assert_eq!(look(&mut settling, &file(1, 10), 3, Seen::FoundElsewhere, 120), Answer::LookAgain(at(123)));
    }

    #[test]
    fn a_file_that_somebody_writes_is_never_complete_however_it_was_seen_and_however_old() {
        let (mut settling, path) = (Settling::default(), RelPath::parse("a.csv").unwrap());
        for seen in [Seen::Closed, Seen::Found] {
            for now in [100, 200, 3_000] {
                let answer = settling.look(0, &path, &file(1, 10), Duration::ZERO, (seen, Writers::Some), at(now));
                assert_eq!(answer, Answer::LookAgain(at(now + 2)));
            }
        }
        let closed = settling.look(0, &path, &file(1, 10), Duration::ZERO, (Seen::Closed, Writers::None), at(4_000));
        assert_eq!(closed, Answer::Settled);
    }

    #[test]
    fn a_file_that_is_found_and_that_nobody_writes_is_complete_at_once() {
        let (mut settling, path) = (Settling::default(), RelPath::parse("a.csv").unwrap());
        let mut look = |settle, now| {
            let seen = (Seen::Found, Writers::None);
            settling.look(0, &path, &file(1, 100), Duration::from_secs(settle), seen, at(now))
        };
        assert_eq!(look(0, 100), Answer::Settled);
        assert_eq!(look(3, 100), Answer::LookAgain(at(103)));
    }

    #[test]
    fn where_nobody_can_tell_silence_counts_and_longer() {
        let (mut settling, path) = (Settling::default(), RelPath::parse("a.csv").unwrap());
        let mut look =
            |now| settling.look(0, &path, &file(1, 100), Duration::ZERO, (Seen::Found, Writers::Unknown), at(now));
        assert_eq!(look(105), Answer::LookAgain(at(115)));
        assert_eq!(look(115), Answer::Settled);
    }

    #[test]
    fn of_two_looks_at_a_file_the_earlier_stays_and_a_forgotten_one_does_not_come() {
        let (mut again, a, b) = (Again::default(), RelPath::parse("a").unwrap(), RelPath::parse("b").unwrap());
        again.put(at(20), a.clone(), Seen::Found);
        again.put(at(10), a.clone(), Seen::Closed);
        again.put(at(15), a.clone(), Seen::Found);
        again.put(at(12), b.clone(), Seen::Found);
        assert_eq!(again.next(), Some(at(10)));
        again.forget(&b);
        assert_eq!(again.take(at(30)), [(a, Seen::Closed)]);
        assert_eq!(again.next(), None);
    }
}
