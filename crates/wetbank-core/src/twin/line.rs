//! A plan's lines: what is to be done about one path, and why.

use std::fmt;

use serde::{Deserialize, Serialize};

use super::{Pair, Side};
use crate::{Fingerprint, RelPath};

/// A checksum of a content (BLAKE3).
pub type Sum = [u8; 32];

/// A file as a side has it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct State {
    /// What the place tells of it.
    pub print: Fingerprint,
    /// The checksum of its content, if it is known.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sum: Option<Sum>,
}

impl State {
    /// A file of which the place tells this, and whose content is not known.
    pub fn of(print: &Fingerprint) -> Self {
        Self { print: print.clone(), sum: None }
    }
}

/// What lies at a name.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Lies {
    /// A file.
    File(State),
    /// A folder.
    Folder,
    /// A link, a pipe, or something whose name nobody can use: it is never followed and never touched.
    Neither,
}

/// What a listing of a folder told.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Seen {
    /// Its name there.
    pub name: Vec<u8>,
    /// What it is.
    pub lies: Lies,
}

/// What is known of a name from earlier passes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Known {
    /// The name on each side: they can differ where one cannot have the other's.
    pub name: Pair<Vec<u8>>,
    /// What it was.
    pub was: Was,
}

/// What a name was after the last pass.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Was {
    /// A folder on both sides.
    Folder,
    /// The same file on both sides, in these states.
    File(Pair<State>),
    /// Never alike: a person was asked, and has not answered. It is met for the first time until then.
    Asked,
}

impl Was {
    /// Both states of a file that was the same.
    pub fn file(&self) -> Option<&Pair<State>> {
        match self {
            Self::File(states) => Some(states),
            Self::Folder | Self::Asked => None,
        }
    }
}

/// What is done about a path.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "do")]
pub enum Action {
    /// The other side's file is put on this one. Its name must be free.
    Make {
        /// The side that gets it.
        on: Side,
    },
    /// The other side's file takes the place of that on this side.
    Replace {
        /// The side whose file is replaced.
        on: Side,
    },
    /// The file is deleted.
    Delete {
        /// The side that loses it.
        on: Side,
    },
    /// The file is given another path, as it was on the other side.
    Rename {
        /// The side on which that is done.
        on: Side,
        /// Its path on each side until then.
        from: Pair<RelPath>,
    },
    /// What a side kept is back at its path there, and goes to the other side, too.
    Restore {
        /// The side that kept it.
        on: Side,
        /// Where it is kept, below the twin's folder there.
        from: RelPath,
    },
    /// The folder is made.
    MakeFolder {
        /// Where.
        on: Side,
    },
    /// The folder is removed, if nothing lies in it.
    RemoveFolder {
        /// Where.
        on: Side,
    },
    /// Both files stay: that of one side is renamed there, and then each side gets what it lacks, as far as the way
    /// goes.
    KeepBoth {
        /// The side whose file is renamed.
        renamed: Side,
        /// Its new name on that side.
        to: Vec<u8>,
    },
    /// A person decides.
    Ask {
        /// What.
        question: Question,
    },
    /// Both are alike: that is noted, and nothing else.
    Join,
    /// It is on neither side any more: that is noted, with all that was below it.
    Forget,
    /// The sides differ, and it stays so.
    Leave,
}

impl Action {
    /// Whether something is done to a file or folder.
    pub fn touches(&self) -> bool {
        !matches!(self, Self::Ask { .. } | Self::Join | Self::Forget | Self::Leave)
    }
}

/// What a person is asked.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Question {
    /// Another file lies on each side: which one stays?
    Differ,
    /// It is over there only, and the sides have never met: is it deleted, or left?
    OnlyThere,
    /// One side has a file and the other a folder of this name.
    Kinds,
    /// The other side has another file whose name it cannot tell from this one.
    SameName,
    /// The other side cannot have this name.
    BadName,
}

