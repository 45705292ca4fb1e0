//! Signing in: by name and password, or by a link that opens once.

use std::{net::IpAddr, time::Instant};

use jiff::{SignedDuration, Timestamp};
use secrecy::SecretString;
use wetbank_journal::{LinkRecord, Replaced};

use crate::{
    Passwords, People, PeopleError, User,
    people::unknown,
    proof::{Secret, sum},
};

/// A link for a colleague opens for so long, and one for whoever may read the data folder.
const FOR_USER: SignedDuration = SignedDuration::from_hours(3 * 24);
const FOR_MACHINE: SignedDuration = SignedDuration::from_hours(24);

/// From where somebody signs in.
#[derive(Debug, Clone, Copy)]
pub struct Asking<'a> {
    /// The address.
    pub address: IpAddr,
    /// What the browser says that it is.
    pub agent: &'a str,
}

/// A session that began.
#[derive(Debug)]
pub struct Opened {
    /// What the browser shows from now on.
    pub cookie: Secret,
    /// For so many seconds at most.
    pub for_seconds: i64,
    /// Who it is.
    pub who: String,
}

/// What a link opens.
#[derive(Debug)]
pub struct Shown {
    /// Who chooses a password by it; nothing if it is for whoever may read the data folder.
    pub user: Option<User>,
    /// Until when.
    pub ends: Timestamp,
}

impl People {
    /// Signs a user in with her password, and the code of her second factor if she has one. An unknown name is answered
    /// like a wrong password, and as late.
    ///
    /// # Errors
    ///
    /// If they do not belong together, a code is missing, or too many tried.
    pub async fn sign_in(
        &self,
        name: &str,
        password: &SecretString,
        code: Option<&str>,
        asking: &Asking<'_>,
        now: Timestamp,
    ) -> Result<Opened, PeopleError> {
        let name = name.trim().to_lowercase();
        let is_known = self.0.standing.read().knows(&name, asking.address);
        let attempt = self.0.attempts.take(&name, asking.address, is_known, Instant::now())?;
        let found = self.0.standing.read().users.get(&name).cloned();
        let kept = found.as_ref().and_then(|user| user.password.clone());
        let fits = match self.0.passwords.fits(password, kept.as_deref()).await {
            Ok(fits) => fits,
            Err(error) => {
                attempt.was_right();
                return Err(error);
            }
        };
        let Some(user) = found.filter(|_| fits) else { return Err(PeopleError::Wrong) };
        let mut replaced = Replaced::default();
        if user.seed.is_some() {
            let Some(code) = code.map(str::trim).filter(|code| !code.is_empty()) else {
                attempt.was_right();
                return Err(PeopleError::CodeNeeded);
            };
            replaced.step = Some(self.step(&user, code, now)?.ok_or(PeopleError::WrongCode)?);
        }
        let _turn = self.0.changing.lock().await;
        // Meanwhile she may have been removed, or chosen another password.
        if self.0.standing.read().users.get(&name).and_then(|user| user.password.clone()) != kept {
            return Err(PeopleError::Wrong);
        }
        let how = if replaced.step.is_some() { "password and code" } else { "password" };
        let opened = self.begin(Some(&name), how, asking, replaced, now).await?.ok_or(PeopleError::WrongCode)?;
        attempt.was_right();
        Ok(opened)
    }

    /// Signs in whoever showed the token of the data folder.
    ///
    /// # Errors
    ///
    /// If that cannot be put on record.
    pub async fn open_machine(&self, asking: &Asking<'_>, now: Timestamp) -> Result<Opened, PeopleError> {
        let _turn = self.0.changing.lock().await;
        self.begin(None, "token", asking, Replaced::default(), now).await?.ok_or(PeopleError::NoLink)
    }

    /// A link that opens once: for a user, who chooses a password by it; or for whoever may read the data folder.
    ///
    /// # Errors
    ///
    /// If there is no such user.
    pub async fn new_link(&self, user: Option<&str>, now: Timestamp) -> Result<(Secret, Timestamp), PeopleError> {
        let _turn = self.0.changing.lock().await;
        if let Some(user) = user {
            self.user(user)?;
        }
        let (link, ends) = (Secret::new(), now + if user.is_some() { FOR_USER } else { FOR_MACHINE });
        let record = LinkRecord { user: user.map(str::to_owned), ends };
        self.0.journal.add_link(link.sum().to_vec(), record, now).await?;
        Ok((link, ends))
    }

    /// What a link opens. It still does afterwards: programs that look at mails open links, too.
    ///
    /// # Errors
    ///
    /// If it opens no more.
    pub async fn look(&self, link: &str, now: Timestamp) -> Result<Shown, PeopleError> {
        let record = self.0.journal.link(&sum(link), now).await?.ok_or(PeopleError::NoLink)?;
        let user = record.user.map(|user| self.user(&user)).transpose()?;
        Ok(Shown { user, ends: record.ends })
    }

    /// Signs in by a link, which opens no more. A user chooses a password by it, and all her sessions end; her second
    /// factor is asked for as ever.
    ///
    /// # Errors
    ///
    /// If it opens no more, the password is easy to guess, or the code is missing or wrong.
    pub async fn open_link(
        &self,
        link: &str,
        password: Option<&SecretString>,
        code: Option<&str>,
        asking: &Asking<'_>,
        now: Timestamp,
    ) -> Result<Opened, PeopleError> {
        let proof = sum(link).to_vec();
        let record = self.0.journal.link(&proof, now).await?.ok_or(PeopleError::NoLink)?;
        let mut replaced = Replaced { link: Some(proof), ..Replaced::default() };
        let Some(name) = record.user else {
            let _turn = self.0.changing.lock().await;
            return self.begin(None, "link", asking, replaced, now).await?.ok_or(PeopleError::NoLink);
        };
        // Before a try counts: who looks for a good one does not guess.
        let password = password.ok_or(PeopleError::Weak("is missing: choose one"))?;
        Passwords::check(password, &name)?;
        let attempt = self.0.attempts.take(&name, asking.address, true, Instant::now())?;
        let user = self.0.standing.read().users.get(&name).cloned().ok_or_else(|| unknown(&name))?;
        if user.seed.is_some() {
            let Some(code) = code.map(str::trim).filter(|code| !code.is_empty()) else {
                attempt.was_right();
                return Err(PeopleError::CodeNeeded);
            };
            replaced.step = Some(self.step(&user, code, now)?.ok_or(PeopleError::WrongCode)?);
        }
        replaced.password = Some(self.0.passwords.keep(password).await?);
        let _turn = self.0.changing.lock().await;
        self.user(&name)?;
        replaced.sessions = self.0.standing.read().sessions_of(&name);
        let opened = self.begin(Some(&name), "link", asking, replaced, now).await?.ok_or(PeopleError::NoLink)?;
        attempt.was_right();
        Ok(opened)
    }
}
