//! When a rule starts by the clock.

mod cron;

use std::time::Duration;

use jiff::{
    Timestamp, ToSpan,
    civil::{Date, Time, Weekday},
    tz::{AmbiguousOffset, TimeZone},
};

pub use cron::Cron;

use crate::{Calendar, calendar::weekday_name, format_duration, sentence::joined};

/// How far ahead a firing is looked for, in days: eight years, so that 29 February is found.
const HORIZON: i64 = 8 * 366;

/// Firings that a rule missed and that are made up for; more than these would be no help.
pub const MOST_MISSED: usize = 100;

/// Times at which a rule starts.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Schedule {
    /// When on a day.
    pub pattern: Pattern,
    /// On which days.
    pub days: Days,
    /// Which days are working days.
    pub calendar: Calendar,
    /// Only from this time of day, until before that one; they may go over midnight.
    pub between: Option<(Time, Time)>,
    /// What becomes of firings that nobody was there for.
    pub missed: Missed,
    /// What a firing does while the run before goes on.
    pub busy: Busy,
}

/// When on a day a schedule fires.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Pattern {
    /// Again and again, counted from the start of the day.
    Every(Duration),
    /// At these times, sorted.
    At(Vec<Time>),
    /// As a cron expression says.
    Cron(Cron),
}

/// On which days a schedule fires.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Days {
    /// On every day.
    All,
    /// On these days of the week.
    Week(Vec<Weekday>),
    /// On working days.
    Working,
    /// On the first working day of a month.
    FirstWorking,
    /// On the last working day of a month.
    LastWorking,
    /// On the first day of a month.
    First,
    /// On the last day of a month.
    Last,
}

/// What becomes of firings that nobody was there for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Missed {
    /// One run makes up for all of them.
    Once,
    /// They are let go.
    Skip,
    /// Each is made up for.
    All,
}

/// What a firing does while the run before goes on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, serde::Serialize, serde::Deserialize, schemars::JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Busy {
    /// It waits for its end.
    Wait,
    /// It is left out.
    Skip,
    /// The old run is stopped.
    Stop,
}

impl Days {
    fn fit(&self, day: Date, calendar: &Calendar) -> bool {
        let works = |day: Date| calendar.is_working(day);
        let days_of_month = |range: std::ops::RangeInclusive<i8>| {
            range.filter_map(|number| Date::new(day.year(), day.month(), number).ok()).any(works)
        };
        match self {
            Self::All => true,
            Self::Week(week) => week.contains(&day.weekday()),
            Self::Working => works(day),
            Self::FirstWorking => works(day) && !days_of_month(1..=day.day() - 1),
            Self::LastWorking => works(day) && !days_of_month(day.day() + 1..=day.days_in_month()),
            Self::First => day.day() == 1,
            Self::Last => day.day() == day.days_in_month(),
        }
    }

    /// The words for them, empty for every day.
    fn words(&self, calendar: &Calendar) -> String {
        let of = if calendar.off.is_empty() && calendar.name.as_str() == "plain" {
            String::new()
        } else {
            format!(" ({})", calendar.title)
        };
        match self {
            Self::All => String::new(),
            Self::Week(week) => {
                let days: Vec<String> = week.iter().map(|day| weekday_name(*day).to_owned()).collect();
                format!(" on {}", joined(&days))
            }
            Self::Working => format!(" on working days{of}"),
            Self::FirstWorking => format!(" on the first working day of a month{of}"),
            Self::LastWorking => format!(" on the last working day of a month{of}"),
            Self::First => " on the first day of a month".to_owned(),
            Self::Last => " on the last day of a month".to_owned(),
        }
    }
}

/// The instant of a time of day. A time that a clock put forward jumps over is the instant of
/// the jump; of a time that comes twice it is the first one.
fn instant(day: Date, time: Time, zone: &TimeZone) -> Option<Timestamp> {
    let ambiguous = zone.to_ambiguous_zoned(day.to_datetime(time));
    match ambiguous.offset() {
        AmbiguousOffset::Gap { after, .. } => {
            let before_the_jump = after.to_timestamp(day.to_datetime(time)).ok()?;
            zone.following(before_the_jump).next().map(|jump| jump.timestamp())
        }
        _ => ambiguous.earlier().ok().map(|zoned| zoned.timestamp()),
    }
}

impl Schedule {
    /// The first firing after an instant, or nothing if there is none within years.
    pub fn next_after(&self, after: Timestamp, zone: &TimeZone) -> Option<Timestamp> {
        let first = after.to_zoned(zone.clone()).date();
        (0..HORIZON).find_map(|ahead| {
            let day = first.checked_add(ahead.days()).ok()?;
            let fits = self.days.fit(day, &self.calendar)
                && match &self.pattern {
                    Pattern::Cron(cron) => cron.fits_day(day),
                    _ => true,
                };
            if fits { self.first_of_day(day, after, zone) } else { None }
        })
    }