/// Why a line is as it is. The near side is *here*, the far side *there*.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "why", content = "side")]
pub enum Why {
    /// It is new on this side.
    New(Side),
    /// It was changed on this side since the last pass.
    Changed(Side),
    /// It was deleted on this side since the last pass.
    Deleted(Side),
    /// It is missing on this side, though both had it.
    Missing(Side),
    /// It was changed on this side and deleted on the other: what was changed stays.
    ChangedAndDeleted(Side),
    /// It is not on this side.
    NotOn(Side),
    /// It was given another path on this side.
    Renamed(Side),
    /// Somebody wants back what this side kept.
    WantedBack(Side),
    /// It was changed on both sides.
    BothChanged,
    /// Both sides have a file of this name, and it is not the same.
    BothHave,
    /// The same lies on both sides.
    Alike,
    /// It is on neither side any more.
    Gone,
    /// It was changed later on this side.
    NewerOn(Side),
    /// It was last changed before the time that is looked back.
    Old,
    /// It was changed on this side a moment ago, and may still be written.
    Busy(Side),
    /// A link or something else that is neither file nor folder lies on this side.
    NoFile(Side),
    /// A file lies on this side, and a folder on the other.
    FileOn(Side),
    /// This side cannot tell the name from another one.
    NameTaken(Side),
    /// This side cannot have the name.
    NameImpossible(Side),
}

impl fmt::Display for Why {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::New(side) => write!(f, "new {}", side.here()),
            Self::Changed(side) => write!(f, "changed {}", side.here()),
            Self::Deleted(side) => write!(f, "deleted {}", side.here()),
            Self::Missing(side) => write!(f, "missing {}", side.here()),
            Self::ChangedAndDeleted(side) => {
                write!(f, "changed {} and deleted {}: what was changed stays", side.here(), side.other().here())
            }
            Self::NotOn(side) => write!(f, "not {}", side.here()),
            Self::Renamed(side) => write!(f, "renamed {}", side.here()),
            Self::WantedBack(side) => write!(f, "kept {} and wanted back", side.here()),
            Self::BothChanged => f.write_str("changed on both sides"),
            Self::BothHave => f.write_str("another file on each side"),
            Self::Alike => f.write_str("the same on both sides"),
            Self::Gone => f.write_str("on neither side any more"),
            Self::NewerOn(side) => write!(f, "changed later {}", side.here()),
            Self::Old => f.write_str("last changed before the days that are looked back"),
            Self::Busy(side) => write!(f, "changed {} a moment ago: it may still be written", side.here()),
            Self::NoFile(side) => write!(f, "neither file nor folder {}", side.here()),
            Self::FileOn(side) => write!(f, "a file {} and a folder {}", side.here(), side.other().here()),
            Self::NameTaken(side) => write!(f, "another file has this name {}, where A and a are one", side.here()),
            Self::NameImpossible(side) => write!(f, "the name is not possible {}", side.here()),
        }
    }
}

/// What is planned for one path.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Line {
    /// Its path on each side, below the twin's folder there; of a side that does not have it, the path that it gets.
    pub at: Pair<RelPath>,
    /// Whether it is a folder.
    pub is_folder: bool,
    /// What is done.
    pub action: Action,
    /// Why.
    pub why: Why,
    /// The content of both sides is compared first. If it is the same both are noted as alike, and nothing else is done.
    pub if_differs: bool,
    /// The file as each side had it when this was planned. Nothing is done to another one.
    pub had: Pair<Option<State>>,
    /// The file as both had it after the last pass.
    pub was: Option<Pair<State>>,
}

impl Line {
    /// The sides whose file travels.
    pub fn sources(&self) -> impl Iterator<Item = Side> + use<> {
        let from = match &self.action {
            Action::Make { on } | Action::Replace { on } => [Some(on.other()), None],
            Action::KeepBoth { .. } => Side::BOTH.map(Some),
            _ => [None; 2],
        };
        from.into_iter().flatten()
    }

    /// The same, but nothing is done for now: the file of this side may still be written.
    #[must_use]
    pub fn waits_for(self, side: Side) -> Self {
        Self { action: Action::Leave, why: Why::Busy(side), if_differs: false, ..self }
    }
}
