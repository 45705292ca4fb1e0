//! From the book's shape to rules and places: what only meaning can check.

use std::{ops::Range, time::Duration};

use jiff::tz::TimeZone;

use super::{
    Book, Known, Problem, errands::resolve_database, limits::resolve_limits, line_of, partners::resolve_partner,
    places::resolve_place, raw, raw::Text, rules::resolve_rule, schedules::resolve_calendar,
};
use crate::{Calendar, Name, Partner, PlaceName, RelPath, SecretName, Template, parse_duration};

/// Everything a rule may name.
pub(super) struct Ends<'a> {
    pub places: &'a [&'a PlaceName],
    pub partners: &'a [&'a Partner],
    pub calendars: &'a [&'a Calendar],
    pub databases: &'a [Name],
    pub rules: &'a [Name],
}

type Parsed<'a> = (&'a String, &'a String, raw::Book);

/// A mistake at a place in the text.
pub(super) struct Mistake(pub Range<usize>, pub String);

pub(super) type Checked<T> = Result<T, Mistake>;

pub(super) trait At<T> {
    fn at(self, text: &Text) -> Checked<T>;
}

impl<T, E: ToString> At<T> for Result<T, E> {
    fn at(self, text: &Text) -> Checked<T> {
        self.map_err(|e| Mistake(text.0.span(), e.to_string()))
    }
}

impl Text {
    pub(super) fn str(&self) -> &str {
        self.0.as_ref()
    }
}

pub(super) fn resolve(files: &[Parsed<'_>], known: &Known, problems: &mut Vec<Problem>) -> Book {
    let mut book = Book::default();
    let mut note = |file: &str, text: &str, key: String, Mistake(span, message): Mistake| {
        problems.push(Problem { file: file.to_owned(), line: line_of(text, span.start), key, message });
    };
    let mut places = Vec::new();
    let mut rules = Vec::new();
    for (number, (file, text, raw)) in files.iter().enumerate() {
        for (name, place) in &raw.place {
            let key = format!("place.{name}");
            match Name::new(name)
                .map_err(|e| Mistake(place.span(), e.to_string()))
                .and_then(|name| Ok((name, resolve_place(place)?, resolve_limits(place.as_ref())?)))
            {
                Ok((name, spec, limits)) => {
                    if !limits.is_none() {
                        book.limits.insert(name.clone(), limits);
                    }
                    places.push((number, place.span().start, (name, spec)));
                }
                Err(mistake) => note(file, text, key, mistake),
            }
        }
    }
    places.sort_by_key(|(number, start, _)| (*number, *start));
    book.places = places.into_iter().map(|(_, _, place)| place).collect();
    let mut names: Vec<&PlaceName> = book.places.iter().map(|(name, _)| name).chain(&known.places).collect();
    // A place that was written but is wrong itself is no unknown place.
    let written: Vec<Name> =
        files.iter().flat_map(|f| f.2.place.keys()).filter_map(|name| Name::new(name).ok()).collect();
    names.extend(&written);
    // A partner that is wrong itself is no unknown one for the rules that name it.
    let mut wrong = Vec::new();
    for (file, text, raw) in files {
        for (name, partner) in &raw.partner {
            match resolve_partner(name, partner, &names) {
                Ok(partner) => book.partners.push(partner),
                Err(mistake) => {
                    wrong.push(format!("unknown partner \"{name}\""));
                    note(file, text, format!("partner.{name}"), mistake);
                }
            }
        }
    }
    let mut partners: Vec<&Partner> = known.partners.iter().collect();
    partners.retain(|partner| !book.partners.iter().any(|new| new.name == partner.name));
    partners.extend(&book.partners);
    for (file, text, raw) in files {
        for (name, calendar) in &raw.calendar {
            match resolve_calendar(name, calendar) {
                Ok(calendar) => book.calendars.push(calendar),
                Err(mistake) => {
                    wrong.push(format!("unknown calendar \"{name}\""));
                    note(file, text, format!("calendar.{name}"), mistake);
                }
            }
        }
    }
    for (file, text, raw) in files {
        for (name, database) in &raw.database {
            match resolve_database(name, database) {
                Ok(database) => book.databases.push(database),
                Err(mistake) => {
                    wrong.push(format!("unknown database \"{name}\""));
                    note(file, text, format!("database.{name}"), mistake);
                }
            }
        }
    }
    let databases: Vec<Name> =
        book.databases.iter().map(|database| database.name.clone()).chain(known.databases.iter().cloned()).collect();
    let mut calendars: Vec<&Calendar> = known.calendars.iter().collect();
    calendars.retain(|calendar| !book.calendars.iter().any(|new| new.name == calendar.name));
    calendars.extend(&book.calendars);
    let written_rules = files.iter().flat_map(|f| f.2.rule.keys()).filter_map(|name| Name::new(name).ok());
    let rule_names: Vec<Name> = known.rules.iter().cloned().chain(written_rules).collect();
    let ends =
        Ends { places: &names, partners: &partners, calendars: &calendars, databases: &databases, rules: &rule_names };
    for (number, (file, text, raw)) in files.iter().enumerate() {
        for (name, rule) in &raw.rule {
            let key = format!("rule.{name}");
            match resolve_rule(name, rule, &ends) {
                Ok(rule_) => rules.push((number, rule.span().start, rule_)),
                Err(Mistake(_, words)) if wrong.iter().any(|wrong| words.starts_with(wrong)) => {}
                Err(mistake) => note(file, text, key, mistake),
            }
        }
    }
    rules.sort_by_key(|(number, start, _)| (*number, *start));
    book.rules = rules.into_iter().map(|(_, _, rule)| rule).collect();
    book
}

pub(super) fn secret_name(text: &Text) -> Checked<SecretName> {
    Name::new(text.str()).at(text)
}

pub(super) fn place_name(text: &Text, known: &[&PlaceName]) -> Checked<PlaceName> {
    match known.iter().find(|name| name.as_str() == text.str()) {
        Some(name) => Ok((*name).clone()),
        None => Err(unknown("place", text, known.iter().map(|name| name.as_str()))),
    }
}

pub(super) fn unknown<'a>(kind: &str, text: &Text, known: impl Iterator<Item = &'a str>) -> Mistake {
    let nearest = super::nearest(text.str(), known)
        .map(|name| format!("; did you mean \"{name}\"?"))
        .unwrap_or_else(|| format!("; add [{kind}.{}] to the book", text.str()));
    Mistake(text.0.span(), format!("unknown {kind} \"{}\"{nearest}", text.str()))
}

pub(super) fn time_zone(text: &Text) -> Checked<TimeZone> {
    TimeZone::get(text.str())
        .map_err(|_| format!("unknown time zone \"{}\"; write it as in \"Europe/London\"", text.str()))
        .at(text)
}

pub(super) fn template(text: Option<&Text>, default: &str) -> Checked<Template> {
    match text {
        Some(text) => Template::new(text.str()).at(text),
        None => Template::new(default).map_err(|e| Mistake(0..0, e.to_string())),
    }
}

/// Folders and names without placeholders are checked now, not when the first file comes.
pub(super) fn folder_template(text: Option<&Text>, default: &str) -> Checked<Template> {
    let template = template(text, default)?;
    if let Some(text) = text.filter(|_| template.is_plain()) {
        RelPath::parse(text.str()).at(text)?;
    }
    Ok(template)
}

pub(super) fn duration(text: Option<&Text>, default: Duration) -> Checked<Duration> {
    text.map_or(Ok(default), |text| parse_duration(text.str()).at(text))
}
