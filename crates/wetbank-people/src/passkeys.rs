//! Passkeys (Web Authentication, level 3): a key that a device holds, and opens by finger, face or PIN. It proves who
//! somebody is by itself, without password or code.

use std::collections::VecDeque;

use jiff::{SignedDuration, Timestamp};
use parking_lot::Mutex;
use url::Url;
use uuid::Uuid;
use webauthn_rs::prelude::{
    DiscoverableAuthentication, Passkey as Key, PasskeyRegistration, PublicKeyCredential, RegisterPublicKeyCredential,
    Webauthn, WebauthnBuilder,
};
use wetbank_journal::{PasskeyRecord, Replaced};

use crate::{Asking, Opened, People, PeopleError, proof::Secret};

/// Whoever begins must be done within this time.
const PATIENCE: SignedDuration = SignedDuration::from_mins(5);
/// So many may be under way; the oldest gives way. Each is some hundred bytes.
const UNDER_WAY: usize = 2_000;
/// Passkeys of one user.
const MOST: usize = 20;

/// Where a browser is: a passkey opens the site only for which it was made.
#[derive(Debug)]
pub struct Site(Webauthn);

impl Site {
    /// The site of a browser that is at this address, such as `https://files.merrow.example:8270`.
    ///
    /// # Errors
    ///
    /// If browsers make no passkeys there: it is no name, or anybody could read along.
    pub fn new(origin: &str) -> Result<Self, PeopleError> {
        let none = || PeopleError::NoPasskeys(origin.to_owned());
        let origin = Url::parse(origin).map_err(|_| none())?;
        let domain = origin.domain().ok_or_else(none)?;
        if origin.scheme() != "https" && domain != "localhost" {
            return Err(none());
        }
        let built = WebauthnBuilder::new(domain, &origin).and_then(|built| built.rp_name("Wetbank").build());
        built.map(Self).map_err(|_| none())
    }
}

/// What a browser is asked to do, and the number under which its answer is awaited.
#[derive(Debug)]
pub struct Ceremony {
    /// The number.
    pub id: String,
    /// What the browser's function is given, as JSON.
    pub options: serde_json::Value,
}

/// A passkey, as people see it.
#[derive(Debug, Clone)]
pub struct Passkey {
    /// Its number.
    pub id: String,
    /// What its user calls it.
    pub title: String,
    /// When it was made.
    pub made: Timestamp,
    /// When it opened last.
    pub used: Option<Timestamp>,
}

#[derive(Debug)]
enum State {
    Making(String, PasskeyRegistration),
    Opening(DiscoverableAuthentication),
}

/// What is under way.
#[derive(Debug, Default)]
pub(crate) struct Ceremonies(Mutex<VecDeque<(String, Timestamp, State)>>);

impl Ceremonies {
    fn begin(&self, state: State, options: &impl serde::Serialize, now: Timestamp) -> Result<Ceremony, PeopleError> {
        let options = serde_json::to_value(options).map_err(wrong)?;
        let id = Secret::new().reveal().to_owned();
        let mut under_way = self.0.lock();
        while under_way.len() >= UNDER_WAY
            || under_way.front().is_some_and(|(_, at, _)| now.duration_since(*at) > PATIENCE)
        {
            under_way.pop_front();
        }
        under_way.push_back((id.clone(), now, state));
        Ok(Ceremony { id, options })
    }

    /// What was begun under a number; it is over with that.
    fn end(&self, id: &str, now: Timestamp) -> Result<State, PeopleError> {
        let mut under_way = self.0.lock();
        let found = under_way.iter().position(|(one, at, _)| one == id && now.duration_since(*at) <= PATIENCE);
        let ended = found.and_then(|at| under_way.remove(at)).map(|(_, _, state)| state);
        ended.ok_or_else(|| PeopleError::Passkey("it took too long, or was answered before; begin again".to_owned()))
    }
}

fn wrong(error: impl std::fmt::Display) -> PeopleError {
    PeopleError::Passkey(error.to_string())
}

/// What a device knows a user by: it tells nobody her name.
fn handle(user: &str) -> Uuid {
    let sum = blake3::derive_key("wetbank 2026 user of a passkey", user.as_bytes());
    let mut bytes = [0; 16];
    bytes.copy_from_slice(&sum[..16]);
    Uuid::from_bytes(bytes)
}

impl People {
    /// A user's passkeys, the oldest first.
    pub fn passkeys(&self, user: &str) -> Vec<Passkey> {
        let standing = self.0.standing.read();
        let hers = standing.passkeys.values().filter(|one| one.user == user).cloned();
        let mut hers: Vec<Passkey> =
            hers.map(|PasskeyRecord { id, title, made, used, .. }| Passkey { id, title, made, used }).collect();
        hers.sort_unstable_by_key(|one| one.made);
        hers
    }

    fn keys_of(&self, user: &str) -> Vec<Key> {
        let standing = self.0.standing.read();
        let hers = standing.passkeys.values().filter(|one| one.user == user);
        hers.filter_map(|one| serde_json::from_str(&one.key).ok()).collect()
    }

