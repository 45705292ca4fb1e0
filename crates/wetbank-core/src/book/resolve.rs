//! From the book's shape to rules and places: what only meaning can check.

use super::{
    Amiss, Book, Known, Problem, SectionKind, accounts::resolve_account, databases::resolve_database,
    limits::resolve_limits, line_of, partners::resolve_partner, raw, rules::resolve_rule, schedules::resolve_calendar,
    twins::resolve_twin,
};
use crate::{
    Calendar, Name, Partner, PlaceName,
    shape::{Ends, Mistake},
};

type Parsed<'a> = (&'a String, &'a String, raw::Book);

pub(super) fn resolve(files: &[Parsed<'_>], known: &Known, problems: &mut Vec<Problem>) -> Book {
    let mut book = Book::default();
    let mut note = |file: &str, text: &str, key: String, Mistake { at, words, amiss }: Mistake| {
        problems.push(Problem { file: file.to_owned(), line: line_of(text, at.start), key, message: words, amiss });
    };
    let mut places = Vec::new();
    let mut rules = Vec::new();
    for (number, (file, text, raw)) in files.iter().enumerate() {
        for (name, place) in &raw.place {
            let key = format!("place.{name}");
            match Name::new(name).map_err(|e| Mistake::new(place.span(), e.to_string())).and_then(|name| {
                Ok((name, place.as_ref().shape.resolve(place.span())?, resolve_limits(&place.as_ref().limits)?))
            }) {
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
    let written = |kind: SectionKind| {
        let all = files.iter().flat_map(|(_, _, raw)| &raw.written).filter(move |(of, _)| *of == kind);
        all.filter_map(|(_, name)| Name::new(name).ok()).collect::<Vec<_>>()
    };
    let written_places = written(SectionKind::Place);
    names.extend(&written_places);
    // A partner that is wrong itself is no unknown one for the rules that name it.
    let mut wrong: Vec<(SectionKind, String)> =
        files.iter().flat_map(|(_, _, raw)| raw.broken()).map(|(kind, name)| (kind, name.to_owned())).collect();
    for (file, text, raw) in files {
        for (name, partner) in &raw.partner {
            match resolve_partner(name, partner, &names) {
                Ok(partner) => book.partners.push(partner),
                Err(mistake) => {
                    wrong.push((SectionKind::Partner, name.clone()));
                    note(file, text, format!("partner.{name}"), mistake);
                }
            }
        }
    }
    let mut partners: Vec<&Partner> = known.partners.iter().collect();
    partners.retain(|partner| !book.partners.iter().any(|new| new.name == partner.name));
    partners.extend(&book.partners);
    for (file, text, raw) in files {
        for (name, account) in &raw.account {
            match resolve_account(name, account, (&names, &partners)) {
                Ok(account) => book.accounts.push(account),
                Err(Mistake { amiss: Amiss::Name { of, written, .. }, .. })
                    if wrong.iter().any(|(kind, name)| kind.as_str() == of && *name == written) => {}
                Err(mistake) => {
                    wrong.push((SectionKind::Account, name.clone()));
                    note(file, text, format!("account.{name}"), mistake);
                }
            }
        }
    }
    for (file, text, raw) in files {
        for (name, calendar) in &raw.calendar {
            match resolve_calendar(name, calendar) {
                Ok(calendar) => book.calendars.push(calendar),
                Err(mistake) => {
                    wrong.push((SectionKind::Calendar, name.clone()));
                    note(file, text, format!("calendar.{name}"), mistake);
                }
            }
        }
    }
    for (file, text, raw) in files {
        for (name, database) in &raw.database {
            match resolve_database(name, database.as_ref(), database.span()) {
                Ok(database) => book.databases.push(database),
                Err(mistake) => {
                    wrong.push((SectionKind::Database, name.clone()));
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
    let account_names: Vec<Name> = known.accounts.iter().cloned().chain(written(SectionKind::Account)).collect();
    let twin_names: Vec<Name> = known.twins.iter().cloned().chain(written(SectionKind::Twin)).collect();
    let rule_names: Vec<Name> = known.rules.iter().cloned().chain(written(SectionKind::Rule)).collect();
    let ends = Ends {
        places: &names,
        partners: &partners,
        accounts: &account_names,
        calendars: &calendars,
        databases: &databases,
        twins: &twin_names,
        rules: &rule_names,
    };
    let mut twins = Vec::new();
    for (number, (file, text, raw)) in files.iter().enumerate() {
        for (name, twin) in &raw.twin {
            match resolve_twin(name, twin, &ends) {
                Ok(resolved) => twins.push((number, twin.span().start, resolved)),
                Err(Mistake { amiss: Amiss::Name { of, written, .. }, .. })
                    if wrong.iter().any(|(kind, name)| kind.as_str() == of && *name == written) => {}
                Err(mistake) => {
                    wrong.push((SectionKind::Twin, name.clone()));
                    note(file, text, format!("twin.{name}"), mistake);
                }
            }
        }
    }
    twins.sort_by_key(|(number, start, _)| (*number, *start));
    book.twins = twins.into_iter().map(|(_, _, twin)| twin).collect();
    for (number, (file, text, raw)) in files.iter().enumerate() {
        for (name, rule) in &raw.rule {
            let key = format!("rule.{name}");
            match resolve_rule(name, rule, &ends) {
                Ok(rule_) => rules.push((number, rule.span().start, rule_)),
                Err(Mistake { amiss: Amiss::Name { of, written, .. }, .. })
                    if wrong.iter().any(|(kind, name)| kind.as_str() == of && *name == written) => {}
                Err(mistake) => note(file, text, key, mistake),
            }
        }
    }
    rules.sort_by_key(|(number, start, _)| (*number, *start));
    book.rules = rules.into_iter().map(|(_, _, rule)| rule).collect();
    book
}
