//! Users: who they are, what they may do, and what they prove it with.

use std::{sync::Arc, time::Duration};

use jiff::Timestamp;
use parking_lot::RwLock;
use secrecy::SecretString;
use tokio::sync::Mutex;
use tokio_util::sync::CancellationToken;
use wetbank_core::{Name, Rights, Role};
use wetbank_crypt::Vault;
use wetbank_journal::{Journal, UserRecord};

use crate::{
    Attempts, Codes, Passwords, PeopleError, Seed,
    passkeys::Ceremonies,
    provider::Vouching,
    standing::{Standing, rights},
};

/// What is put on record now and then is put there so often.
const TEND: Duration = Duration::from_secs(60);

/// Somebody who may sign in.
#[derive(Debug, Clone)]
pub struct User {
    /// Her name.
    pub name: String,
    /// How she is called.
    pub title: String,
    /// What she may do.
    pub rights: Rights,
    /// Whether she has a password: until then only a link lets her in.
    pub has_password: bool,
    /// Whether a code is asked for, too.
    pub has_codes: bool,
    /// How many passkeys she has.
    pub passkeys: usize,
    /// Whether the provider vouches for her.
    pub is_vouched: bool,
    /// Since when she may come.
    pub made: Timestamp,
    /// When she signed in last.
    pub seen: Option<Timestamp>,
    /// How many browsers she is signed in with.
    pub sessions: usize,
}

#[derive(Debug)]
pub(crate) struct Inner {
    pub journal: Journal,
    pub vault: Arc<Vault>,
    pub standing: RwLock<Standing>,
    /// Whoever changes something holds this, from what is read until it is on record.
    pub changing: Mutex<()>,
    pub passwords: Passwords,
    pub attempts: Attempts,
    pub ceremonies: Ceremonies,
    pub vouching: Vouching,
}

/// Everybody who may come. Clones share it.
#[derive(Debug, Clone)]
pub struct People(pub(crate) Arc<Inner>);

fn label(user: &str) -> String {
    format!("user:{user}")
}

impl People {
    /// Reads who may come.
    ///
    /// # Errors
    ///
    /// If the journal cannot be read.
    pub async fn open(journal: Journal, vault: Arc<Vault>) -> Result<Self, PeopleError> {
        let standing = RwLock::new(Standing::read(&journal).await?);
        let (changing, passwords, attempts) = (Mutex::default(), Passwords::default(), Attempts::default());
        let (ceremonies, vouching) = (Ceremonies::default(), Vouching::default());
        Ok(Self(Arc::new(Inner { journal, vault, standing, changing, passwords, attempts, ceremonies, vouching })))
    }

    /// Puts on record when sessions and tokens were seen last, and ends those whose time is over, until told to stop.
    pub async fn tend(&self, stop: CancellationToken) {
        loop {
            tokio::select! {
                () = tokio::time::sleep(TEND) => {}
                () = stop.cancelled() => {}
            }
            if let Err(error) = self.note_seen().await {
                tracing::warn!(%error, "it could not be recorded who was seen last");
            }
            if stop.is_cancelled() {
                return;
            }
        }
    }

    async fn note_seen(&self) -> Result<(), PeopleError> {
        self.end_late(Timestamp::now()).await?;
        let (sessions, tokens) = {
            let standing = self.0.standing.read();
            let sessions = standing.sessions.values().filter_map(|one| Some((one.record.id, one.seen.to_note()?)));
            let tokens =
                standing.tokens.values().filter_map(|one| Some((one.record.name.clone(), one.seen.to_note()?)));
            (sessions.collect::<Vec<_>>(), tokens.collect::<Vec<_>>())
        };
        if sessions.is_empty() && tokens.is_empty() {
            return Ok(());
        }
        Ok(self.0.journal.note_seen(sessions, tokens).await?)
    }

