//! What a plan comes to, and when it is too much to be done without asking.

use std::fmt;

use serde::{Deserialize, Serialize};

use super::{Action, Line, Pair, Side, Why};

/// So many files are deleted or replaced without asking, however few there are.
const FLOOR: u64 = 10;

/// What the lines of a plan come to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Counts {
    /// Files that each side gets.
    pub made: Pair<u64>,
    /// Files of each side that are replaced.
    pub replaced: Pair<u64>,
    /// Files that each side loses.
    pub deleted: Pair<u64>,
    /// Files that get another path on each side.
    pub renamed: Pair<u64>,
    /// Folders that are made or removed on each side.
    pub folders: Pair<u64>,
    /// Bytes that each side gets.
    pub bytes: Pair<u64>,
    /// Files of which both stay.
    pub kept_both: u64,
    /// What a person is asked.
    pub asked: u64,
    /// What may still be written, and waits for a further pass.
    pub busy: u64,
    /// What differs and stays so.
    pub left: u64,
    /// What is only noted.
    pub noted: u64,
}

impl Counts {
    /// Adds a line.
    pub fn add(&mut self, line: &Line) {
        let size = |of: Side| line.had.of(of).as_ref().map_or(0, |state| state.print.size);
        match &line.action {
            Action::Make { on } | Action::Restore { on, .. } => {
                *self.made.of_mut(*on) += 1;
                *self.bytes.of_mut(*on) += size(on.other());
            }
            Action::Replace { on } => {
                *self.replaced.of_mut(*on) += 1;
                *self.bytes.of_mut(*on) += size(on.other());
            }
            Action::Delete { on } => *self.deleted.of_mut(*on) += 1,
            Action::Rename { on, .. } => *self.renamed.of_mut(*on) += 1,
            Action::MakeFolder { on } | Action::RemoveFolder { on } => *self.folders.of_mut(*on) += 1,
            Action::KeepBoth { .. } => self.kept_both += 1,
            Action::Ask { .. } => self.asked += 1,
            Action::Leave if matches!(line.why, Why::Busy(_)) => self.busy += 1,
            Action::Leave => self.left += 1,
            Action::Join | Action::Forget => self.noted += 1,
        }
    }

    /// Whether anything is done to a file or folder.
    pub fn acts(&self) -> bool {
        let of = [&self.made, &self.replaced, &self.deleted, &self.renamed, &self.folders];
        of.iter().any(|pair| pair.near > 0 || pair.far > 0) || self.kept_both > 0
    }

    /// Whether nothing is to be done, nothing waits and nobody is asked.
    pub fn is_alike(&self) -> bool {
        !self.acts() && self.asked + self.busy == 0
    }
}

/// How much is deleted or replaced without asking: a share or a number, whichever is less.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct Brake {
    /// Of a hundred files of that side.
    pub share: u8,
    /// Files.
    pub number: u64,
}

impl Default for Brake {
    fn default() -> Self {
        Self { share: 20, number: 200 }
    }
}

/// Why a plan is not begun.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "stop")]
pub enum Stop {
    /// It would delete or replace too much.
    TooMuch {
        /// On which side.
        on: Side,
        /// Files that would be deleted.
        deleted: u64,
        /// Files that would be replaced.
        replaced: u64,
        /// Files there are.
        of: u64,
        /// So many are done without asking.
        most: u64,
    },
    /// It is another folder than last time.
    Other {
        /// Which side.
        side: Side,
    },
    /// No file is there any more, where some were.
    Empty {
        /// On which side.
        side: Side,
        /// Files that both sides had after the last pass.
        were: u64,
    },
}

impl Brake {
    /// Files that are deleted or replaced without asking, where so many are.
    pub fn most(&self, of: u64) -> u64 {
        (of.saturating_mul(self.share.into()) / 100).min(self.number).max(FLOOR)
    }

    /// Why a plan with these counts is not begun: over so many `files` of each side, of which both had `were` after the
    /// last pass.
    pub fn stops(&self, counts: &Counts, files: Pair<u64>, were: u64) -> Option<Stop> {
        let empty = Side::BOTH.into_iter().find(|side| were > 0 && *files.of(*side) == 0);
        if let Some(side) = empty {
            return Some(Stop::Empty { side, were });
        }
        Side::BOTH.into_iter().find_map(|on| {
            let (deleted, replaced, of) = (*counts.deleted.of(on), *counts.replaced.of(on), *files.of(on));
            let most = self.most(of);
            (deleted + replaced > most).then_some(Stop::TooMuch { on, deleted, replaced, of, most })
        })
    }
}

impl fmt::Display for Stop {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::TooMuch { on, deleted, replaced, of, most } => {
                let would = match (deleted, replaced) {
                    (deleted, 0) => format!("delete {deleted}"),
                    (0, replaced) => format!("replace {replaced}"),
                    (deleted, replaced) => format!("delete {deleted} and replace {replaced}"),
                };
                write!(f, "it would {would} of {of} files on the {on} side; up to {most} are done without asking")
            }
            Self::Other { side } => write!(
                f,
                "the {side} side is another folder than last time: is its disk there, and is it the right folder?"
            ),
            Self::Empty { side, were } => write!(
                f,
                "no file is on the {side} side any more, and {were} were there after the last pass: is its disk there, and is it the right folder?"
            ),
        }
    }
}
