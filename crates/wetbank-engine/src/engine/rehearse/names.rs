//! Files of one rehearsal that would get one name.

use std::collections::{HashMap, hash_map::Entry};

use wetbank_core::{FileFacts, FilePath, IfExists, Rehearsal, RelPath};

/// Names that are remembered: a million of them would take more memory than they are worth.
const MOST: usize = 100_000;

/// Every name that a file of the rehearsal gets, with the first that gets it.
#[derive(Debug, Default)]
pub(super) struct Names {
    first: HashMap<FilePath, RelPath>,
    /// Files that would wait for a person, because a file before them has their name.
    pub waiting: usize,
    forgotten: usize,
}

impl Names {
    /// Gives a file its names. For each step, what is to be told of a name that a file before it got.
    pub fn give(&mut self, file: &FileFacts, rehearsal: &Rehearsal) -> Vec<Option<String>> {
        let mut must_wait = false;
        let mut told = Vec::with_capacity(rehearsal.steps.len());
        for step in &rehearsal.steps {
            let coming = step.comes.as_ref().filter(|coming| !coming.is_folder && step.left_out.is_none());
            let is_full = self.first.len() == MOST;
            told.push(coming.and_then(|coming| match self.first.entry(coming.at.clone()) {
                Entry::Vacant(free) => {
                    if is_full {
                        self.forgotten += 1;
                    } else {
                        free.insert(file.path.clone());
                    }
                    None
                }
                Entry::Occupied(taken) => {
                    must_wait |= coming.exists == IfExists::Refuse;
                    let (first, then) = (taken.get(), then(coming.exists));
                    let by = if *first == file.path {
                        "it had when it came before".to_owned()
                    } else {
                        format!("{first} gets, too")
                    };
                    Some(format!("the name that {by}: {then}"))
                }
            }));
        }
        self.waiting += usize::from(must_wait);
        told
    }

    /// What was not looked at.
    pub fn left(&self) -> Option<String> {
        (self.forgotten > 0).then(|| format!("files of one name were told apart among the first {MOST} names only"))
    }
}

/// What is done where a name is taken, in words.
pub(super) fn then(exists: IfExists) -> &'static str {
    match exists {
        IfExists::Refuse => "it would wait for a person",
        IfExists::Replace => "that file would be replaced",
        IfExists::SkipSame => "left out if the content is the same, else it would wait for a person",
        IfExists::KeepBoth => "it would get a numbered name",
    }
}
