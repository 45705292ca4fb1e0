//! Runs that may take only so long, by the time when that is over.

use std::collections::BTreeSet;

use jiff::Timestamp;
use parking_lot::Mutex;
use tokio::sync::Notify;

/// Runs that may take only so long.
#[derive(Debug, Default)]
pub(crate) struct Deadlines {
    known: Mutex<BTreeSet<(Timestamp, i64)>>,
    sooner: Notify,
}

impl Deadlines {
    /// A run that is held at this time if it still goes on then.
    pub fn watch(&self, run: i64, until: Timestamp) {
        let mut known = self.known.lock();
        if known.insert((until, run)) && known.first() == Some(&(until, run)) {
            self.sooner.notify_one();
        }
    }

    /// Returns when one was added that comes before all others.
    pub async fn sooner(&self) {
        self.sooner.notified().await;
    }

    /// When the first of them is over.
    pub fn first(&self) -> Option<Timestamp> {
        self.known.lock().first().map(|(until, _)| *until)
    }

    /// Those that are over by now, each told once.
    pub fn take_passed(&self, now: Timestamp) -> Vec<i64> {
        let mut known = self.known.lock();
        let later = known.split_off(&(now, i64::MIN));
        let passed = std::mem::replace(&mut *known, later);
        passed.into_iter().map(|(_, run)| run).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn time(text: &str) -> Timestamp {
        text.parse().unwrap()
    }

    #[test]
    fn runs_whose_time_is_over_are_told_once() {
        let deadlines = Deadlines::default();
        deadlines.watch(7, time("2026-03-14T06:00:00Z"));
        deadlines.watch(7, time("2026-03-14T06:00:00Z"));
        deadlines.watch(8, time("2026-03-14T07:00:00Z"));
        assert_eq!(deadlines.take_passed(time("2026-03-14T05:59:59Z")), [] as [i64; 0]);
        assert_eq!(deadlines.take_passed(time("2026-03-14T06:00:01Z")), [7]);
        assert_eq!(deadlines.take_passed(time("2026-03-14T06:30:00Z")), [] as [i64; 0]);
        assert_eq!(deadlines.first(), Some(time("2026-03-14T07:00:00Z")));
    }
}
