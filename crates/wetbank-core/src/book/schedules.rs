//! From the book's shape to schedules and calendars.

use std::time::Duration;

use jiff::{
    Timestamp,
    civil::{Date, Weekday},
    tz::TimeZone,
};
use toml::Spanned;

use super::raw;
use crate::{
    Busy, Calendar, Cron, Days, Missed, Name, Pattern, Schedule,
    calendar::weekday,
    parse_duration,
    shape::{At, Checked, Ends, Mistake, Text, holds, texts, time, unknown},
};

/// From when a first firing is looked for when a schedule is checked.
const ANY_TIME: Timestamp = Timestamp::constant(1_767_225_600, 0);

pub(super) fn resolve_schedule(
    spanned: &Spanned<raw::Schedule>,
    zone: &TimeZone,
    ends: &Ends<'_>,
) -> Checked<Schedule> {
    let raw = spanned.as_ref();
    let wrong = |words: &str| Mistake::new(spanned.span(), words.to_owned());
    let pattern = match (&raw.every, &raw.at, &raw.cron) {
        (Some(text), None, None) => Pattern::Every(pause(text)?),
        (None, Some(list), None) => {
            let mut times = texts(list).iter().map(time).collect::<Checked<Vec<_>>>()?;
            times.sort();
            times.dedup();
            Pattern::At(times)
        }
        (None, None, Some(text)) => Pattern::Cron(Cron::parse(text.str()).at(text)?),
        _ => return Err(wrong("a schedule has one of every = \"15 min\", at = [\"07:30\"] and cron = \"30 7 * * *\"")),
    };
    let between = match (&raw.from, &raw.until) {
        (Some(from), Some(until)) => Some((time(from)?, time(until)?)),
        (None, None) => None,
        _ => return Err(wrong("a schedule has both from and until, or neither")),
    };
    let calendar = match &raw.calendar {
        Some(text) => match ends.calendars.iter().find(|calendar| calendar.name.as_str() == text.str()) {
            Some(calendar) => (*calendar).clone(),
            None => return Err(unknown("calendar", text, ends.calendars.iter().map(|c| c.name.as_str()))),
        },
        None => Calendar::plain(),
    };
    let days = raw.on.as_ref().map_or(Ok(Days::All), |list| days(&texts(list)))?;
    if raw.calendar.is_some() && !matches!(days, Days::Working | Days::FirstWorking | Days::LastWorking) {
        let words = "a calendar counts only with on = \"working-days\", \"first-working-day\" or \"last-working-day\"";
        return Err(wrong(words));
    }
    let (missed, busy) = (raw.missed.unwrap_or(Missed::Once), raw.busy.unwrap_or(Busy::Wait));
    let schedule = Schedule { pattern, days, calendar, between, missed, busy };
    if schedule.next_after(ANY_TIME, zone).is_none() {
        return Err(wrong(&format!("would never fire: there is no time {}", schedule.words())));
    }
    Ok(schedule)
}

fn pause(text: &Text<holds::Duration>) -> Checked<Duration> {
    let pause = parse_duration(text.str()).at(text)?;
    if pause < Duration::from_secs(1) || pause > Duration::from_secs(86_400) || pause.subsec_nanos() != 0 {
        let words = "every takes whole seconds up to a day; for longer pauses say at which time, and on which days";
        return Err(Mistake::new(text.0.span(), words.to_owned()));
    }
    Ok(pause)
}

fn days(texts: &[Text]) -> Checked<Days> {
    if let [text] = texts {
        match text.str() {
            "working-days" => return Ok(Days::Working),
            "first-working-day" => return Ok(Days::FirstWorking),
            "last-working-day" => return Ok(Days::LastWorking),
            "first-day" => return Ok(Days::First),
            "last-day" => return Ok(Days::Last),
            _ => {}
        }
    }
    texts.iter().map(weekday_of).collect::<Checked<_>>().map(Days::Week)
}

fn weekday_of<H>(text: &Text<H>) -> Checked<Weekday> {
    weekday(text.str())
        .ok_or_else(|| {
            format!(
                "\"{}\" is no day; write [\"mon\", \"thu\"], \"working-days\", \"first-working-day\", \"last-working-day\", \"first-day\" or \"last-day\"",
                text.str()
            )
        })
        .at(text)
}

pub(super) fn resolve_calendar(name: &str, spanned: &Spanned<raw::Calendar>) -> Checked<Calendar> {
    let raw = spanned.as_ref();
    let plain = Calendar::plain();
    Ok(Calendar {
        name: Name::new(name).map_err(|e| Mistake::new(spanned.span(), e.to_string()))?,
        title: raw.title.clone().unwrap_or_else(|| name.to_owned()),
        week: raw.week.as_ref().map_or(Ok(plain.week), |days| days.iter().map(weekday_of).collect())?,
        off: raw.off.iter().map(span).collect::<Checked<_>>()?,
    })
}

/// One day, or the first and last of several with two dots between.
fn span(text: &Text<holds::Day>) -> Checked<(Date, Date)> {
    let (first, last) = text.str().split_once("..").unwrap_or((text.str(), text.str()));
    match (first.trim().parse::<Date>(), last.trim().parse::<Date>()) {
        (Ok(first), Ok(last)) if first <= last => Ok((first, last)),
        (Ok(_), Ok(_)) => Err(Mistake::new(text.0.span(), format!("\"{}\" ends before it begins", text.str()))),
        _ => Err(Mistake::new(
            text.0.span(),
            format!("\"{}\" is no day; write \"2026-12-25\" or \"2026-12-24..2027-01-01\"", text.str()),
        )),
    }
}
