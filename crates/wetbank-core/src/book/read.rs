//! From a text to its sections, each read on its own, so that a mistake in one hides none in another.

use std::ops::Range;

use serde::Deserialize;
use toml::{
    Spanned,
    de::{DeTable, DeValue, Error, ValueDeserializer},
};

use super::{
    Amiss, Problem, SectionKind,
    databases::{DatabaseShape, KINDS},
    line_of, nearest,
    raw::{self, Limits},
    section_at,
};
use crate::{
    PlaceKind,
    place::place_keys_of,
    shape::{Checked, Mistake},
};

/// Reads a text; what cannot be read is told and left out.
pub(super) fn read(file: &str, text: &str, problems: &mut Vec<Problem>) -> raw::Book {
    let mut book = raw::Book::default();
    let table = match DeTable::parse(text) {
        Ok(table) => table.into_inner(),
        Err(error) => {
            problems.push(problem_of(file, text, mistake_of(&error)));
            return book;
        }
    };
    for (key, value) in table {
        let Some(kind) = SectionKind::ALL.into_iter().find(|kind| kind.as_str() == *key.as_ref()) else {
            let mistake = unknown_key(key.span(), key.as_ref(), SectionKind::ALL.into_iter().map(SectionKind::as_str));
            problems.push(problem_of(file, text, mistake));
            continue;
        };
        let span = value.span();
        let DeValue::Table(sections) = value.into_inner() else {
            let words = format!("\"{}\" has sections, as in [{0}.NAME]", kind.as_str());
            problems.push(problem_of(file, text, Mistake::new(span, words)));
            continue;
        };
        for (name, value) in sections {
            let name = name.into_inner().into_owned();
            book.written.push((kind, name.clone()));
            if let Err(mistake) = section(&mut book, kind, name, value) {
                problems.push(problem_of(file, text, mistake));
            }
        }
    }
    book
}

/// Reads one section into the book.
fn section(book: &mut raw::Book, kind: SectionKind, name: String, value: Spanned<DeValue<'_>>) -> Checked<()> {
    match kind {
        SectionKind::Place => _ = book.place.insert(name, place(value)?),
        SectionKind::Partner => _ = book.partner.insert(name, whole(value)?),
        SectionKind::Account => _ = book.account.insert(name, whole(value)?),
        SectionKind::Calendar => _ = book.calendar.insert(name, whole(value)?),
        SectionKind::Database => _ = book.database.insert(name, database(value)?),
        SectionKind::Twin => _ = book.twin.insert(name, whole(value)?),
        SectionKind::Rule => _ = book.rule.insert(name, whole(value)?),
    }
    Ok(())
}

fn whole<'de, T: Deserialize<'de>>(value: Spanned<DeValue<'de>>) -> Checked<Spanned<T>> {
    Spanned::deserialize(ValueDeserializer::from(value)).map_err(|error| mistake_of(&error))
}

/// A section whose key `kind` tells how the others are to be read.
struct OfKind<'a> {
    kind: Spanned<String>,
    keys: DeTable<'a>,
    at: Range<usize>,
}

impl<'a> OfKind<'a> {
    fn new(what: &str, value: Spanned<DeValue<'a>>, kinds: &[&str]) -> Checked<Self> {
        let at = value.span();
        let listed = || kinds.iter().map(|kind| format!("\"{kind}\"")).collect::<Vec<_>>().join(", ");
        let DeValue::Table(mut keys) = value.into_inner() else {
            return Err(Mistake::new(at, format!("a {what} is a section of its own, as in [{what}.NAME]")));
        };
        let Some(kind) = keys.remove("kind") else {
            return Err(Mistake::missing(at, format!("needs the key \"kind\"; there are {}", listed())));
        };
        match kind.as_ref().as_str() {
            Some(word) if kinds.contains(&word) => {
                let kind = Spanned::new(kind.span(), word.to_owned());
                Ok(Self { kind, keys, at })
            }
            Some(word) => Err(Mistake::new(kind.span(), format!("unknown kind \"{word}\"; there are {}", listed()))),
            None => Err(Mistake::new(kind.span(), format!("kind is a word; there are {}", listed()))),
        }
    }

    fn kind(&self) -> &str {
        self.kind.as_ref()
    }

