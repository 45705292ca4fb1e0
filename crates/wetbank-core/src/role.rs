//! What somebody may do.

use std::fmt;

use serde::{Deserialize, Serialize};

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
}
