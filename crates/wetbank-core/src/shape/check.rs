//! From words to values: checks that every part of the book uses.

use std::{ops::Range, time::Duration};

use jiff::{civil::Time, tz::TimeZone};

use super::{HoursShape, SecretRef, Text, holds};
use crate::{
    Amiss, ByteSize, Calendar, Hours, Most, Name, Partner, PlaceName, QuietHours, RelPath, SecretName, Template,
    parse_duration,
};

/// A mistake at a position of the text.
#[derive(Debug)]
pub(crate) struct Mistake {
    pub at: Range<usize>,
    pub words: String,
    pub amiss: Amiss,
}

impl Mistake {
    pub fn new(at: Range<usize>, words: impl Into<String>) -> Self {
        Self { at, words: words.into(), amiss: Amiss::Meaning }
    }

    /// The same, of something that is needed and not there.
    pub fn missing(at: Range<usize>, words: impl Into<String>) -> Self {
        Self { at, words: words.into(), amiss: Amiss::Missing }
    }
}

pub(crate) type Checked<T> = Result<T, Mistake>;

pub(crate) trait At<T> {
    /// The same, with the text that is to blame.
    fn at<H>(self, text: &Text<H>) -> Checked<T>;
}

impl<T, E: ToString> At<T> for Result<T, E> {
    fn at<H>(self, text: &Text<H>) -> Checked<T> {
        self.map_err(|e| text.wrong(e.to_string()))
    }
}

/// Everything a rule may name.
pub(crate) struct Ends<'a> {
    pub places: &'a [&'a PlaceName],
    pub partners: &'a [&'a Partner],
    pub accounts: &'a [Name],
    pub calendars: &'a [&'a Calendar],
    pub databases: &'a [Name],
    pub twins: &'a [Name],
    pub rules: &'a [Name],
}

/// What is known where a step stands.
pub(crate) struct Here<'a> {
    /// Where it stands.
    pub span: Range<usize>,
    /// The place that files come from: where a step without "to" stays.
    pub source: Option<&'a PlaceName>,
    /// The titles that the rule's branches were given, in their order.
    pub titles: &'a [Option<&'a str>],
    /// The index of its branch.
    pub branch: usize,
    pub ends: &'a Ends<'a>,
}

impl Here<'_> {
    pub fn wrong(&self, words: impl Into<String>) -> Mistake {
        Mistake::new(self.span.clone(), words)
    }

    pub fn lacks(&self, words: impl Into<String>) -> Mistake {
        Mistake::missing(self.span.clone(), words)
    }

    /// The place that is named, or else the one that files come from.
    pub fn place(&self, to: Option<&Text<holds::PlaceName>>) -> Checked<PlaceName> {
        match (to, self.source) {
            (Some(text), _) => place_name(text, self.ends.places),
            (None, Some(source)) => Ok(source.clone()),
            (None, None) => Err(self.lacks("needs \"to\", the name of a place")),
        }
    }

    pub fn database(&self, text: &Text<holds::DatabaseName>) -> Checked<Name> {
        match self.ends.databases.iter().find(|name| name.as_str() == text.str()) {
            Some(name) => Ok((*name).clone()),
            None => Err(unknown("database", text, self.ends.databases.iter().map(|name| name.as_str()))),
        }
    }
}

pub(crate) fn secret(secret: Option<&SecretRef>) -> Checked<Option<SecretName>> {
    secret.map(|secret| Name::new(secret.secret.str()).at(&secret.secret)).transpose()
}

pub(crate) fn place_name<H>(text: &Text<H>, known: &[&PlaceName]) -> Checked<PlaceName> {
    match known.iter().find(|name| name.as_str() == text.str()) {
        Some(name) => Ok((*name).clone()),
        None => Err(unknown("place", text, known.iter().map(|name| name.as_str()))),
    }
}

pub(crate) fn unknown<'a, H>(kind: &str, text: &Text<H>, known: impl Iterator<Item = &'a str>) -> Mistake {
    let nearest = crate::book::nearest(text.str(), known).map(str::to_owned);
    let remedy = match &nearest {
        Some(name) => format!("did you mean \"{name}\"?"),
        None => format!("add [{kind}.{}] to the book", text.str()),
    };
    let amiss = Amiss::Name { of: kind.to_owned(), written: text.str().to_owned(), nearest };
    Mistake { amiss, ..text.wrong(format!("unknown {kind} \"{}\"; {remedy}", text.str())) }
}

pub(crate) fn time_zone(text: &Text<holds::Zone>) -> Checked<TimeZone> {
    TimeZone::get(text.str())
        .map_err(|_| format!("unknown time zone \"{}\"; write it as in \"Europe/London\"", text.str()))
        .at(text)
}

pub(crate) fn time(text: &Text<holds::TimeOfDay>) -> Checked<Time> {
    Time::strptime("%H:%M", text.str())
        .map_err(|_| format!("\"{}\" is no time of day; write it as in \"22:00\"", text.str()))
        .at(text)
}

pub(crate) fn template<H>(text: Option<&Text<H>>, default: &str) -> Checked<Template> {
    match text {
        Some(text) => Template::new(text.str()).at(text),
        None => Template::new(default).map_err(|e| Mistake::new(0..0, e.to_string())),
    }
}

/// Folders and names without placeholders are checked now, not when the first file comes.
pub(crate) fn folder_template<H>(text: Option<&Text<H>>, default: &str) -> Checked<Template> {
    let template = template(text, default)?;
    if let Some(text) = text.filter(|_| template.is_plain()) {
        RelPath::parse(text.str()).at(text)?;
    }
    Ok(template)
}

pub(crate) fn duration(text: Option<&Text<holds::Duration>>, default: Duration) -> Checked<Duration> {
    text.map_or(Ok(default), |text| parse_duration(text.str()).at(text))
}

pub(crate) fn size(text: Option<&Text<holds::Size>>, default: ByteSize) -> Checked<ByteSize> {
    text.map_or(Ok(default), |text| text.str().parse::<ByteSize>().at(text))
}

/// What may come out of a file if the book does not say.
const MOST_BYTES: ByteSize = ByteSize(50_000_000_000);

pub(crate) fn most(text: Option<&Text<holds::Size>>) -> Checked<Most> {
    Ok(Most { bytes: size(text, MOST_BYTES)?, is_said: text.is_some() })
}

pub(crate) fn hours(shape: &HoursShape) -> Checked<Hours> {
    Ok(Hours {
        from: time(&shape.from)?,
        until: time(&shape.until)?,
        zone: shape.zone.as_ref().map_or(Ok(TimeZone::UTC), time_zone)?,
    })
}

pub(crate) fn quiet_hours(shape: Option<&HoursShape>) -> Checked<Option<QuietHours>> {
    shape.map(|shape| hours(shape).map(QuietHours)).transpose()
}

/// A group's name is one.
pub(crate) fn group(text: Option<&Text<holds::GroupName>>) -> Checked<()> {
    text.map(|text| Name::new(text.str()).at(text)).transpose().map(drop)
}
