//! What a place is used with: how much at once, how fast, and when.

use jiff::{Timestamp, civil::Time, tz::TimeZone};

use crate::RetryPolicy;

/// The limits of one place.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Limits {
    /// Files on their way to it at once, and as many from it.
    pub transfers: Option<usize>,
    /// How fast, at which hours. Of those that hold at a time, the lowest counts.
    pub rates: Vec<Rate>,
    /// When what failed there is tried again, for rules that do not say so themselves.
    pub retry: Option<RetryPolicy>,
}

/// Bytes a second, in both directions together.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Rate {
    /// At most so many bytes a second.
    pub most: u64,
    /// The hours of each day in which it holds; always, if there are none.
    pub hours: Option<Hours>,
}

/// Hours of each day; they may go over midnight.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Hours {
    /// The first minute.
    pub from: Time,
    /// The first minute after.
    pub until: Time,
    /// The clock that counts.
    pub zone: TimeZone,
}

impl Hours {
    /// Whether a time lies within. The same hour twice means the whole day.
    pub fn hold_at(&self, now: Timestamp) -> bool {
        let time = now.to_zoned(self.zone.clone()).time();
        if self.from < self.until {
            (self.from..self.until).contains(&time)
        } else {
            time >= self.from || time < self.until
        }
    }
}

impl Limits {
    /// Whether there is any.
    pub fn is_none(&self) -> bool {
        *self == Self::default()
    }

    /// Whether what goes to and from the place must be counted.
    pub fn count(&self) -> bool {
        self.transfers.is_some() || !self.rates.is_empty()
    }

    /// Bytes a second at a time; nothing if it may go as fast as it can.
    pub fn rate_at(&self, now: Timestamp) -> Option<u64> {
        let holds = |rate: &&Rate| rate.hours.as_ref().is_none_or(|hours| hours.hold_at(now));
        self.rates.iter().filter(holds).map(|rate| rate.most).min()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_lowest_rate_that_holds_counts() {
        let hours = |from: &str, until: &str| {
            Some(Hours { from: from.parse().unwrap(), until: until.parse().unwrap(), zone: TimeZone::UTC })
        };
        let limits = Limits {
            transfers: None,
            retry: None,
            rates: vec![
                Rate { most: 100, hours: hours("07:00", "19:00") },
                Rate { most: 900, hours: None },
                Rate { most: 500, hours: hours("22:00", "06:00") },
            ],
        };
        for (time, rate) in [("12:00", 100), ("19:00", 900), ("23:00", 500), ("05:59", 500), ("06:00", 900)] {
            let now: Timestamp = format!("2026-03-14T{time}:00Z").parse().unwrap();
            assert_eq!(limits.rate_at(now), Some(rate), "{time}");
        }
        assert_eq!(Limits::default().rate_at(Timestamp::UNIX_EPOCH), None);
    }
}
