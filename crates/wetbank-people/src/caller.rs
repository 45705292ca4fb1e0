//! Who asks, as far as it was proved.

use std::sync::Arc;

use jiff::Timestamp;
use tokio_util::sync::CancellationToken;
use wetbank_core::{Rights, Role};

/// How somebody proved who he is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Means {
    /// He can read the data folder.
    Machine,
    /// By a session of a browser, with this number.
    Session(i64),
    /// By the token with this name.
    Token(String),
}

/// Who asks.
#[derive(Debug, Clone)]
pub struct Caller {
    /// Who is told in every record.
    pub who: Arc<str>,
    /// The user, if it is one.
    pub user: Option<String>,
    /// What he may do now.
    pub rights: Rights,
    /// How he proved it.
    pub means: Means,
    /// Until when that counts.
    pub ends: Option<Timestamp>,
    /// Cancelled when it counts no more.
    pub ended: CancellationToken,
}

/// Whoever may read the data folder, and is nobody by name.
pub(crate) const LOCAL: &str = "the local user";

impl Caller {
    /// Whoever may read the data folder: everything in it is his.
    pub fn machine() -> Self {
        Self {
            who: LOCAL.into(),
            user: None,
            rights: Rights::everywhere(Role::Owner),
            means: Means::Machine,
            ends: None,
            ended: CancellationToken::new(),
        }
    }

    /// The number of his session, if he has one.
    pub fn session(&self) -> Option<i64> {
        match self.means {
            Means::Session(id) => Some(id),
            Means::Machine | Means::Token(_) => None,
        }
    }
}