    /// What the journal refused has not happened: memory is what it says.
    pub(crate) async fn settled<T>(&self, done: Result<T, wetbank_journal::JournalError>) -> Result<T, PeopleError> {
        match done {
            Ok(done) => Ok(done),
            Err(error) => {
                match Standing::read(&self.0.journal).await {
                    Ok(read) => *self.0.standing.write() = read,
                    Err(error) => tracing::error!(%error, "it cannot be read who may come; what was taken is taken"),
                }
                Err(error.into())
            }
        }
    }

    /// Everybody who may come, by name.
    pub fn users(&self) -> Vec<User> {
        let standing = self.0.standing.read();
        standing.users.values().map(|record| user(&standing, record)).collect()
    }

    /// A user.
    ///
    /// # Errors
    ///
    /// If there is none of this name.
    pub fn user(&self, name: &str) -> Result<User, PeopleError> {
        let standing = self.0.standing.read();
        standing.users.get(name).map(|record| user(&standing, record)).ok_or_else(|| unknown(name))
    }

    /// Adds a user, or changes how she is called and what she may do. Answers whether she is new.
    ///
    /// # Errors
    ///
    /// If the name is none, or the last owner would be none any more.
    pub async fn put_user(&self, name: &str, title: &str, to: Rights, now: Timestamp) -> Result<bool, PeopleError> {
        Name::new(name)?;
        let _turn = self.0.changing.lock().await;
        let was = self.0.standing.read().users.get(name).cloned();
        let is_owner = was.as_ref().is_some_and(|was| rights(&was.rights).role == Role::Owner);
        if is_owner && to.role < Role::Owner && !self.0.standing.read().has_other_owner(name) {
            return Err(PeopleError::LastOwner(name.to_owned()));
        }
        let title = Some(title.trim()).filter(|title| !title.is_empty()).unwrap_or(name);
        self.0.journal.put_user(name, title, &to.to_string(), now).await?;
        let is_new = was.is_none();
        let kept = was.unwrap_or_else(|| UserRecord {
            name: name.to_owned(),
            title: String::new(),
            rights: String::new(),
            password: None,
            seed: None,
            step: None,
            identity: None,
            made: now,
            seen: None,
        });
        let record = UserRecord { title: title.to_owned(), rights: to.to_string(), ..kept };
        self.0.standing.write().users.insert(name.to_owned(), record);
        Ok(is_new)
    }

    /// Removes a user: her sessions and tokens end at once.
    ///
    /// # Errors
    ///
    /// If there is none of this name, or she is the last owner.
    pub async fn remove_user(&self, name: &str) -> Result<(), PeopleError> {
        let _turn = self.0.changing.lock().await;
        {
            let mut standing = self.0.standing.write();
            let record = standing.users.get(name).ok_or_else(|| unknown(name))?;
            if rights(&record.rights).role == Role::Owner && standing.users.len() > 1 && !standing.has_other_owner(name)
            {
                return Err(PeopleError::LastOwner(name.to_owned()));
            }
            let ids = standing.sessions_of(name);
            standing.end(&ids);
            standing.end_tokens(|token| token.user.as_deref() == Some(name));
            standing.users.remove(name);
            standing.passkeys.retain(|_, one| one.user != name);
        }
        let removed = self.0.journal.remove_user(name).await;
        self.settled(removed).await.map(drop)
    }

    /// Changes a user's own password; her other sessions end.
    ///
    /// # Errors
    ///
    /// If the old one is wrong, or the new one is easy to guess.
    pub async fn change_password(
        &self,
        name: &str,
        old: &SecretString,
        new: &SecretString,
        keep: Option<i64>,
    ) -> Result<(), PeopleError> {
        self.proves(name, old).await?;
        Passwords::check(new, name)?;
        let kept = self.0.passwords.keep(new).await?;
        let _turn = self.0.changing.lock().await;
        let mut ids = self.0.standing.read().sessions_of(name);
        ids.retain(|id| Some(*id) != keep);
        self.0.journal.set_password(name, kept.clone(), ids.clone()).await?;
        let mut standing = self.0.standing.write();
        standing.end(&ids);
        if let Some(record) = standing.users.get_mut(name) {
            record.password = Some(kept);
        }
        Ok(())
    }

