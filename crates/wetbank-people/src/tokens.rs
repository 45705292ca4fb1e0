//! What programs sign in with.

use std::sync::Arc;

use jiff::{SignedDuration, Timestamp};
use wetbank_core::{Name, Rights, Role};
use wetbank_journal::TokenRecord;

use crate::{
    Caller, Means, People, PeopleError,
    proof::{Secret, sum},
    standing::{LiveToken, rights, role},
};

/// A token, as people see it. What it is cannot be seen any more.
#[derive(Debug, Clone)]
pub struct ApiToken {
    /// Its name.
    pub name: String,
    /// The user whose it is; nothing for one of a program, that is nobody's.
    pub user: Option<String>,
    /// What it may do at most; if it is a user's, never more than she may.
    pub role: Role,
    /// Who made it.
    pub maker: String,
    /// When.
    pub made: Timestamp,
    /// Until when it counts.
    pub ends: Option<Timestamp>,
    /// When it was used last.
    pub used: Option<Timestamp>,
}

/// A token to be made.
#[derive(Debug, Clone)]
pub struct NewToken {
    /// Its name.
    pub name: String,
    /// The user whose it is; nothing for one of a program.
    pub user: Option<String>,
    /// What it may do at most.
    pub role: Role,
    /// It counts so many days; nothing for ever.
    pub days: Option<u16>,
}

impl People {
    /// Who shows this token.
    pub fn token(&self, shown: &str, now: Timestamp) -> Option<Caller> {
        let standing = self.0.standing.read();
        let token = standing.tokens.get(&sum(shown))?;
        let record = &token.record;
        if record.ends.is_some_and(|ends| now >= ends) {
            token.ended.cancel();
            return None;
        }
        let (who, most) = match &record.user {
            Some(user) => (user.clone(), rights(&standing.users.get(user)?.rights)),
            None => (format!("token {}", record.name), Rights::everywhere(Role::Owner)),
        };
        token.seen.now(now);
        Some(Caller {
            who: who.into(),
            user: record.user.clone(),
            rights: most.at_most(role(&record.role)),
            means: Means::Token(record.name.clone()),
            ends: record.ends,
            ended: token.ended.clone(),
        })
    }

    /// Makes a token. What it is is told this once.
    ///
    /// # Errors
    ///
    /// If the name is none, or taken.
    pub async fn add_token(&self, new: NewToken, maker: &str, now: Timestamp) -> Result<Secret, PeopleError> {
        Name::new(&new.name)?;
        let _turn = self.0.changing.lock().await;
        if let Some(user) = &new.user {
            self.user(user)?;
        }
        if self.0.standing.read().tokens.values().any(|token| token.record.name == new.name) {
            return Err(PeopleError::Taken(new.name));
        }
        let secret = Secret::new();
        let record = TokenRecord {
            name: new.name,
            proof: secret.sum().to_vec(),
            user: new.user,
            role: new.role.as_str().to_owned(),
            maker: maker.to_owned(),
            made: now,
            ends: new.days.map(|days| now + SignedDuration::from_hours(24 * i64::from(days))),
            used: None,
        };
        self.0.journal.add_token(record.clone()).await?;
        self.0.standing.write().tokens.insert(secret.sum(), Arc::new(LiveToken::new(record)));
        Ok(secret)
    }

    /// Tokens of a user, or all; by name.
    pub fn tokens(&self, user: Option<&str>) -> Vec<ApiToken> {
        let standing = self.0.standing.read();
        let asked = standing.tokens.values().filter(|one| user.is_none() || one.record.user.as_deref() == user);
        let mut tokens: Vec<ApiToken> = asked
            .map(|token| {
                let record = token.record.clone();
                ApiToken {
                    name: record.name,
                    user: record.user,
                    role: role(&record.role),
                    maker: record.maker,
                    made: record.made,
                    ends: record.ends,
                    used: token.seen.at(),
                }
            })
            .collect();
        tokens.sort_unstable_by(|one, other| one.name.cmp(&other.name));
        tokens
    }

    /// Removes a token: it counts no more at once.
    ///
    /// # Errors
    ///
    /// If there is none of this name, or it is not on record that it went: then it counts as before.
    pub async fn remove_token(&self, name: &str) -> Result<(), PeopleError> {
        let _turn = self.0.changing.lock().await;
        self.0.standing.write().end_tokens(|token| token.name == name);
        let removed = self.0.journal.remove_token(name).await;
        match self.settled(removed).await? {
            true => Ok(()),
            false => Err(PeopleError::Unknown { kind: "token", name: name.to_owned() }),
        }
    }
}
