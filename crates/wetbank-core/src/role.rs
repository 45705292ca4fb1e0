//! What somebody may do.

use std::{collections::BTreeMap, fmt, str::FromStr};

use serde::{Deserialize, Serialize};

use crate::{InvalidName, Name};

/// What somebody may do; each role may do what those before it may.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Role {
    /// Looks.
    Viewer,
    /// Also releases, retries, runs, settles.
    Operator,
    /// Also arranges.
    Manager,
    /// Also people and settings.
    Owner,
}

impl Role {
    /// Every role, from the one that may do least.
    pub const ALL: [Self; 4] = [Self::Viewer, Self::Operator, Self::Manager, Self::Owner];

    /// Its word.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Viewer => "viewer",
            Self::Operator => "operator",
            Self::Manager => "manager",
            Self::Owner => "owner",
        }
    }

    /// The role of a word.
    pub fn parse(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|role| role.as_str() == word)
    }
}

impl fmt::Display for Role {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.as_str())
    }
}

/// What somebody may do: a role everywhere, and perhaps more within groups of rules, places and twins.
///
/// Its text has the role, then a word for each group: `viewer harbour=manager`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Rights {
    /// Everywhere.
    pub role: Role,
    /// Within a group; never less than everywhere, and never an owner: people and settings are of no group.
    groups: BTreeMap<Name, Role>,
}

/// Why a text tells no rights.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum InvalidRights {
    /// No role of this name.
    #[error("there is no role \"{0}\"; say viewer, operator, manager or owner")]
    Role(String),
    /// Nobody owns a group.
    #[error("nobody is owner of a group; say operator or manager for \"{0}\"")]
    Owner(Name),
    /// No name of a group.
    #[error(transparent)]
    Group(#[from] InvalidName),
}

impl Rights {
    /// The same everywhere.
    pub fn everywhere(role: Role) -> Self {
        Self { role, groups: BTreeMap::new() }
    }

    /// More within groups. What is not more is left out.
    pub fn new(role: Role, groups: impl IntoIterator<Item = (Name, Role)>) -> Result<Self, InvalidRights> {
        let mut more = BTreeMap::new();
        for (group, within) in groups {
            if within == Role::Owner {
                return Err(InvalidRights::Owner(group));
            }
            if within > role {
                more.insert(group, within);
            }
        }
        Ok(Self { role, groups: more })
    }

    /// The groups in which one may do more than everywhere.
    pub fn groups(&self) -> impl Iterator<Item = (&Name, Role)> {
        self.groups.iter().map(|(group, role)| (group, *role))
    }

    /// What one may do with what belongs to this group, or to none.
    pub fn within(&self, group: Option<&str>) -> Role {
        group.and_then(|group| self.groups.get(group)).copied().unwrap_or(self.role)
    }

    /// The most that one may do anywhere.
    pub fn most(&self) -> Role {
        self.groups.values().copied().max().unwrap_or(self.role)
    }

    /// The same, but nothing more than a role anywhere.
    pub fn at_most(&self, role: Role) -> Self {
        let groups = self.groups.iter().map(|(group, within)| (group.clone(), (*within).min(role)));
        let role = self.role.min(role);
        Self { role, groups: groups.filter(|(_, within)| *within > role).collect() }
    }
}

impl fmt::Display for Rights {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.role)?;
        self.groups.iter().try_for_each(|(group, role)| write!(f, " {group}={role}"))
    }
}

impl FromStr for Rights {
    type Err = InvalidRights;

    fn from_str(text: &str) -> Result<Self, InvalidRights> {
        let role = |word: &str| Role::parse(word).ok_or_else(|| InvalidRights::Role(word.to_owned()));
        let mut words = text.split_whitespace();
        let everywhere = role(words.next().unwrap_or_default())?;
        let group = |word: &str| {
            let (group, within) = word.split_once('=').unwrap_or((word, ""));
            Ok((Name::new(group)?, role(within)?))
        };
        Self::new(everywhere, words.map(group).collect::<Result<Vec<_>, InvalidRights>>()?)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_role_has_its_word_and_may_do_more_than_the_one_before() {
        for pair in Role::ALL.windows(2) {
            assert!(pair[0] < pair[1]);
        }
        for role in Role::ALL {
            assert_eq!(Role::parse(role.as_str()), Some(role));
        }
        assert_eq!(Role::parse("Owner"), None);
    }

    #[test]
    fn rights_are_more_within_groups_and_their_text_says_the_same() {
        let rights: Rights = "viewer harbour=manager archive=operator notices=viewer".parse().unwrap();
        assert_eq!(rights.to_string(), "viewer archive=operator harbour=manager", "what is not more is left out");
        assert_eq!(rights.to_string().parse(), Ok(rights.clone()));
        assert_eq!((rights.within(Some("harbour")), rights.within(None)), (Role::Manager, Role::Viewer));
        assert_eq!((rights.within(Some("notices")), rights.most()), (Role::Viewer, Role::Manager));
        assert_eq!(rights.at_most(Role::Operator).to_string(), "viewer archive=operator harbour=operator");
        assert_eq!(rights.at_most(Role::Viewer).to_string(), "viewer");
        for wrong in ["", "boss", "viewer harbour", "viewer harbour=", "viewer Har=operator", "viewer harbour=owner"] {
            assert!(wrong.parse::<Rights>().is_err(), "{wrong}");
        }
    }
}
