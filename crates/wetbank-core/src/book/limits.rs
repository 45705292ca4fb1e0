//! From the book's shape to limits and hours.

use super::raw;
use crate::{
    ByteSize, Limits, Rate, RetryPolicy,
    shape::{Checked, HoursShape, Text, duration, group, holds, hours},
};

pub(super) fn resolve_limits(raw: &raw::Limits) -> Checked<Limits> {
    group(raw.group.as_ref())?;
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
            Some(hours(&HoursShape { from: from.clone(), until: until.clone(), zone: raw.zone.clone() })?)
        }
        (None, None) => None,
        _ => return Err(raw.most.wrong("a rate needs both from and until, or neither")),
    };
    Ok(Rate { most: speed(&raw.most)?, hours })
}

fn speed(text: &Text<holds::Speed>) -> Checked<u64> {
    let size = text.str().trim().strip_suffix("/s").and_then(|size| size.parse::<ByteSize>().ok());
    match size {
        Some(ByteSize(bytes)) if bytes > 0 => Ok(bytes),
        _ => Err(text.wrong(format!("\"{}\" is no speed; write it as in \"2 MB/s\"", text.str()))),
    }
}
