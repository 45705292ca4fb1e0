//! Saying seldom what happens often.

use std::time::{Duration, Instant};

use parking_lot::Mutex;

/// So often the same thing is said at most.
const EVERY: Duration = Duration::from_secs(5);

/// What may happen very often and must not fill the log.
#[derive(Debug, Default)]
pub(crate) struct Seldom(Mutex<(Option<Instant>, u64)>);

impl Seldom {
    /// It happened. Answers how often since it was said the last time, if it is to be said now.
    pub fn now(&self) -> Option<u64> {
        let mut state = self.0.lock();
        let (said, times) = &mut *state;
        *times += 1;
        if said.is_some_and(|at| at.elapsed() < EVERY) {
            return None;
        }
        *said = Some(Instant::now());
        Some(std::mem::take(times))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_happens_often_is_said_once_with_its_count() {
        let seldom = Seldom::default();
        assert_eq!(seldom.now(), Some(1));
        assert!((0..50).all(|_| seldom.now().is_none()));
        seldom.0.lock().0 = Instant::now().checked_sub(EVERY);
        assert_eq!(seldom.now(), Some(51));
    }
}
