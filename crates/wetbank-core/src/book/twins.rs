//! From the book's shape to twins.

use std::time::Duration;

use jiff::tz::TimeZone;
use toml::Spanned;

use super::{raw, rules::pace, schedules::resolve_schedule};
use crate::{
    FilePath, Name, RelPath, address,
    condition::glob,
    shape::{
        At, Case, Checked, Ends, HoursShape, Mistake, Text, duration, group, holds, place_name, quiet_hours, texts,
        time_zone,
    },
    twin::{Brake, Notice, Pair, Sameness, Scope, Settling, Twin, TwinStarts, Way, rule_name},
};

/// A file that waits longer than this is never alike.
const LONGEST_SETTLE: Duration = Duration::from_secs(24 * 3_600);
/// What a side loses is kept for so many days.
const KEEP_DAYS: u32 = 30;
/// The longest time that anything is kept or looked back, in days.
const LONGEST: u32 = 36_500;

pub(super) fn resolve_twin(name: &str, spanned: &Spanned<raw::Twin>, ends: &Ends<'_>) -> Checked<Twin> {
    let raw = spanned.as_ref();
    let wrong = |words: String| Mistake::new(spanned.span(), words);
    let name = Name::new(name).map_err(|error| wrong(error.to_string()))?;
    let own = rule_name(&name).ok_or_else(|| wrong("a twin's name has at most 59 letters".to_owned()))?;
    if ends.rules.contains(&own) {
        let words = format!("its passes run under the name \"{own}\", and there is a rule of that name; rename one");
        return Err(wrong(words));
    }
    let folders = Pair { near: side(&raw.near, ends)?, far: side(&raw.far, ends)? };
    if let Some(words) = nested(&folders) {
        return Err(raw.far.folder.as_ref().map_or_else(|| raw.far.place.wrong(&words), |folder| folder.wrong(&words)));
    }
    let way = *raw.way.as_ref();
    let zone = raw.zone.as_ref().map_or(Ok(TimeZone::UTC), time_zone)?;
    let starts = match &raw.starts {
        None => TwinStarts::default(),
        Some(raw) if raw.change.is_none() && raw.schedule.is_none() && raw.hand.is_none() => {
            let words = "starts needs change = {} or schedule = { … }, or hand = {} for passes that only people and rules start";
            return Err(Mistake::missing(spanned.span(), words.to_owned()));
        }
        Some(raw) => TwinStarts {
            change: raw.change.as_ref().map(|change| pace(change.look_every.as_ref())).transpose()?,
            schedule: raw.schedule.as_ref().map(|raw| resolve_schedule(raw, &zone, ends)).transpose()?,
        },
    };
    let settling = raw.differs.unwrap_or(Settling::KeepBoth);
    if settling == Settling::Far && way != Way::Both {
        let words = "differs = \"far\" changes the near side, and that only way = \"both\" does".to_owned();
        return Err(Mistake::new(raw.way.span(), words));
    }
    let settle = raw.settle.as_ref().map(|text| duration(Some(text), Duration::ZERO)).transpose()?;
    if let Some(text) = raw.settle.as_ref().filter(|_| settle.is_some_and(|settle| settle > LONGEST_SETTLE)) {
        return Err(text.wrong("settle is a day at most"));
    }
    group(raw.group.as_ref())?;
    let days = |days: Option<u32>, key: &str| match days {
        Some(days @ 1..=LONGEST) => Ok(Some(days)),
        Some(_) => Err(wrong(format!("{key} is from 1 to {LONGEST} days"))),
        None => Ok(None),
    };
    let tell =
        raw.tell.iter().map(|notice_of| notice(notice_of, raw.zone.as_ref(), ends)).collect::<Checked<Vec<_>>>()?;
    let twice = (1..tell.len()).find(|at| tell[..*at].iter().any(|other| other.key() == tell[*at].key()));
    if let Some(at) = twice {
        return Err(wrong(format!("tell names {} twice; leave one out", tell[at])));
    }
    let case = raw.case == Case::Exact;
    let names = raw.names.iter().map(|text| glob(text.str(), case).at(text)).collect::<Checked<_>>()?;
    let except = raw.except.iter().map(|text| except(text, case)).collect::<Checked<_>>()?;
    Ok(Twin {
        title: raw.title.clone().unwrap_or_else(|| name.to_string()),
        why: raw.why.clone(),
        name,
        folders,
        way,
        settling,
        same: raw.same.unwrap_or(Sameness::SizeAndTime),
        scope: Scope {
            names,
            except,
            hidden: raw.hidden,
            deep: raw.below.unwrap_or(true),
            empty_folders: raw.empty_folders.unwrap_or(true),
            since: None,
        },
        recent: days(raw.recent_days, "recent-days")?,
        settle,
        fits_names: raw.fit_names,
        keep_days: days(raw.keep_days, "keep-days")?.unwrap_or(KEEP_DAYS),
        brake: raw.brake.as_ref().map_or(Ok(Brake::default()), brake)?,
        zone,
        starts,
        tell,
    })
}

