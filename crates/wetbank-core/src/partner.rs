//! Partners: who receives, how they want it, and what must be looked after in time.

use jiff::{Timestamp, civil::Date};

use crate::{Hours, IfExists, Name, PlaceName, Template};

/// Warnings come so many days before something expires.
const WARNED: [i64; 3] = [30, 7, 1];

/// Somebody we exchange files with.
#[derive(Debug, Clone)]
pub struct Partner {
    /// Its name in the book.
    pub name: Name,
    /// Its name for people.
    pub title: String,
    /// What colleagues should know.
    pub note: String,
    /// Whom to call.
    pub people: Vec<Person>,
    /// Its places.
    pub places: Vec<PlaceName>,
    /// Names of its OpenPGP keys.
    pub keys: Vec<String>,
    /// How it wants what is delivered.
    pub delivery: Option<Delivery>,
    /// What else expires, and when.
    pub expiries: Vec<Expiry>,
}

/// Somebody at a partner's.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Person {
    /// Name.
    pub name: String,
    /// What they do there.
    pub role: String,
    /// Address for mail.
    pub mail: String,
    /// Telephone.
    pub phone: String,
}

/// A partner's standing wishes for what it is sent. A rule may say otherwise of folder, name and
/// what is done when a name is taken.
#[derive(Debug, Clone)]
pub struct Delivery {
    /// The place.
    pub to: PlaceName,
    /// The folder there.
    pub folder: Template,
    /// The name there.
    pub name: Template,
    /// What to do when the name is taken.
    pub exists: IfExists,
    /// Keys it is encrypted to; empty if it is sent as it is.
    pub encrypt_to: Vec<String>,
    /// The key that signs.
    pub sign: Option<String>,
    /// ASCII armour instead of binary.
    pub armour: bool,
    /// When nothing may come.
    pub quiet: Option<QuietHours>,
}

/// Something of a partner's that expires on a day.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Expiry {
    /// What it is, as in `host key of sftp.skerrow.example`.
    pub what: String,
    /// The last day on which it is good.
    pub until: Date,
}

/// Hours of each day in which nothing is delivered.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct QuietHours(pub Hours);

impl QuietHours {
    /// When the quiet that is now ends; nothing if it is not quiet.
    pub fn end(&self, now: Timestamp) -> Option<Timestamp> {
        let Hours { until, zone, .. } = &self.0;
        if !self.0.hold_at(now) {
            return None;
        }
        let local = now.to_zoned(zone.clone());
        let day = if local.time() < *until { local.date() } else { local.date().tomorrow().ok()? };
        // A time that the clock skips on that day means the moment after the gap.
        Some(day.to_datetime(*until).to_zoned(zone.clone()).ok()?.timestamp())
    }
}

impl std::fmt::Display for QuietHours {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let zone = self.0.zone.iana_name().unwrap_or("UTC");
        write!(f, "{} to {} ({zone})", self.0.from.strftime("%H:%M"), self.0.until.strftime("%H:%M"))
    }
}

/// How near an end is, in the days of the warnings: 30, 7 or 1; 0 once it is over.
pub fn warned(until: Timestamp, now: Timestamp) -> Option<i64> {
    if until <= now {
        return Some(0);
    }
    // Whole days count as they begin: what ends in six and a half days is within seven.
    let left = until.as_second() - now.as_second();
    WARNED.into_iter().rev().find(|days| left <= days * 86_400)
}

#[cfg(test)]
mod tests {
    use jiff::tz::TimeZone;

    use super::*;

    fn at(text: &str) -> Timestamp {
        text.parse().unwrap()
    }

    fn quiet(from: &str, until: &str, zone: &str) -> QuietHours {
        QuietHours(Hours {
            from: from.parse().unwrap(),
            until: until.parse().unwrap(),
            zone: TimeZone::get(zone).unwrap(),
        })
    }

    #[test]
    fn quiet_hours_end_on_the_same_day_or_after_midnight() {
        let night = quiet("22:00", "06:30", "UTC");
        for (now, end) in [
            ("2026-03-14T21:59:59Z", None),
            ("2026-03-14T22:00:00Z", Some("2026-03-15T06:30:00Z")),
            ("2026-03-15T06:29:59Z", Some("2026-03-15T06:30:00Z")),
            ("2026-03-15T06:30:00Z", None),
        ] {
            assert_eq!(night.end(at(now)), end.map(at), "{now}");
        }
        let noon = quiet("12:00", "13:00", "UTC");
        assert_eq!(noon.end(at("2026-03-14T12:30:00Z")), Some(at("2026-03-14T13:00:00Z")));
        assert_eq!(noon.end(at("2026-03-14T13:00:00Z")), None);
    }

    #[test]
    fn quiet_hours_follow_the_partners_clock_when_it_is_put_forward() {
        // In London the clock goes from 01:00 to 02:00 on 2026-03-29.
        let night = quiet("23:00", "06:00", "Europe/London");
        assert_eq!(night.end(at("2026-03-28T23:30:00Z")), Some(at("2026-03-29T05:00:00Z")));
        let gap = quiet("00:00", "01:30", "Europe/London");
        assert_eq!(gap.end(at("2026-03-29T00:30:00Z")), Some(at("2026-03-29T01:30:00Z")));
    }

    #[test]
    fn the_same_hour_twice_means_the_whole_day() {
        let always = quiet("06:00", "06:00", "UTC");
        assert_eq!(always.end(at("2026-03-14T12:00:00Z")), Some(at("2026-03-15T06:00:00Z")));
    }

    #[test]
    fn an_end_is_warned_of_thirty_seven_and_one_days_before() {
        let until = at("2026-03-31T00:00:00Z");
        for (now, days) in [
            ("2026-02-28T00:00:00Z", None),
            ("2026-03-01T00:00:00Z", Some(30)),
            ("2026-03-23T23:59:59Z", Some(30)),
            ("2026-03-24T00:00:00Z", Some(7)),
            ("2026-03-30T00:00:00Z", Some(1)),
            ("2026-03-31T00:00:00Z", Some(0)),
        ] {
            assert_eq!(warned(until, at(now)), days, "{now}");
        }
    }
}
