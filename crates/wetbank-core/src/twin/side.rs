//! Two sides, and something for each of them.

use std::fmt;

use serde::{Deserialize, Serialize};

/// One of the two folders of a twin.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Side {
    /// The one that is told first, and that a one-way twin goes by: here.
    Near,
    /// The other one: there.
    Far,
}

impl Side {
    /// Both of them.
    pub const BOTH: [Self; 2] = [Self::Near, Self::Far];

    /// The other one.
    #[must_use]
    pub fn other(self) -> Self {
        match self {
            Self::Near => Self::Far,
            Self::Far => Self::Near,
        }
    }

    /// Where that is, as reasons say it.
    pub fn here(self) -> &'static str {
        match self {
            Self::Near => "here",
            Self::Far => "there",
        }
    }
}

impl fmt::Display for Side {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Near => "near",
            Self::Far => "far",
        })
    }
}

/// Something for each side.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Hash, Serialize, Deserialize)]
pub struct Pair<T> {
    /// That of the near side.
    pub near: T,
    /// That of the far side.
    pub far: T,
}

impl<T> Pair<T> {
    /// The same for both.
    pub fn same(of: T) -> Self
    where
        T: Clone,
    {
        Self { near: of.clone(), far: of }
    }

    /// That of one side.
    pub fn of(&self, side: Side) -> &T {
        match side {
            Side::Near => &self.near,
            Side::Far => &self.far,
        }
    }

    /// That of one side, to be changed.
    pub fn of_mut(&mut self, side: Side) -> &mut T {
        match side {
            Side::Near => &mut self.near,
            Side::Far => &mut self.far,
        }
    }

    /// What becomes of each.
    pub fn map<U>(self, mut to: impl FnMut(T) -> U) -> Pair<U> {
        Pair { near: to(self.near), far: to(self.far) }
    }

    /// A look at each.
    pub fn as_ref(&self) -> Pair<&T> {
        Pair { near: &self.near, far: &self.far }
    }
}

impl<T> Pair<Option<T>> {
    /// The side that has something, if only one has.
    pub fn only(&self) -> Option<Side> {
        match (&self.near, &self.far) {
            (Some(_), None) => Some(Side::Near),
            (None, Some(_)) => Some(Side::Far),
            _ => None,
        }
    }
}
