//! The names of one folder: which of them are one file on both sides.

use std::collections::{BTreeMap, HashMap, HashSet};

use unicode_normalization::UnicodeNormalization;

use super::{Known, Lies, Pair, Question, Seen, Side, Terms, Was, Way, Why};

/// One name, with what lies there on each side and what was known of it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Met {
    /// Its name on each side; of a side that does not have it, the one that it would get.
    pub name: Pair<Vec<u8>>,
    pub lies: Pair<Option<Lies>>,
    pub known: Option<Known>,
    /// The side that cannot have this name.
    pub hindered: Option<Hindered>,
}

/// Why a name cannot be put on a side.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Hindered {
    /// It has another file whose name it cannot tell from this one.
    Taken(Side),
    /// The name is not possible there.
    Impossible(Side),
}

impl Hindered {
    /// Whether anything would be done about a name that is hindered so.
    pub fn matters(self, way: Way) -> bool {
        match self {
            // Nobody knows whether the other one's name is this one's.
            Self::Taken(side) => way.changes(side) || way == Way::Exact,
            Self::Impossible(side) => way.changes(side),
        }
    }

    /// What a person is asked, and why.
    pub fn asked(self) -> (Question, Why) {
        match self {
            Self::Taken(side) => (Question::SameName, Why::NameTaken(side)),
            Self::Impossible(side) => (Question::BadName, Why::NameImpossible(side)),
        }
    }
}

/// How a side remembers a name: two names of one key are one file there.
fn key(terms: &Terms, side: Side, name: &[u8]) -> Vec<u8> {
    if terms.customs.of(side).tells_case { name.to_vec() } else { folded(name) }
}

/// A name without what a place may not tell apart: capitals, and ways to write one character.
fn folded(name: &[u8]) -> Vec<u8> {
    match std::str::from_utf8(name) {
        Ok(text) => text.nfc().flat_map(char::to_lowercase).collect::<String>().into_bytes(),
        Err(_) => name.to_ascii_lowercase(),
    }
}

/// A name as both sides could write it: what has one of these is one file, if nothing else on either side has it.
fn common(terms: &Terms, name: &[u8]) -> Vec<u8> {
    let fitted = terms.customs.far.names.fit(&terms.customs.near.names.fit(name));
    if terms.customs.near.tells_case && terms.customs.far.tells_case {
        return match std::str::from_utf8(&fitted) {
            Ok(text) => text.nfc().collect::<String>().into_bytes(),
            Err(_) => fitted,
        };
    }
    folded(&fitted)
}

/// Brings together what lies in a folder on each side. In the order of the near side's names.
pub(super) fn met(terms: &Terms, seen: Pair<Vec<Seen>>, known: Vec<Known>) -> Vec<Met> {
    let present: Pair<HashSet<Vec<u8>>> = Pair {
        near: seen.near.iter().map(|one| key(terms, Side::Near, &one.name)).collect(),
        far: seen.far.iter().map(|one| key(terms, Side::Far, &one.name)).collect(),
    };
    let mut left: Pair<BTreeMap<Vec<u8>, Lies>> =
        seen.map(|side| side.into_iter().map(|one| (one.name, one.lies)).collect());
    let mut found: Vec<Met> = Vec::new();
    // What was one file after the last pass is one, whatever its names.
    for known in known {
        let lies = Pair { near: left.near.remove(&known.name.near), far: left.far.remove(&known.name.far) };
        found.push(Met { name: known.name.clone(), lies, known: Some(known), hindered: None });
    }
    // The very same name is one file.
    let same: Vec<Vec<u8>> = left.near.keys().filter(|name| left.far.contains_key(*name)).cloned().collect();
    for name in same {
        let lies = Pair { near: left.near.remove(&name), far: left.far.remove(&name) };
        found.push(Met { name: Pair::same(name), lies, known: None, hindered: None });
    }
    // So is a name that each side writes in its own way, if no other name is written so.
    let mut alike: HashMap<Vec<u8>, Pair<Vec<Vec<u8>>>> = HashMap::new();
    for side in Side::BOTH {
        for name in left.of(side).keys() {
            alike.entry(common(terms, name)).or_default().of_mut(side).push(name.clone());
        }
    }
    for names in alike.into_values() {
        if let ([near], [far]) = (names.near.as_slice(), names.far.as_slice()) {
            let lies = Pair { near: left.near.remove(near), far: left.far.remove(far) };
            let name = Pair { near: near.clone(), far: far.clone() };
            found.push(Met { name, lies, known: None, hindered: None });
        }
    }
    for side in Side::BOTH {
        let names = terms.customs.of(side.other()).names;
        for (name, lies) in std::mem::take(left.of_mut(side)) {
            let fitted = if terms.fits_names { names.fit(&name) } else { name.clone() };
            let (mut name_of, mut lies_of) = (Pair::same(fitted), Pair { near: None, far: None });
            *name_of.of_mut(side) = name;
            *lies_of.of_mut(side) = Some(lies);
            found.push(Met { name: name_of, lies: lies_of, known: None, hindered: None });
        }
    }
    // What is on one side only would get its name on the other, where that is possible and free.
    let mut given = present;
    for one in &mut found {
        let Some(side) = one.lies.only() else { continue };
        let other = side.other();
        // What was asked about may be called otherwise by now.
        if terms.fits_names && one.known.as_ref().is_some_and(|known| known.was == Was::Asked) {
            *one.name.of_mut(other) = terms.customs.of(other).names.fit(one.name.of(side));
        }
        let name = one.name.of(other);
        if terms.customs.of(other).names.refuse(name).is_some() {
            one.hindered = Some(Hindered::Impossible(other));
        } else if !given.of_mut(other).insert(key(terms, other, name)) {
            one.hindered = Some(Hindered::Taken(other));
        }
    }
    found.sort_by(|a, b| a.name.near.cmp(&b.name.near));
    found
}