fn notice(raw: &raw::TwinNotice, zone: Option<&Text<holds::Zone>>, ends: &Ends<'_>) -> Checked<Notice> {
    let to: Vec<Text<holds::MailAddress>> = texts(&raw.to);
    if to.is_empty() {
        return Err(Mistake::missing(raw.to.span(), "a mail needs somebody to go to"));
    }
    let quiet = raw.quiet.as_ref().map(|quiet| HoursShape {
        from: quiet.from.clone(),
        until: quiet.until.clone(),
        zone: quiet.zone.clone().or_else(|| zone.cloned()),
    });
    Ok(Notice {
        by: place_name(&raw.by, ends.places)?,
        to: to.iter().map(|text| address::mail_address(text.str()).at(text)).collect::<Checked<_>>()?,
        folder: raw.folder.as_ref().map_or(Ok(RelPath::root()), |text| RelPath::parse(text.str()).at(text))?,
        quiet: quiet_hours(quiet.as_ref())?,
    })
}

fn side(raw: &raw::TwinSide, ends: &Ends<'_>) -> Checked<FilePath> {
    let path = raw.folder.as_ref().map_or(Ok(RelPath::root()), |text| RelPath::parse(text.str()).at(text))?;
    if let Some(text) = raw.folder.as_ref().filter(|_| path.is_temporary()) {
        return Err(text.wrong("names that begin with .wetbank- are the service's own; choose another folder"));
    }
    Ok(FilePath { place: place_name(&raw.place, ends.places)?, path })
}

/// Why two folders cannot be alike: one is the other, or lies in it.
fn nested(Pair { near, far }: &Pair<FilePath>) -> Option<String> {
    if near.place != far.place {
        return None;
    }
    match (far.path.below(&near.path), near.path.below(&far.path)) {
        (Some(below), _) if below.is_root() => Some(format!("both sides are {near}; choose two folders")),
        (Some(_), _) => Some(format!("{far} lies in {near}, so it would have to hold itself; choose one beside it")),
        (_, Some(_)) => Some(format!("{near} lies in {far}, so it would have to hold itself; choose one beside it")),
        _ => None,
    }
}

fn except(text: &Text<holds::Pattern>, case: bool) -> Checked<(globset::GlobMatcher, bool)> {
    // With a slash in front it means a path from the top.
    let pattern = text.str().strip_prefix('/').unwrap_or(text.str());
    Ok((glob(pattern, case).at(text)?, text.str().contains('/')))
}

fn brake(raw: &raw::TwinBrake) -> Checked<Brake> {
    let plain = Brake::default();
    let share = raw.share.as_ref().map_or(plain.share, |share| *share.as_ref());
    match &raw.share {
        Some(share) if *share.as_ref() > 100 => {
            Err(Mistake::new(share.span(), "a share is from 0 to 100, of a hundred files".to_owned()))
        }
        _ => Ok(Brake { share, number: raw.files.unwrap_or(plain.number) }),
    }
}
