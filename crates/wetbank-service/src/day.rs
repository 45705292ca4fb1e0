//! The day's traffic by the hour, counted on from what was counted before.
//!
//! The console asks every second while files move, and a busy day has a million of them.

use jiff::{SignedDuration, Timestamp};
use tokio::sync::Mutex;
use wetbank_client::{HourTraffic, Traffic};
use wetbank_journal::{HourCount, Journal, JournalError};

use crate::map;

/// An item's end is dated before it is committed; what ended longer ago than this is committed.
const SETTLED: SignedDuration = SignedDuration::from_secs(60);

#[derive(Debug, Default)]
pub(crate) struct Day(Mutex<Option<Counted>>);

#[derive(Debug)]
struct Counted {
    midnight: Timestamp,
    until: Timestamp,
    traffic: Traffic,
}

impl Counted {
    fn new(midnight: Timestamp) -> Self {
        let hours = (0..24).map(|hour| HourTraffic { hour, ..Default::default() }).collect();
        let traffic = Traffic { from: map::time(midnight), hours, ..Default::default() };
        Self { midnight, until: midnight, traffic }
    }
}

impl Day {
    /// The traffic of the day that `now` is in.
    pub async fn traffic(&self, journal: &Journal, now: Timestamp) -> Result<Traffic, JournalError> {
        let midnight = map::midnight(now);
        let mut counted = self.0.lock().await;
        if counted.as_ref().is_none_or(|counted| counted.midnight != midnight) {
            *counted = Some(Counted::new(midnight));
        }
        let counted = counted.as_mut().expect("made above");
        let settled = now.checked_sub(SETTLED).unwrap_or(now);
        if settled > counted.until {
            add(&mut counted.traffic, journal.hour_counts(midnight, counted.until, settled).await?);
            counted.until = settled;
        }
        let mut traffic = counted.traffic.clone();
        add(&mut traffic, journal.hour_counts(midnight, counted.until, now).await?);
        add(&mut traffic, journal.held_counts(midnight, now).await?);
        Ok(traffic)
    }
}

fn add(traffic: &mut Traffic, counts: Vec<HourCount>) {
    for count in counts {
        // The twenty-fifth hour of a long day is shown with the last.
        let last = traffic.hours.len() - 1;
        let Ok(hour) = usize::try_from(count.hour) else { continue };
        let hour = &mut traffic.hours[hour.min(last)];
        match count.state.as_str() {
            "done" => {
                hour.done += count.count;
                hour.bytes += count.bytes;
                traffic.done += count.count;
                traffic.bytes += count.bytes;
            }
            "held" => hour.held += count.count,
            _ => hour.skipped += count.count,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn count(hour: i64, state: &str, count: i64, bytes: i64) -> HourCount {
        HourCount { hour, state: state.to_owned(), count, bytes }
    }

    #[test]
    fn counts_add_up_by_hour_and_day() {
        let mut day = Counted::new(Timestamp::UNIX_EPOCH);
        add(&mut day.traffic, vec![count(3, "done", 2, 200), count(3, "skipped", 1, 9)]);
        add(&mut day.traffic, vec![count(3, "done", 1, 50), count(3, "held", 4, 0), count(-1, "done", 7, 7)]);
        let hour = &day.traffic.hours[3];
        assert_eq!((hour.done, hour.bytes, hour.skipped, hour.held), (3, 250, 1, 4));
        assert_eq!((day.traffic.done, day.traffic.bytes), (3, 250));
    }

    #[test]
    fn a_day_of_twenty_five_hours_shows_all_its_files() {
        let mut day = Counted::new(Timestamp::UNIX_EPOCH);
        add(&mut day.traffic, vec![count(24, "done", 1, 1)]);
        assert_eq!((day.traffic.hours[23].done, day.traffic.done), (1, 1));
    }
}
