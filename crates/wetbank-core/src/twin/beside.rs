//! The name that a file gets so that another one can have its own.

use std::collections::HashSet;

use jiff::Timestamp;

use super::{Line, Pair, Side, Terms};

/// Numbers that are tried where the name is taken.
const NUMBERS: u32 = 10_000;
/// Bytes of a name at most, where there is no telling how many are possible.
const LONGEST: usize = 240;

/// Names that are taken in a folder, on either side.
#[derive(Debug, Default)]
pub(super) struct Taken {
    names: Vec<Pair<Vec<u8>>>,
    /// The same without capitals, once somebody asked: a folder may have very many names, and seldom does anybody ask.
    folded: Option<HashSet<Vec<u8>>>,
}

impl Taken {
    pub fn by(names: Vec<Pair<Vec<u8>>>) -> Self {
        Self { names, folded: None }
    }

    fn folded(&mut self) -> &mut HashSet<Vec<u8>> {
        let names = &self.names;
        self.folded.get_or_insert_with(|| {
            names.iter().flat_map(|name| [&name.near, &name.far]).map(|name| name.to_ascii_lowercase()).collect()
        })
    }
}

/// A name for the file of one side, free among these, and taken from then on: `map (far 2026-03-16 0902).pdf`.
pub(super) fn beside(terms: &Terms, line: &Line, side: Side, taken: &mut Taken) -> Vec<u8> {
    let name = line.at.of(side).name();
    let modified = line.had.of(side).as_ref().map_or(0, |state| state.print.modified);
    let at = Timestamp::from_nanosecond(modified.into()).unwrap_or(Timestamp::UNIX_EPOCH);
    let at = at.to_zoned(terms.zone.clone()).strftime("%F %H%M").to_string();
    let dot = name.iter().rposition(|byte| *byte == b'.').filter(|dot| *dot > 0 && name.len() - dot <= 20);
    let (stem, ending) = name.split_at(dot.unwrap_or(name.len()));
    let named = |number: u32| {
        let number = if number == 1 { String::new() } else { format!(" {number}") };
        let mark = format!(" ({side} {at}{number})");
        let room = LONGEST.saturating_sub(mark.len() + ending.len()).min(stem.len());
        // A character is not cut in two.
        let cut =
            (0..=room).rev().find(|cut| stem.get(*cut).is_none_or(|byte| byte & 0xc0 != 0x80)).unwrap_or_default();
        let name = [&stem[..cut], mark.as_bytes(), ending].concat();
        terms.customs.far.names.fit(&terms.customs.near.names.fit(&name))
    };
    let taken = taken.folded();
    let free = (1..NUMBERS).map(named).find(|name| taken.insert(name.to_ascii_lowercase()));
    free.unwrap_or_else(|| named(NUMBERS))
}
