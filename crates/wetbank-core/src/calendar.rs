//! Which days are working days.

use jiff::civil::{Date, Weekday};

use crate::Name;

/// The days that an office works.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Calendar {
    /// Its name in the book.
    pub name: Name,
    /// Its title for people.
    pub title: String,
    /// The days of a week that are worked.
    pub week: Vec<Weekday>,
    /// Days off: first and last day of each span.
    pub off: Vec<(Date, Date)>,
}

impl Calendar {
    /// Monday to Friday, with no day off.
    pub fn plain() -> Self {
        use Weekday::{Friday, Monday, Thursday, Tuesday, Wednesday};
        Self {
            name: Name::new("plain").expect("a plain name"),
            title: "Monday to Friday".to_owned(),
            week: vec![Monday, Tuesday, Wednesday, Thursday, Friday],
            off: Vec::new(),
        }
    }

    /// Whether a day is worked.
    pub fn is_working(&self, day: Date) -> bool {
        self.week.contains(&day.weekday()) && !self.off.iter().any(|(first, last)| (*first..=*last).contains(&day))
    }
}

/// A day of the week, written out.
pub(crate) fn weekday_name(day: Weekday) -> &'static str {
    match day {
        Weekday::Monday => "Monday",
        Weekday::Tuesday => "Tuesday",
        Weekday::Wednesday => "Wednesday",
        Weekday::Thursday => "Thursday",
        Weekday::Friday => "Friday",
        Weekday::Saturday => "Saturday",
        Weekday::Sunday => "Sunday",
    }
}

/// The short English word of a weekday, as the book has it.
pub fn weekday_word(day: Weekday) -> &'static str {
    match day {
        Weekday::Monday => "mon",
        Weekday::Tuesday => "tue",
        Weekday::Wednesday => "wed",
        Weekday::Thursday => "thu",
        Weekday::Friday => "fri",
        Weekday::Saturday => "sat",
        Weekday::Sunday => "sun",
    }
}

/// Reads a weekday: `mon`, `Monday`.
pub(crate) fn weekday(word: &str) -> Option<Weekday> {
    let word = word.trim().to_ascii_lowercase();
    let long = ["monday", "tuesday", "wednesday", "thursday", "friday", "saturday", "sunday"];
    let at = long.iter().position(|day| *day == word || day[..3] == *word)?;
    Weekday::from_monday_zero_offset(i8::try_from(at).ok()?).ok()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_day_off_is_no_working_day_and_neither_is_one_inside_a_span() {
        let day = |text: &str| text.parse::<Date>().unwrap();
        let off = vec![(day("2026-12-24"), day("2027-01-01")), (day("2026-04-03"), day("2026-04-03"))];
        let calendar = Calendar { off, ..Calendar::plain() };
        for (date, works) in [
            ("2026-12-23", true),
            ("2026-12-24", false),
            ("2026-12-28", false),
            ("2027-01-01", false),
            ("2027-01-04", true),
            ("2026-04-03", false),
            ("2026-04-04", false),
        ] {
            assert_eq!(calendar.is_working(day(date)), works, "{date}");
        }
    }

    #[test]
    fn weekdays_are_read_short_or_long() {
        assert_eq!(weekday("Mon"), Some(Weekday::Monday));
        assert_eq!(weekday("sunday"), Some(Weekday::Sunday));
        assert_eq!(weekday("day"), None);
    }
}