    /// The next firings after an instant, at most so many.
    pub fn sample(&self, after: Timestamp, zone: &TimeZone, most: usize) -> Vec<Timestamp> {
        let next = |at: &Timestamp| self.next_after(*at, zone);
        std::iter::successors(next(&after), next).take(most).collect()
    }

    /// Firings after `last` that are due at `now`, as far as they are still wanted: with `late`
    /// they are those that nobody was there for.
    pub fn due(&self, last: Timestamp, now: Timestamp, zone: &TimeZone, late: Duration) -> Vec<Timestamp> {
        let mut due = self.sample(last, zone, MOST_MISSED);
        due.retain(|at| *at <= now);
        let is_missed = |at: &Timestamp| now.duration_since(*at).unsigned_abs() > late;
        match self.missed {
            Missed::All => due,
            Missed::Skip => due.into_iter().filter(|at| !is_missed(at)).collect(),
            // The latest of them tells best what the run is about.
            Missed::Once => self.latest(due, now, zone).into_iter().collect(),
        }
    }

    fn latest(&self, due: Vec<Timestamp>, now: Timestamp, zone: &TimeZone) -> Option<Timestamp> {
        let latest = *due.last()?;
        if due.len() < MOST_MISSED {
            return Some(latest);
        }
        // Too many to count: look back from now by days, which is as good for people.
        let back = (0..400).find_map(|days| {
            let from = now.checked_sub(jiff::SignedDuration::from_hours(24 * days + 1)).ok()?;
            self.sample(from, zone, MOST_MISSED).into_iter().take_while(|at| *at <= now).last()
        });
        Some(back.unwrap_or(latest).max(latest))
    }

    fn first_of_day(&self, day: Date, after: Timestamp, zone: &TimeZone) -> Option<Timestamp> {
        let is_within = |at: &Timestamp| self.is_between(at.to_zoned(zone.clone()).time());
        match &self.pattern {
            Pattern::At(times) => {
                let instants = times.iter().filter(|time| self.is_between(**time));
                instants.filter_map(|time| instant(day, *time, zone)).filter(|at| *at > after).min()
            }
            Pattern::Every(pause) => {
                let begin = day.to_zoned(zone.clone()).ok()?.timestamp();
                let end = day.tomorrow().ok()?.to_zoned(zone.clone()).ok()?.timestamp();
                let pause = i64::try_from(pause.as_secs()).ok()?.max(1);
                let passed = after.as_second() - begin.as_second();
                let first = if passed < 0 { 0 } else { passed / pause + 1 };
                let at = |count: i64| Timestamp::from_second(begin.as_second() + count * pause).ok();
                (first..).map_while(at).take_while(|at| *at < end).find(is_within)
            }
            Pattern::Cron(cron) if cron.is_hourly() => {
                let begin = day.to_zoned(zone.clone()).ok()?.timestamp();
                let end = day.tomorrow().ok()?.to_zoned(zone.clone()).ok()?.timestamp();
                let first = begin.as_second().max((after.as_second().div_euclid(60) + 1) * 60);
                (first..end.as_second())
                    .step_by(60)
                    .filter_map(|second| Timestamp::from_second(second).ok())
                    .find(|at| cron.fits_minute(at.to_zoned(zone.clone()).minute()) && is_within(at))
            }
            Pattern::Cron(cron) => cron
                .times()
                .filter_map(|(hour, minute)| Time::new(hour, minute, 0, 0).ok())
                .filter(|time| self.is_between(*time))
                .filter_map(|time| instant(day, time, zone))
                .filter(|at| *at > after)
                .min(),
        }
    }

    fn is_between(&self, time: Time) -> bool {
        match self.between {
            Some((from, until)) if from < until => (from..until).contains(&time),
            Some((from, until)) => time >= from || time < until,
            None => true,
        }
    }

    /// The schedule in words: `every 15 min from 08:00 to 18:00 on working days`.
    pub fn words(&self) -> String {
        let clock = |time: &Time| time.strftime("%H:%M").to_string();
        let when = match &self.pattern {
            Pattern::Every(pause) => format!("every {}", format_duration(*pause)),
            Pattern::At(times) => format!("at {}", joined(&times.iter().map(clock).collect::<Vec<_>>())),
            Pattern::Cron(cron) => format!("at the times of \"{}\"", cron.source()),
        };
        let between = self
            .between
            .map(|(from, until)| format!(" from {} to {}", clock(&from), clock(&until)))
            .unwrap_or_default();
        format!("{when}{between}{}", self.days.words(&self.calendar))
    }
}

#[cfg(test)]
mod tests;
