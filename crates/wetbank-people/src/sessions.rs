//! Browsers that are signed in.

use std::{net::IpAddr, sync::Arc};

use jiff::{SignedDuration, Timestamp};
use wetbank_core::{Rights, Role};
use wetbank_journal::{NewSession, Replaced, SessionRecord};

use crate::{
    Asking, Caller, Means, Opened, People, PeopleError,
    caller::LOCAL,
    proof::{Secret, sum},
    standing::{LiveSession, Standing, rights},
};

/// A session ends so long after it began, and so long after it was seen last.
const LONGEST: SignedDuration = SignedDuration::from_hours(30 * 24);
const UNUSED: SignedDuration = SignedDuration::from_hours(12);
/// Sessions of one user; the oldest gives way.
const MOST: usize = 50;

/// Whose sessions.
#[derive(Debug, Clone, Copy)]
pub enum Whose<'a> {
    /// Everybody's.
    All,
    /// Those of a user, or of whoever may read the data folder.
    Own(Option<&'a str>),
}

/// A session, as people see it.
#[derive(Debug, Clone)]
pub struct Session {
    /// Its number.
    pub id: i64,
    /// The user; nothing for whoever may read the data folder.
    pub user: Option<String>,
    /// How it began.
    pub how: String,
    /// From where.
    pub address: String,
    /// What the browser says that it is.
    pub agent: String,
    /// When it began, was seen last, and ends at the latest.
    pub began: Timestamp,
    /// When it was seen last.
    pub seen: Timestamp,
    /// When it ends at the latest.
    pub ends: Timestamp,
}

impl LiveSession {
    fn last_seen(&self) -> Timestamp {
        self.seen.at().unwrap_or(self.record.seen)
    }

    fn is_over(&self, now: Timestamp) -> bool {
        now >= self.record.new.ends || now.duration_since(self.last_seen()) > UNUSED
    }
}

impl Standing {
    /// Whether a user has a session from this address: it is hers.
    pub(crate) fn knows(&self, user: &str, address: IpAddr) -> bool {
        let address = address.to_string();
        self.sessions
            .values()
            .map(|session| &session.record.new)
            .any(|session| session.user.as_deref() == Some(user) && session.address == address)
    }
}

impl People {
    /// Who shows this cookie.
    pub fn session(&self, cookie: &str, now: Timestamp) -> Option<Caller> {
        let standing = self.0.standing.read();
        let session = standing.sessions.get(&sum(cookie))?;
        if session.is_over(now) {
            session.ended.cancel();
            return None;
        }
        let new = &session.record.new;
        let may = match &new.user {
            Some(user) => rights(&standing.users.get(user)?.rights),
            None => Rights::everywhere(Role::Owner),
        };
        session.seen.now(now);
        Some(Caller {
            who: new.user.as_deref().unwrap_or(LOCAL).into(),
            user: new.user.clone(),
            rights: may,
            means: Means::Session(session.record.id),
            ends: Some(new.ends),
            ended: session.ended.clone(),
        })
    }

    /// Begins a session; whoever calls has the turn to change.
    pub(crate) async fn begin(
        &self,
        user: Option<&str>,
        how: &str,
        asking: &Asking<'_>,
        mut replaced: Replaced,
        now: Timestamp,
    ) -> Result<Option<Opened>, PeopleError> {
        if let Some(user) = user.filter(|_| replaced.sessions.is_empty()) {
            let ids = self.0.standing.read().sessions_of(user);
            replaced.sessions.extend(ids.iter().take((ids.len() + 1).saturating_sub(MOST)));
        }
        let cookie = Secret::new();
        let new = NewSession {
            proof: cookie.sum().to_vec(),
            user: user.map(str::to_owned),
            how: how.to_owned(),
            address: asking.address.to_string(),
            agent: asking.agent.chars().take(300).collect(),
            began: now,
            ends: now + LONGEST,
        };
        let (ended, password, step) = (replaced.sessions.clone(), replaced.password.clone(), replaced.step);
        let (passkey, identity) = (replaced.passkey.clone(), replaced.identity.clone());
        let Some(id) = self.0.journal.begin_session(new.clone(), replaced).await? else { return Ok(None) };
        let mut standing = self.0.standing.write();
        standing.end(&ended);
        if let Some(record) = user.and_then(|user| standing.users.get_mut(user)) {
            record.seen = Some(now);
            record.password = password.or(record.password.take());
            record.step = step.or(record.step);
            record.identity = identity.or(record.identity.take());
        }
        if let Some((id, key)) = passkey
            && let Some(record) = standing.passkeys.get_mut(&id)
        {
            (record.key, record.used) = (key, Some(now));
        }
        standing.sessions.insert(cookie.sum(), Arc::new(LiveSession::new(SessionRecord { id, new, seen: now })));
        Ok(Some(Opened { cookie, for_seconds: LONGEST.as_secs(), who: user.unwrap_or(LOCAL).to_owned() }))
    }

    /// Sessions of a user, of nobody by name, or all; newest first.
    pub fn sessions(&self, whose: Whose<'_>, now: Timestamp) -> Vec<Session> {
        let standing = self.0.standing.read();
        let open = standing.sessions.values().filter(|session| !session.is_over(now));
        let asked = open.filter(|session| match whose {
            Whose::All => true,
            Whose::Own(user) => session.record.new.user.as_deref() == user,
        });
        let mut sessions: Vec<Session> = asked
            .map(|session| {
                let new = session.record.new.clone();
                Session {
                    id: session.record.id,
                    user: new.user,
                    how: new.how,
                    address: new.address,
                    agent: new.agent,
                    began: new.began,
                    seen: session.last_seen(),
                    ends: new.ends,
                }
            })
            .collect();
        sessions.sort_unstable_by_key(|session| std::cmp::Reverse(session.id));
        sessions
    }

    /// Ends a session at once.
    ///
    /// # Errors
    ///
    /// If it is not on record that it ended: then it goes on.
    pub async fn end_session(&self, id: i64) -> Result<(), PeopleError> {
        self.end_all(vec![id]).await
    }

    async fn end_all(&self, ids: Vec<i64>) -> Result<(), PeopleError> {
        let _turn = self.0.changing.lock().await;
        self.0.standing.write().end(&ids);
        let ended = self.0.journal.end_sessions(ids).await;
        self.settled(ended).await
    }

    /// Ends those whose time is over.
    pub(crate) async fn end_late(&self, now: Timestamp) -> Result<(), PeopleError> {
        let late: Vec<i64> = {
            let standing = self.0.standing.read();
            standing.sessions.values().filter(|one| one.is_over(now)).map(|one| one.record.id).collect()
        };
        if late.is_empty() { Ok(()) } else { self.end_all(late).await }
    }
}
