//! The day's traffic by the hour.

use jiff::Timestamp;
use wetbank_client::{HourTraffic, Traffic};
use wetbank_journal::{HourCount, Journal, JournalError};

use crate::shown;

/// The traffic of the day that `now` is in.
pub(crate) async fn traffic(journal: &Journal, now: Timestamp) -> Result<Traffic, JournalError> {
    let midnight = shown::midnight(now);
    let mut traffic = none(midnight);
    add(&mut traffic, journal.hour_counts(midnight, now).await?);
    add(&mut traffic, journal.held_counts(midnight, now).await?);
    Ok(traffic)
}

fn none(midnight: Timestamp) -> Traffic {
    let hours = (0..24).map(|hour| HourTraffic { hour, ..Default::default() }).collect();
    Traffic { from: shown::time(midnight), hours, ..Default::default() }
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
        let mut day = none(Timestamp::UNIX_EPOCH);
        add(&mut day, vec![count(3, "done", 2, 200), count(3, "skipped", 1, 9)]);
        add(&mut day, vec![count(3, "done", 1, 50), count(3, "held", 4, 0), count(-1, "done", 7, 7)]);
        let hour = &day.hours[3];
        assert_eq!((hour.done, hour.bytes, hour.skipped, hour.held), (3, 250, 1, 4));
        assert_eq!((day.done, day.bytes), (3, 250));
    }

    #[test]
    fn a_day_of_twenty_five_hours_shows_all_its_files() {
        let mut day = none(Timestamp::UNIX_EPOCH);
        add(&mut day, vec![count(24, "done", 1, 1)]);
        assert_eq!((day.hours[23].done, day.done), (1, 1));
    }
}
