//! When to try again.

use std::time::Duration;

use serde::{Deserialize, Serialize};

/// How often, and after what pause, a step that failed for a passing reason is tried again.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct RetryPolicy {
    /// Attempts in all, the first one included; at least 1.
    pub attempts: u32,
    /// The pause after the first failure; it doubles with every further one.
    pub first: Duration,
    /// No pause is longer than this.
    pub longest: Duration,
}

impl Default for RetryPolicy {
    fn default() -> Self {
        Self { attempts: 6, first: Duration::from_secs(2), longest: Duration::from_secs(300) }
    }
}

impl RetryPolicy {
    /// The pause after `failures` failed attempts, or `None` when it is time to hold.
    ///
    /// `seed` spreads the pauses of many items over up to a fifth more, so that a server
    /// which comes back is not met by all of them at once.
    pub fn pause_after(&self, failures: u32, seed: u64) -> Option<Duration> {
        if failures >= self.attempts {
            return None;
        }
        let doubled = self.first.saturating_mul(1u32 << failures.saturating_sub(1).min(20));
        let pause = doubled.min(self.longest);
        let spread = seed.wrapping_mul(0x9E37_79B9_7F4A_7C15) >> 56;
        Some(pause + pause.mul_f64(spread as f64 / 256.0 / 5.0))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn pauses_double_up_to_the_longest_and_then_end() {
        let policy = RetryPolicy { attempts: 5, first: Duration::from_secs(1), longest: Duration::from_secs(3) };
        let pauses: Vec<_> = (1..=5).map(|n| policy.pause_after(n, 0)).collect();
        assert_eq!(
            pauses,
            [1, 2, 3, 3].map(Duration::from_secs).map(Some).into_iter().chain([None]).collect::<Vec<_>>()
        );
    }

    #[test]
    fn the_spread_stays_under_a_fifth() {
        let policy = RetryPolicy::default();
        for seed in 0..1000 {
            let pause = policy.pause_after(1, seed).unwrap();
            assert!(pause >= policy.first && pause < policy.first.mul_f64(1.2));
        }
    }
}
