//! What is on record, as every request asks for it.

use std::{
    collections::{BTreeMap, HashMap},
    sync::{
        Arc,
        atomic::{AtomicI64, Ordering::Relaxed},
    },
};

use jiff::Timestamp;
use tokio_util::sync::CancellationToken;
use wetbank_core::{Rights, Role};
use wetbank_journal::{Journal, JournalError, PasskeyRecord, SessionRecord, TokenRecord, UserRecord};

use crate::proof::Sum;

/// A time that requests move on, and the one that is on record.
#[derive(Debug)]
pub(crate) struct Seen {
    at: AtomicI64,
    noted: AtomicI64,
}

impl Seen {
    fn new(at: Option<Timestamp>) -> Self {
        let at = at.map_or(0, Timestamp::as_millisecond);
        Self { at: AtomicI64::new(at), noted: AtomicI64::new(at) }
    }

    pub fn now(&self, now: Timestamp) {
        self.at.fetch_max(now.as_millisecond(), Relaxed);
    }

    /// The latest time; nothing if there was none.
    pub fn at(&self) -> Option<Timestamp> {
        Some(self.at.load(Relaxed)).filter(|at| *at > 0).and_then(|at| Timestamp::from_millisecond(at).ok())
    }

    /// The time to put on record, if it is not there yet.
    pub fn to_note(&self) -> Option<Timestamp> {
        let at = self.at.load(Relaxed);
        (self.noted.swap(at, Relaxed) != at).then(|| self.at()).flatten()
    }
}

#[derive(Debug)]
pub(crate) struct LiveSession {
    pub record: SessionRecord,
    pub seen: Seen,
    pub ended: CancellationToken,
}

impl LiveSession {
    pub fn new(record: SessionRecord) -> Self {
        Self { seen: Seen::new(Some(record.seen)), record, ended: CancellationToken::new() }
    }
}

#[derive(Debug)]
pub(crate) struct LiveToken {
    pub record: TokenRecord,
    pub seen: Seen,
    pub ended: CancellationToken,
}

impl LiveToken {
    pub fn new(record: TokenRecord) -> Self {
        Self { seen: Seen::new(record.used), record, ended: CancellationToken::new() }
    }
}

/// The role of a word that the table's CHECK admits.
pub(crate) fn role(word: &str) -> Role {
    Role::parse(word).unwrap_or(Role::Viewer)
}

/// Rights as we wrote them. What cannot be read gives none but to look.
pub(crate) fn rights(text: &str) -> Rights {
    text.parse().unwrap_or_else(|error| {
        tracing::error!(text, %error, "rights on record cannot be read");
        Rights::everywhere(Role::Viewer)
    })
}

#[derive(Debug, Default)]
pub(crate) struct Standing {
    pub users: BTreeMap<String, UserRecord>,
    /// By the number of each.
    pub passkeys: BTreeMap<String, PasskeyRecord>,
    pub sessions: HashMap<Sum, Arc<LiveSession>>,
    pub tokens: HashMap<Sum, Arc<LiveToken>>,
}

impl Standing {
    pub async fn read(journal: &Journal) -> Result<Self, JournalError> {
        let users = journal.users().await?.into_iter().map(|user| (user.name.clone(), user)).collect();
        let passkeys = journal.passkeys().await?.into_iter().map(|one| (one.id.clone(), one)).collect();
        let sum = |proof: &[u8]| Sum::try_from(proof).ok();
        let sessions = journal.sessions().await?.into_iter();
        let tokens = journal.tokens().await?.into_iter();
        Ok(Self {
            users,
            passkeys,
            sessions: sessions
                .filter_map(|one| Some((sum(&one.new.proof)?, Arc::new(LiveSession::new(one)))))
                .collect(),
            tokens: tokens.filter_map(|one| Some((sum(&one.proof)?, Arc::new(LiveToken::new(one))))).collect(),
        })
    }

    /// The numbers of a user's sessions, the oldest first.
    pub fn sessions_of(&self, user: &str) -> Vec<i64> {
        let of_user = self.sessions.values().filter(|session| session.record.new.user.as_deref() == Some(user));
        let mut ids: Vec<i64> = of_user.map(|session| session.record.id).collect();
        ids.sort_unstable();
        ids
    }

    /// Ends sessions: who holds on to one is told so.
    pub fn end(&mut self, ids: &[i64]) {
        self.sessions.retain(|_, session| {
            let stays = !ids.contains(&session.record.id);
            if !stays {
                session.ended.cancel();
            }
            stays
        });
    }

    /// Ends tokens by their records.
    pub fn end_tokens(&mut self, ends: impl Fn(&TokenRecord) -> bool) {
        self.tokens.retain(|_, token| {
            let stays = !ends(&token.record);
            if !stays {
                token.ended.cancel();
            }
            stays
        });
    }

    /// Whether somebody besides this user is an owner.
    pub fn has_other_owner(&self, name: &str) -> bool {
        self.users.values().any(|user| user.name != name && rights(&user.rights).role == Role::Owner)
    }
}
