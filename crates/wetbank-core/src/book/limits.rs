//! From the book's shape to limits and hours.

use jiff::{civil::Time, tz::TimeZone};

use super::{
    raw,
    raw::Text,
    resolve::{At, Checked, Mistake, duration, time_zone},
};
use crate::{ByteSize, Hours, Limits, Rate, RetryPolicy};

pub(super) fn resolve_limits(raw: &raw::Place) -> Checked<Limits> {
    let always = raw.rate.iter().map(|text| Ok(Rate { most: speed(text)?, hours: None }));
    let rates = always.chain(raw.rates.iter().map(rate)).collect::<Checked<_>>()?;
    let retry = raw.retry.as_ref().map(resolve_retry).transpose()?;
    Ok(Limits { transfers: raw.transfers.map(|count| usize::from(count.max(1))), rates, retry })
}

pub(super) fn resolve_retry(raw: &raw::Retry) -> Checked<RetryPolicy> {
    let default = RetryPolicy::default();
    Ok(RetryPolicy {
        attempts: raw.attempts.unwrap_or(default.attempts).max(1),
        first: duration(raw.first.as_ref(), default.first)?,
        longest: duration(raw.longest.as_ref(), default.longest)?,
    })
}

fn rate(raw: &raw::Rate) -> Checked<Rate> {
    let hours = match (&raw.from, &raw.until) {
        (Some(from), Some(until)) => {
            Some(hours(&raw::Hours { from: from.clone(), until: until.clone(), zone: raw.zone.clone() })?)
        }
        (None, None) => None,
        _ => return Err(Mistake(raw.most.0.span(), "a rate needs both from and until, or neither".to_owned())),
    };
    Ok(Rate { most: speed(&raw.most)?, hours })
}

fn speed(text: &Text) -> Checked<u64> {
    let size = text.str().trim().strip_suffix("/s").and_then(|size| size.parse::<ByteSize>().ok());
    match size {
        Some(ByteSize(bytes)) if bytes > 0 => Ok(bytes),
        _ => Err(Mistake(text.0.span(), format!("\"{}\" is no speed; write it as in \"2 MB/s\"", text.str()))),
    }
}

pub(super) fn hours(raw: &raw::Hours) -> Checked<Hours> {
    Ok(Hours {
        from: time(&raw.from)?,
        until: time(&raw.until)?,
        zone: raw.zone.as_ref().map_or(Ok(TimeZone::UTC), time_zone)?,
    })
}

pub(super) fn time(text: &Text) -> Checked<Time> {
    Time::strptime("%H:%M", text.str())
        .map_err(|_| format!("\"{}\" is no time of day; write it as in \"22:00\"", text.str()))
        .at(text)
}
