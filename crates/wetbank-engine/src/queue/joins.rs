//! Which runs have items that wait for others.

use std::collections::{BTreeSet, HashMap};

use parking_lot::{Mutex, MutexGuard};
use tokio::sync::Notify;

/// Runs in which items wait for others, and whether something happened there since the last look.
#[derive(Debug, Default)]
pub(crate) struct Joins {
    runs: Mutex<HashMap<i64, bool>>,
    changed: Notify,
}

impl Joins {
    /// Items of this run wait for others from now on.
    pub fn expect(&self, run: i64) {
        self.runs().insert(run, true);
        self.changed.notify_one();
    }

    /// An item of this run came to rest.
    pub fn news(&self, run: i64) {
        if let Some(news) = self.runs().get_mut(&run) {
            *news = true;
            self.changed.notify_one();
        }
    }

    /// The runs in which something happened, which are looked at now.
    pub fn take(&self) -> BTreeSet<i64> {
        let mut runs = self.runs();
        runs.iter_mut().filter_map(|(run, news)| std::mem::take(news).then_some(*run)).collect()
    }

    /// Nothing waits in this run any more, unless something happened there since it was taken.
    pub fn forget(&self, run: i64) {
        let mut runs = self.runs();
        if runs.get(&run) == Some(&false) {
            runs.remove(&run);
        }
    }

    /// Returns after something happened.
    pub async fn changed(&self) {
        self.changed.notified().await;
    }

    fn runs(&self) -> MutexGuard<'_, HashMap<i64, bool>> {
        self.runs.lock()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn taken(joins: &Joins) -> Vec<i64> {
        joins.take().into_iter().collect()
    }

    #[test]
    fn only_runs_in_which_something_waits_are_looked_at() {
        let joins = Joins::default();
        joins.news(7);
        assert!(taken(&joins).is_empty());
        joins.expect(7);
        assert_eq!(taken(&joins), [7]);
        assert!(taken(&joins).is_empty());
        joins.news(7);
        assert_eq!(taken(&joins), [7]);
        joins.forget(7);
        joins.news(7);
        assert!(taken(&joins).is_empty());
    }

    #[test]
    fn what_happens_during_a_look_is_looked_at_next() {
        let joins = Joins::default();
        joins.expect(7);
        assert_eq!(taken(&joins), [7]);
        joins.news(7);
        joins.forget(7);
        assert_eq!(taken(&joins), [7]);
        joins.expect(7);
        joins.forget(7);
        assert_eq!(taken(&joins), [7]);
    }
}