    /// Begins to make a passkey for a user.
    ///
    /// # Errors
    ///
    /// If she has too many.
    pub fn new_passkey(&self, site: &Site, user: &str, now: Timestamp) -> Result<Ceremony, PeopleError> {
        let title = self.user(user)?.title;
        let keys = self.keys_of(user);
        if keys.len() >= MOST {
            return Err(PeopleError::Passkey(format!("there are {MOST} of yours already; remove one first")));
        }
        let known = keys.iter().map(|key| key.cred_id().clone()).collect();
        let begun = site.0.start_passkey_registration(handle(user), user, &title, Some(known));
        let (asked, state) = begun.map_err(wrong)?;
        // The device is to know whose it is: nobody types a name then.
        let mut options = serde_json::to_value(asked).map_err(wrong)?;
        options["publicKey"]["authenticatorSelection"]["residentKey"] = "required".into();
        options["publicKey"]["authenticatorSelection"]["requireResidentKey"] = true.into();
        self.0.ceremonies.begin(State::Making(user.to_owned(), state), &options, now)
    }

    /// Keeps a passkey that a browser made.
    ///
    /// # Errors
    ///
    /// If the answer is not what was asked for, or for somebody else.
    pub async fn add_passkey(
        &self,
        site: &Site,
        user: &str,
        id: &str,
        title: &str,
        answer: serde_json::Value,
        now: Timestamp,
    ) -> Result<(), PeopleError> {
        let State::Making(_, state) = self.0.ceremonies.end(id, now).and_then(|state| match state {
            State::Making(whose, _) if whose != user => Err(wrong("it is another user's")),
            state => Ok(state),
        })?
        else {
            return Err(wrong("it was not to be made"));
        };
        let answer: RegisterPublicKeyCredential = serde_json::from_value(answer).map_err(wrong)?;
        let key = site.0.finish_passkey_registration(&answer, &state).map_err(wrong)?;
        let title = Some(title.trim()).filter(|title| !title.is_empty()).unwrap_or("passkey");
        let record = PasskeyRecord {
            id: hex::encode(key.cred_id()),
            user: user.to_owned(),
            title: title.chars().take(64).collect(),
            key: serde_json::to_string(&key).map_err(wrong)?,
            made: now,
            used: None,
        };
        let _turn = self.0.changing.lock().await;
        self.user(user)?;
        if self.0.standing.read().passkeys.contains_key(&record.id) {
            return Err(wrong("it is kept already"));
        }
        self.0.journal.add_passkey(record.clone()).await?;
        self.0.standing.write().passkeys.insert(record.id.clone(), record);
        Ok(())
    }

    /// Removes a passkey of a user: it opens no more at once.
    ///
    /// # Errors
    ///
    /// If she has none of this number.
    pub async fn remove_passkey(&self, user: &str, id: &str) -> Result<(), PeopleError> {
        let _turn = self.0.changing.lock().await;
        {
            let mut standing = self.0.standing.write();
            if standing.passkeys.get(id).is_none_or(|one| one.user != user) {
                return Err(PeopleError::Unknown { kind: "passkey", name: id.to_owned() });
            }
            standing.passkeys.remove(id);
        }
        let removed = self.0.journal.remove_passkey(id).await;
        self.settled(removed).await
    }

    /// Begins to sign in with a passkey, whoever it is.
    ///
    /// # Errors
    ///
    /// If that cannot be asked for.
    pub fn ask_passkey(&self, site: &Site, now: Timestamp) -> Result<Ceremony, PeopleError> {
        let (mut asked, state) = site.0.start_discoverable_authentication().map_err(wrong)?;
        asked.mediation = None;
        self.0.ceremonies.begin(State::Opening(state), &asked, now)
    }

    /// Signs in whose passkey answered.
    ///
    /// # Errors
    ///
    /// If it is nobody's, or the answer is not what was asked for.
    pub async fn open_passkey(
        &self,
        site: &Site,
        id: &str,
        answer: serde_json::Value,
        asking: &Asking<'_>,
        now: Timestamp,
    ) -> Result<Opened, PeopleError> {
        let State::Opening(state) = self.0.ceremonies.end(id, now)? else { return Err(wrong("it was to be made")) };
        let answer: PublicKeyCredential = serde_json::from_value(answer).map_err(wrong)?;
        let (whose, shown) = site.0.identify_discoverable_authentication(&answer).map_err(wrong)?;
        let shown = hex::encode(shown);
        let unknown = || wrong("nobody here has it");
        let record = self.0.standing.read().passkeys.get(&shown).cloned().ok_or_else(unknown)?;
        if handle(&record.user) != whose {
            return Err(unknown());
        }
        let mut key: Key = serde_json::from_str(&record.key).map_err(wrong)?;
        let proved = site.0.finish_discoverable_authentication_v2(&answer, state, &key).map_err(wrong)?;
        key.update_credential(&proved);
        let kept = serde_json::to_string(&key).map_err(wrong)?;
        let replaced = Replaced { passkey: Some((shown, kept)), ..Replaced::default() };
        let _turn = self.0.changing.lock().await;
        self.user(&record.user)?;
        self.begin(Some(&record.user), "passkey", asking, replaced, now).await?.ok_or_else(unknown)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn passkeys_are_made_under_a_name_in_private_only() {
        for (origin, is_fine) in [
            ("https://files.merrow.example:8270", true),
            ("http://localhost:8270", true),
            ("http://files.merrow.example", false),
            ("https://127.0.0.1:8270", false),
            ("https://[::1]", false),
            ("files", false),
        ] {
            assert_eq!(Site::new(origin).is_ok(), is_fine, "{origin}");
        }
    }
}
