//! How often a folder of a server is looked through.

use std::time::Duration;

use wetbank_core::LookPace;

/// Between two looks of an adaptive pace at least, soon after something came.
const SHORTEST: Duration = Duration::from_secs(5);
/// Between two looks of an adaptive pace at most.
const LONGEST: Duration = Duration::from_secs(120);

/// The pace of one folder.
#[derive(Debug)]
pub(crate) struct Pace {
    /// The shortest that a rule asks for.
    fixed: Option<Duration>,
    now: Duration,
}

impl Pace {
    /// Of several rules on a folder, the one that asks for the most looks counts.
    pub fn new(asked: impl Iterator<Item = LookPace>) -> Self {
        let fixed = asked.filter_map(|pace| match pace {
            LookPace::Every(every) => Some(every),
            LookPace::Adaptive => None,
        });
        Self { fixed: fixed.min(), now: SHORTEST }
    }

    /// The pause after a look that took so long and found something new or not. However short a
    /// pause is asked for, no server is listed for more than half of the time.
    pub fn after(&mut self, found_new: bool, took: Duration) -> Duration {
        self.now = if found_new { SHORTEST } else { (self.now * 3 / 2).min(LONGEST) };
        self.fixed.unwrap_or(self.now).max(took)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const QUICK: Duration = Duration::from_millis(20);

    #[test]
    fn an_adaptive_pace_slows_down_while_nothing_comes_and_is_quick_again_when_something_does() {
        let mut pace = Pace::new([LookPace::Adaptive].into_iter());
        let quiet: Vec<_> = (0..12).map(|_| pace.after(false, QUICK)).collect();
        assert!(quiet[0] > SHORTEST && quiet.is_sorted() && quiet[11] == LONGEST, "{quiet:?}");
        assert_eq!(pace.after(true, QUICK), SHORTEST);
    }

    #[test]
    fn the_shortest_pause_that_a_rule_asks_for_counts_but_no_look_follows_on_the_heels_of_a_long_one() {
        let asked =
            [LookPace::Every(Duration::from_secs(60)), LookPace::Every(Duration::from_secs(1)), LookPace::Adaptive];
        let mut pace = Pace::new(asked.into_iter());
        assert_eq!(pace.after(false, QUICK), Duration::from_secs(1));
        assert_eq!(pace.after(true, Duration::from_secs(20)), Duration::from_secs(20));
    }
}
