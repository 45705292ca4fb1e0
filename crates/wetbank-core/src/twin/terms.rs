//! What is agreed for a twin, and what its places make of names and times.

use globset::GlobMatcher;
use jiff::tz::TimeZone;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Pair, Side};
use crate::{Names, RelPath};

/// Which changes follow to the other side.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Way {
    /// What is missing over there is added; nothing else is touched.
    Add,
    /// What is missing over there is added, and what changed here replaces what is there; nothing is deleted.
    Update,
    /// There as here: what changed is replaced and what is not here is deleted there.
    Exact,
    /// Each change follows to the other side.
    Both,
}

impl Way {
    /// Whether a side is changed at all.
    pub fn changes(self, side: Side) -> bool {
        side == Side::Far || self == Self::Both
    }

    /// Whether files are deleted on a side.
    pub fn deletes(self, side: Side) -> bool {
        match self {
            Self::Add | Self::Update => false,
            Self::Exact => side == Side::Far,
            Self::Both => true,
        }
    }
}

/// What is done about a file that is another one on each side.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Settling {
    /// Both stay; that of the far side gets a name with its side and time.
    KeepBoth,
    /// The one that was changed later stays, where the times of both sides can be compared; else both stay.
    Newer,
    /// That of the near side stays.
    Near,
    /// That of the far side stays.
    Far,
    /// A person decides.
    Ask,
}

/// What counts as the same.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum Sameness {
    /// The same size and time.
    SizeAndTime,
    /// The same content: every file is read on both sides.
    Content,
}

/// What a place makes of names and times.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Customs {
    /// Times that are less than this apart are one time, in nanoseconds; at least 1.
    pub grain: i64,
    /// A file that is put there can have the time of its original. Else its time is that of the putting.
    pub keeps_times: bool,
    /// `A` and `a` are two names.
    pub tells_case: bool,
    /// Which names are possible.
    pub names: Names,
    /// A folder is there because it was made; else because something lies below it.
    pub folders_are_made: bool,
}

/// Which files a twin is about. What lies outside is as if it were not there, on either side.
#[derive(Debug, Clone)]
pub struct Scope {
    /// Patterns of names; empty means every name.
    pub names: Vec<GlobMatcher>,
    /// Patterns of what is left alone: of a name, or with a slash of a path below the twin's folder.
    pub except: Vec<(GlobMatcher, bool)>,
    /// Whether names that begin with a dot count.
    pub hidden: bool,
    /// Whether folders below count.
    pub deep: bool,
    /// Whether folders in which nothing lies are made on the other side, too.
    pub empty_folders: bool,
    /// What was last changed before is not taken up, in nanoseconds since 1970; what both sides have goes on being kept alike.
    pub since: Option<i64>,
}

impl Scope {
    /// Everything.
    pub fn all() -> Self {
        Self { names: Vec::new(), except: Vec::new(), hidden: true, deep: true, empty_folders: true, since: None }
    }

    /// Whether a file or folder at this path of the near side counts.
    pub(super) fn counts(&self, near: &RelPath, is_folder: bool) -> bool {
        let name = near.name_text();
        let mut path = None;
        let is_excepted = self.except.iter().any(|(pattern, is_path)| match is_path {
            true => pattern.is_match(path.get_or_insert_with(|| near.to_string())),
            false => pattern.is_match(&name),
        });
        (self.hidden || !name.starts_with('.'))
            && !is_excepted
            && (is_folder || self.names.is_empty() || self.names.iter().any(|pattern| pattern.is_match(&name)))
    }
}

/// All that a plan goes by, besides what each side has.
#[derive(Debug, Clone)]
pub struct Terms {
    /// Which changes follow.
    pub way: Way,
    /// What is done about a file that is another one on each side.
    pub settling: Settling,
    /// What counts as the same.
    pub same: Sameness,
    /// Which files it is about.
    pub scope: Scope,
    /// Whether a name that is not possible over there is changed into one that is; else a person is asked.
    pub fits_names: bool,
    /// In whose time a name says when its file was changed.
    pub zone: TimeZone,
    /// What each place makes of names and times.
    pub customs: Pair<Customs>,
    /// Both sides meet for the first time, or what is known of the last pass cannot be relied on: then nothing is
    /// deleted and nothing replaced.
    pub is_first: bool,
    /// What was changed at this time or later, in nanoseconds since 1970, is told by more than its size and time: within
    /// one tick of a clock two files can have both in common.
    pub young: i64,
}

impl Terms {
    /// Whether the times of both sides can be compared: that of a file that was put there later says nothing of when
    /// it was changed.
    pub(super) fn times_compare(&self) -> bool {
        self.customs.near.keeps_times && self.customs.far.keeps_times
    }

    /// Times nearer to each other than this are one time on both sides.
    pub(super) fn grain(&self) -> i64 {
        self.customs.near.grain.max(self.customs.far.grain).max(1)
    }
}
