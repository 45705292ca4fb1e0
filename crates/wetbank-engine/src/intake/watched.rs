//! What is watched: the rules of a place, and the folders that they are about.

use std::sync::Arc;

use wetbank_core::{Arrival, RelPath, Rule};

use super::gather;

/// A rule that watches a place.
#[derive(Debug, Clone)]
pub(crate) struct Watching {
    pub rule: Arc<Rule>,
    pub version: i64,
    /// The rule's own trigger, at hand because it is asked of every file.
    pub arrival: Arrival,
}

/// The rules that watch one place.
#[derive(Debug, Clone)]
pub(crate) struct Watched {
    pub rules: Vec<Watching>,
}

impl Watched {
    /// Whether a rule's trigger is about this path.
    fn sees(live: &Watching, path: &RelPath) -> bool {
        let arrival = &live.arrival;
        let Some(below) = path.parent().below(&arrival.folder) else { return false };
        if path.is_temporary() || !(arrival.files.deep || below.is_root()) {
            return false;
        }
        if below.is_root() && gather::is_marker_of(arrival, path) {
            return true;
        }
        if !arrival.files.lets_through(&path.name_text()) {
            return false;
        }
        // A marker tells of another file and is none itself.
        let is_marker = arrival.marker.as_ref().is_some_and(|marker| marker.is_one(path.name()));
        !is_marker && !live.rule.sets_aside(&arrival.folder, path)
    }

    /// Whether a path lies where one of the rules looks, whatever the file is called.
    pub fn covers(&self, path: &RelPath) -> bool {
        let lies_there = |live: &Watching| {
            let arrival = &live.arrival;
            let below = path.parent().below(&arrival.folder);
            below.is_some_and(|below| arrival.files.deep || below.is_root())
                && !live.rule.sets_aside(&arrival.folder, path)
        };
        !path.is_temporary() && self.rules.iter().any(lies_there)
    }

    /// Whether a file is a marker for one of the rules.
    pub fn is_marker(&self, path: &RelPath) -> bool {
        self.rules.iter().any(|live| {
            let arrival = &live.arrival;
            arrival.marker.as_ref().is_some_and(|marker| marker.is_one(path.name()))
                && path.parent().below(&arrival.folder).is_some_and(|below| arrival.files.deep || below.is_root())
        })
    }

    /// Indexes of the rules that are about this path, in their order.
    pub fn about(&self, path: &RelPath) -> impl Iterator<Item = (usize, &Watching)> {
        self.rules.iter().enumerate().filter(move |(_, live)| Self::sees(live, path))
    }

    /// The folders to watch, each with whether those below it count, none twice.
    pub fn folders(&self) -> Vec<(RelPath, bool)> {
        let mut folders: Vec<(RelPath, bool)> = Vec::new();
        for live in &self.rules {
            let arrival = &live.arrival;
            match folders.iter_mut().find(|(folder, _)| *folder == arrival.folder) {
                Some((_, deep)) => *deep |= arrival.files.deep,
                None => folders.push((arrival.folder.clone(), arrival.files.deep)),
            }
        }
        folders
    }

    /// Whether folders below this one are watched too.
    pub fn is_deep(&self, folder: &RelPath) -> bool {
        self.rules.iter().any(|live| live.arrival.files.deep && folder.below(&live.arrival.folder).is_some())
    }

    /// Whether this very folder is one that is watched, or lies below a deep one.
    pub fn wants(&self, folder: &RelPath) -> bool {
        self.is_deep(folder) || self.rules.iter().any(|live| live.arrival.folder == *folder)
    }

    /// Whether nothing changed in what is watched.
    pub fn same(&self, other: &Self) -> bool {
        self.rules.len() == other.rules.len()
            && self.rules.iter().zip(&other.rules).all(|(a, b)| a.rule.name == b.rule.name && a.version == b.version)
    }
}
