//! Sizes and durations as people write them.

use std::{fmt, str::FromStr, time::Duration};

use jiff::SignedDuration;

/// A size in bytes. Reads `200 MB`, `1.5 GiB`, `4096`; decimal and binary units differ.
///
/// ```
/// use wetbank_core::ByteSize;
/// assert_eq!("200 MB".parse::<ByteSize>().unwrap().0, 200_000_000);
/// assert_eq!("4KiB".parse::<ByteSize>().unwrap().0, 4096);
/// assert_eq!(ByteSize(4_100_000).to_string(), "4.1 MB");
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub struct ByteSize(pub u64);

impl FromStr for ByteSize {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, String> {
        let wrong = || format!("{text:?} is no size: write a number and a unit, as in \"200 MB\" or \"4 KiB\"");
        let trimmed = text.trim();
        let split = trimmed.find(|c: char| !c.is_ascii_digit() && c != '.').unwrap_or(trimmed.len());
        let (number, unit) = trimmed.split_at(split);
        let factor: u64 = match unit.trim().to_ascii_lowercase().as_str() {
            "" | "b" => 1,
            "kb" => 1_000,
            "mb" => 1_000_000,
            "gb" => 1_000_000_000,
            "tb" => 1_000_000_000_000,
            "kib" => 1 << 10,
            "mib" => 1 << 20,
            "gib" => 1 << 30,
            "tib" => 1 << 40,
            _ => return Err(wrong()),
        };
        if let Ok(whole) = number.parse::<u64>() {
            return whole.checked_mul(factor).map(ByteSize).ok_or_else(wrong);
        }
        let number: f64 = number.parse().map_err(|_| wrong())?;
        Ok(ByteSize((number * factor as f64).round() as u64))
    }
}

impl fmt::Display for ByteSize {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        const UNITS: [&str; 5] = ["B", "kB", "MB", "GB", "TB"];
        let mut value = self.0 as f64;
        let mut unit = 0;
        while value >= 999.5 && unit + 1 < UNITS.len() {
            value /= 1000.0;
            unit += 1;
        }
        if unit == 0 || value >= 100.0 {
            write!(f, "{value:.0} {}", UNITS[unit])
        } else {
            write!(f, "{value:.1} {}", UNITS[unit])
        }
    }
}

/// Reads a duration such as `3s`, `2m`, `1h 30m` or `2 days`; it must not be negative.
pub fn parse_duration(text: &str) -> Result<Duration, String> {
    let wrong = || format!("{text:?} is no duration: write it as in \"3s\", \"5m\" or \"1h 30m\"");
    // jiff's plain durations stop at hours; a day here is always 24 of them.
    let trimmed = text.trim();
    for unit in ["days", "day", "d"] {
        if let Some(number) = trimmed.strip_suffix(unit).and_then(|n| n.trim().parse::<u64>().ok()) {
            return Ok(Duration::from_secs(number.saturating_mul(86_400)));
        }
    }
    let signed: SignedDuration = trimmed.parse().map_err(|_| wrong())?;
    Duration::try_from(signed).map_err(|_| wrong())
}

/// Writes a duration for people: `3 s`, `1 min 30 s`, `2 h`, `3 days`.
pub fn format_duration(duration: Duration) -> String {
    let seconds = duration.as_secs();
    match seconds {
        0 => format!("{} ms", duration.as_millis()),
        1..60 => format!("{seconds} s"),
        60..3600 if seconds.is_multiple_of(60) => format!("{} min", seconds / 60),
        60..3600 => format!("{} min {} s", seconds / 60, seconds % 60),
        3600..172_800 if seconds.is_multiple_of(3600) => format!("{} h", seconds / 3600),
        3600..172_800 => format!("{} h {} min", seconds / 3600, seconds % 3600 / 60),
        _ => format!("{} days", seconds / 86_400),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn durations_read_as_people_write_them() {
        assert_eq!(parse_duration("3s"), Ok(Duration::from_secs(3)));
        assert_eq!(parse_duration("1h 30m"), Ok(Duration::from_secs(5400)));
        assert_eq!(parse_duration("2 days"), Ok(Duration::from_secs(172_800)));
        assert_eq!(parse_duration("250ms"), Ok(Duration::from_millis(250)));
        assert!(parse_duration("-3s").is_err());
        assert!(parse_duration("soon").is_err());
    }

    #[test]
    fn a_size_too_large_to_count_is_an_error() {
        assert!("99999999999 TB".parse::<ByteSize>().is_err());
        assert!("12 furlongs".parse::<ByteSize>().is_err());
    }
}