    /// Whether this is the password of a user who is signed in already.
    async fn proves(&self, name: &str, password: &SecretString) -> Result<(), PeopleError> {
        let kept = self.0.standing.read().users.get(name).ok_or_else(|| unknown(name))?.password.clone();
        let here = std::net::Ipv4Addr::UNSPECIFIED.into();
        let attempt = self.0.attempts.take(name, here, true, std::time::Instant::now())?;
        if !self.0.passwords.fits(password, kept.as_deref()).await? {
            return Err(PeopleError::Wrong);
        }
        attempt.was_right();
        Ok(())
    }

    /// A new seed for a user's second factor. It counts once a code of it was shown.
    ///
    /// # Errors
    ///
    /// If she has a second factor.
    pub fn new_codes(&self, name: &str) -> Result<(Seed, Codes), PeopleError> {
        if self.user(name)?.has_codes {
            return Err(PeopleError::HasCodes);
        }
        let seed = Seed::new();
        let codes = seed.codes(name)?;
        Ok((seed, codes))
    }

    /// From now on a user needs a code of this seed, too.
    ///
    /// # Errors
    ///
    /// If the code is not one of the seed's, or she has a second factor.
    pub async fn set_codes(&self, name: &str, seed: &Seed, code: &str, now: Timestamp) -> Result<(), PeopleError> {
        let step = seed.codes(name)?.step(code, now).ok_or(PeopleError::WrongCode)?;
        let sealed = self.0.vault.seal(&label(name), seed.text());
        let _turn = self.0.changing.lock().await;
        if self.user(name)?.has_codes {
            return Err(PeopleError::HasCodes);
        }
        self.0.journal.set_seed(name, Some((sealed.clone(), step))).await?;
        if let Some(record) = self.0.standing.write().users.get_mut(name) {
            (record.seed, record.step) = (Some(sealed), Some(step));
        }
        Ok(())
    }

    /// A user needs no code any more.
    ///
    /// # Errors
    ///
    /// If the password is not hers.
    pub async fn remove_codes(&self, name: &str, password: &SecretString) -> Result<(), PeopleError> {
        self.proves(name, password).await?;
        let _turn = self.0.changing.lock().await;
        self.0.journal.set_seed(name, None).await?;
        if let Some(record) = self.0.standing.write().users.get_mut(name) {
            (record.seed, record.step) = (None, None);
        }
        Ok(())
    }

    /// Takes second factor and passkeys away from a user who lost them.
    ///
    /// # Errors
    ///
    /// If there is no such user.
    pub async fn remove_proofs(&self, name: &str) -> Result<(), PeopleError> {
        let _turn = self.0.changing.lock().await;
        self.user(name)?;
        self.0.standing.write().passkeys.retain(|_, one| one.user != name);
        let removed = self.0.journal.remove_proofs(name).await;
        self.settled(removed).await?;
        if let Some(record) = self.0.standing.write().users.get_mut(name) {
            (record.seed, record.step) = (None, None);
        }
        Ok(())
    }

    /// The time step of a code of a user's second factor.
    pub(crate) fn step(&self, record: &UserRecord, code: &str, now: Timestamp) -> Result<Option<i64>, PeopleError> {
        let Some(sealed) = &record.seed else { return Ok(None) };
        let opened = self.0.vault.open_sealed(&label(&record.name), sealed);
        let seed = Seed::from(opened.map_err(|error| PeopleError::Sealed(error.to_string()))?);
        Ok(seed.codes(&record.name)?.step(code, now))
    }
}

fn user(standing: &Standing, record: &UserRecord) -> User {
    User {
        name: record.name.clone(),
        title: record.title.clone(),
        rights: rights(&record.rights),
        has_password: record.password.is_some(),
        has_codes: record.seed.is_some(),
        passkeys: standing.passkeys.values().filter(|one| one.user == record.name).count(),
        is_vouched: record.identity.is_some(),
        made: record.made,
        seen: record.seen,
        sessions: standing.sessions_of(&record.name).len(),
    }
}

pub(crate) fn unknown(name: &str) -> PeopleError {
    PeopleError::Unknown { kind: "user", name: name.to_owned() }
}
