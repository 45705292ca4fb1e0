//! Cron expressions: minute, hour, day of month, month, day of week.

use jiff::civil::Date;

/// A cron expression of five fields, as POSIX `crontab` has them, with names, ranges and steps.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Cron {
    source: String,
    minutes: u64,
    hours: u64,
    days: u64,
    months: u64,
    weekdays: u64,
    /// With both fields limited, a day needs to fit only one of them.
    either_day: bool,
}

const MONTHS: [&str; 12] = ["jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"];
const WEEKDAYS: [&str; 7] = ["sun", "mon", "tue", "wed", "thu", "fri", "sat"];

struct Field {
    what: &'static str,
    first: u32,
    last: u32,
    names: &'static [&'static str],
}

const FIELDS: [Field; 5] = [
    Field { what: "minute", first: 0, last: 59, names: &[] },
    Field { what: "hour", first: 0, last: 23, names: &[] },
    Field { what: "day of month", first: 1, last: 31, names: &[] },
    Field { what: "month", first: 1, last: 12, names: &MONTHS },
    // Sunday is 0 and 7.
    Field { what: "day of week", first: 0, last: 7, names: &WEEKDAYS },
];

impl Field {
    fn number(&self, word: &str) -> Result<u32, String> {
        let named = self.names.iter().position(|name| word.eq_ignore_ascii_case(name));
        let number = match named {
            Some(at) => u32::try_from(at).ok().map(|at| at + if self.first == 1 { 1 } else { 0 }),
            None => word.parse().ok(),
        };
        number.filter(|number| (self.first..=self.last).contains(number)).ok_or_else(|| {
            let Self { what, first, last, .. } = self;
            format!("\"{word}\" is no {what}; write a number from {first} to {last}")
        })
    }

    fn set(&self, text: &str) -> Result<u64, String> {
        let mut set = 0;
        for part in text.split(',') {
            let (range, step) = part.split_once('/').map_or((part, None), |(range, step)| (range, Some(step)));
            let (from, to) = match range.split_once('-') {
                _ if range == "*" => (self.first, self.last),
                Some((from, to)) => (self.number(from)?, self.number(to)?),
                None if step.is_some() => (self.number(range)?, self.last),
                None => (self.number(range)?, self.number(range)?),
            };
            if from > to {
                return Err(format!("{range} in the {} runs backwards", self.what));
            }
            let step = match step {
                Some(word) => word.parse().ok().filter(|step| *step > 0).ok_or(format!("\"{word}\" is no step"))?,
                None => 1,
            };
            (from..=to).step_by(step).for_each(|number| set |= 1 << number);
        }
        Ok(set)
    }
}

impl Cron {
    /// Reads an expression such as `*/10 8-18 * * mon-fri`.
    pub fn parse(text: &str) -> Result<Self, String> {
        let words: Vec<&str> = text.split_whitespace().collect();
        let Ok([minutes, hours, days, months, weekdays]) = <[&str; 5]>::try_from(words.as_slice()) else {
            return Err(format!(
                "\"{text}\" has {} fields; a cron expression has five: minute, hour, day of month, month, day of week",
                words.len()
            ));
        };
        let read = |at: usize, word: &str| FIELDS[at].set(word).map_err(|why| format!("\"{text}\": {why}"));
        let weekday_set = read(4, weekdays)?;
        Ok(Self {
            source: words.join(" "),
            minutes: read(0, minutes)?,
            hours: read(1, hours)?,
            days: read(2, days)?,
            months: read(3, months)?,
            weekdays: weekday_set | (weekday_set >> 7 & 1),
            either_day: !days.starts_with('*') && !weekdays.starts_with('*'),
        })
    }

    /// The expression.
    pub fn source(&self) -> &str {
        &self.source
    }

    /// Whether it fires on this day at all.
    pub(super) fn fits_day(&self, date: Date) -> bool {
        let has = |set: u64, number: i8| set >> number & 1 == 1;
        let day = has(self.days, date.day());
        let weekday = has(self.weekdays, date.weekday().to_sunday_zero_offset());
        has(self.months, date.month()) && if self.either_day { day || weekday } else { day && weekday }
    }

    /// Whether it fires in every hour: then it follows the time that passes, not the clock's face.
    pub(super) fn is_hourly(&self) -> bool {
        self.hours == (1 << 24) - 1
    }

    /// Whether it fires at this minute of an hour.
    pub(super) fn fits_minute(&self, minute: i8) -> bool {
        self.minutes >> minute & 1 == 1
    }

    /// Hours and minutes of a day on which it fires.
    pub(super) fn times(&self) -> impl Iterator<Item = (i8, i8)> + '_ {
        (0..24i8)
            .filter(|hour| self.hours >> hour & 1 == 1)
            .flat_map(move |hour| (0..60i8).filter(|minute| self.fits_minute(*minute)).map(move |m| (hour, m)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn fires(text: &str, date: &str) -> Vec<(i8, i8)> {
        let cron = Cron::parse(text).unwrap();
        if cron.fits_day(date.parse().unwrap()) { cron.times().collect() } else { Vec::new() }
    }

    #[test]
    fn fields_take_names_ranges_lists_and_steps() {
        // 2026-03-16 is a Monday.
        assert_eq!(fires("0 6 * * mon", "2026-03-16"), [(6, 0)]);
        assert_eq!(fires("0 6 * * mon", "2026-03-17"), []);
        assert_eq!(fires("*/20 8-9 * * 1-5", "2026-03-16"), [(8, 0), (8, 20), (8, 40), (9, 0), (9, 20), (9, 40)]);
        assert_eq!(fires("5,35 0 16 MAR *", "2026-03-16"), [(0, 5), (0, 35)]);
        assert_eq!(fires("50/5 0 * * *", "2026-03-16"), [(0, 50), (0, 55)]);
    }

    #[test]
    fn sunday_is_zero_and_seven() {
        assert_eq!(fires("0 0 * * 0", "2026-03-15"), fires("0 0 * * 7", "2026-03-15"));
        assert_eq!(fires("0 0 * * 7", "2026-03-15"), [(0, 0)]);
    }

    #[test]
    fn with_both_days_limited_one_of_them_is_enough() {
        assert_eq!(fires("0 0 13 * fri", "2026-03-13").len(), 1);
        assert_eq!(fires("0 0 13 * fri", "2026-03-20").len(), 1);
        assert_eq!(fires("0 0 13 * fri", "2026-04-13").len(), 1);
        assert_eq!(fires("0 0 13 * fri", "2026-04-14").len(), 0);
    }

    #[test]
    fn what_is_wrong_is_named() {
        for (text, said) in [
            ("* * * *", "has 4 fields"),
            ("60 * * * *", "\"60\" is no minute"),
            ("0 0 0 * *", "\"0\" is no day of month"),
            ("0 0 * * funday", "\"funday\" is no day of week"),
            ("0 9-8 * * *", "runs backwards"),
            ("*/0 * * * *", "\"0\" is no step"),
            ("-5 * * * *", "\"\" is no minute"),
        ] {
            let error = Cron::parse(text).unwrap_err();
            assert!(error.contains(said), "{text}: {error}");
        }
    }
}