    /// Takes some of the keys out.
    fn take(&mut self, keys: &[&str]) -> Spanned<DeValue<'a>> {
        let taken = keys.iter().filter_map(|key| self.keys.remove_entry(*key)).collect();
        Spanned::new(self.at.clone(), DeValue::Table(taken))
    }

    /// What is missing is missing of a kind.
    fn lacks(what: &str, kind: &str, mistake: Mistake) -> Mistake {
        match mistake.amiss {
            Amiss::Missing => Mistake { words: format!("a {what} of kind \"{kind}\" {}", mistake.words), ..mistake },
            _ => mistake,
        }
    }

    fn rest(self) -> Spanned<DeValue<'a>> {
        Spanned::new(self.at, DeValue::Table(self.keys))
    }
}

fn place(value: Spanned<DeValue<'_>>) -> Checked<Spanned<raw::Place>> {
    let kinds: Vec<&str> = PlaceKind::ALL.iter().map(|kind| kind.as_str()).collect();
    let mut section = OfKind::new("place", value, &kinds)?;
    let kind = PlaceKind::parse(section.kind()).expect("it is one of them");
    let limits = section.take(&Limits::KEYS);
    let known = place_keys_of(kind);
    for key in section.keys.keys() {
        let word: &str = key.as_ref();
        if known.iter().any(|known| known == word) {
            continue;
        }
        let others = PlaceKind::ALL.iter().flat_map(|kind| place_keys_of(*kind));
        if others.clone().any(|other| other == word) {
            let words =
                format!("a place of kind \"{}\" has no key \"{word}\"; it has {}", section.kind(), known.join(", "));
            return Err(Mistake::new(key.span(), words));
        }
        return Err(unknown_key(key.span(), word, known.iter().map(String::as_str).chain(Limits::KEYS)));
    }
    let at = section.at.clone();
    let limits = Limits::deserialize(ValueDeserializer::from(limits)).map_err(|error| mistake_of(&error))?;
    let shape = kind.read(section.rest());
    let shape = shape.map_err(|error| OfKind::lacks("place", kind.as_str(), mistake_of(&error)))?;
    Ok(Spanned::new(at, raw::Place { shape, limits }))
}

fn database(value: Spanned<DeValue<'_>>) -> Checked<Spanned<DatabaseShape>> {
    let section = OfKind::new("database", value, &KINDS)?;
    let (kind, at) = (section.kind().to_owned(), section.at.clone());
    let shape = DatabaseShape::read(&kind, section.rest());
    let shape = shape.map_err(|error| OfKind::lacks("database", &kind, mistake_of(&error)))?;
    Ok(Spanned::new(at, shape))
}

fn unknown_key<'a>(at: Range<usize>, written: &str, known: impl Iterator<Item = &'a str> + Clone) -> Mistake {
    let nearest = nearest(written, known.clone()).map(str::to_owned);
    let words = match &nearest {
        Some(right) => format!("unknown key \"{written}\"; did you mean \"{right}\"?"),
        None => {
            let known: Vec<String> = known.map(|key| format!("\"{key}\"")).collect();
            format!("unknown key \"{written}\"; expected one of {}", known.join(", "))
        }
    };
    Mistake { at, words, amiss: Amiss::Key { written: written.to_owned(), nearest } }
}

fn problem_of(file: &str, text: &str, Mistake { at, words, amiss }: Mistake) -> Problem {
    let (line, key) = (line_of(text, at.start), section_at(text, at.start));
    Problem { file: file.to_owned(), line, key, message: words, amiss }
}

/// A mistake of the shape, in the words of the book. The reader of the format tells it in words only, which are
/// understood here and nowhere else.
fn mistake_of(error: &Error) -> Mistake {
    let message = error.message().trim().replace('\n', "; ");
    let at = error.span().unwrap_or_default();
    let mut quoted = message.split('`').skip(1).step_by(2);
    let wrong = quoted.next().unwrap_or_default().to_owned();
    if message.starts_with("missing field") {
        return Mistake::missing(at, format!("needs the key \"{wrong}\""));
    }
    let is_key = message.starts_with("unknown field");
    if !is_key && !message.starts_with("unknown variant") {
        return Mistake::new(at, message);
    }
    // It lists every one that is possible; a person wants the nearest.
    let nearest = nearest(&wrong, quoted).map(str::to_owned);
    let what = if is_key { "key" } else { "word" };
    let words = match (&nearest, message.split_once(", ")) {
        (Some(right), _) => format!("unknown {what} \"{wrong}\"; did you mean \"{right}\"?"),
        (None, Some((_, rest))) => format!("unknown {what} \"{wrong}\"; {}", rest.replace('`', "\"")),
        (None, None) => format!("unknown {what} \"{wrong}\""),
    };
    let amiss = match is_key {
        true => Amiss::Key { written: wrong, nearest },
        false => Amiss::Name { of: String::new(), written: wrong, nearest },
    };
    Mistake { at, words, amiss }
}
