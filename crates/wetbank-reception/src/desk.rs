//! Who may come, and who is here.

use std::{
    collections::{HashMap, HashSet},
    net::IpAddr,
    path::{Path, PathBuf},
    sync::Arc,
    time::Instant,
};

use jiff::Timestamp;
use parking_lot::Mutex;
use rand::{Rng, distributions::Uniform, rngs::OsRng};
use secrecy::{ExposeSecret, SecretString};
use tokio_util::sync::CancellationToken;
use wetbank_core::{Account, AccountEvent, Name, RelPath};
use wetbank_engine::{Engine, EngineError};
use wetbank_journal::{AccountPassword, NewVisit};
use wetbank_people::{Attempts, Passwords, PeopleError};
use wetbank_places::{Folder, PlaceErrorKind};

use crate::{Guest, locking::locked, room::Rooms};

/// Visits at once, of all accounts and of one.
const MOST: usize = 1_000;
const MOST_OF_ONE: usize = 256;
/// Addresses from which accounts signed in well that are remembered.
const REMEMBERED: usize = 20_000;
/// Letters that are not mistaken for each other.
const LETTERS: &[u8] = b"abcdefghjkmnpqrstuvwxyz23456789";

/// What somebody came by.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Way {
    /// SFTP.
    Sftp,
    /// The page, or a program over HTTPS.
    Https,
}

impl Way {
    /// The word for it.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Sftp => "sftp",
            Self::Https => "https",
        }
    }
}

/// What a right password is good for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Proven {
    /// To come in.
    In,
    /// To choose another one, and nothing else.
    Once,
}

#[derive(Debug)]
struct Live {
    account: Name,
    ended: CancellationToken,
}

#[derive(Debug)]
pub(crate) struct Inner {
    pub engine: Engine,
    passwords: Passwords,
    attempts: Attempts,
    kept: Mutex<HashMap<String, AccountPassword>>,
    /// Whoever changes what is kept of a password holds this, from what is read until it is on record.
    changing: tokio::sync::Mutex<()>,
    known: Mutex<HashSet<(Name, IpAddr)>>,
    live: Mutex<HashMap<i64, Live>>,
    /// What is being handed in, by account.
    pub uploads: Mutex<HashSet<(Name, RelPath)>>,
    pub rooms: Rooms,
    /// Where files pass through that lie elsewhere than in a folder of this machine.
    pub spool: Folder,
    folder: PathBuf,
}

/// Knows who may come, and keeps the visits. Clones share it.
#[derive(Debug, Clone)]
pub struct Desk(pub(crate) Arc<Inner>);

impl Desk {
    /// Opens, with a folder of the data folder for what passes through.
    ///
    /// # Errors
    ///
    /// If the journal or the folder cannot be used.
    pub async fn open(engine: Engine, data: &Path) -> Result<Self, EngineError> {
        let folder = data.join("reception");
        let failed = |cause| EngineError::Data { path: folder.clone(), cause };
        match std::os::unix::fs::DirBuilderExt::mode(&mut std::fs::DirBuilder::new(), 0o700).create(&folder) {
            Err(error) if error.kind() != std::io::ErrorKind::AlreadyExists => return Err(failed(error)),
            _ => {}
        }
        let kept = engine.journal().account_passwords().await?;
        let kept = kept.into_iter().map(|one| (one.account.clone(), one)).collect();
        let spool = Folder::new(Name::new("reception").expect("a plain name"), &folder);
        let desk = Self(Arc::new(Inner {
            engine,
            passwords: Passwords::default(),
            attempts: Attempts::default(),
            kept: Mutex::new(kept),
            changing: tokio::sync::Mutex::default(),
            known: Mutex::default(),
            live: Mutex::default(),
            uploads: Mutex::default(),
            rooms: Rooms::default(),
            spool,
            folder,
        }));
        desk.clear_fetched().await;
        Ok(desk)
    }

    /// The engine behind it.
    pub fn engine(&self) -> &Engine {
        &self.0.engine
    }

    /// Its folder of the data folder.
    pub fn folder(&self) -> &Path {
        &self.0.folder
    }

    async fn did(&self, event: AccountEvent, account: &Account, address: IpAddr, visit: i64) {
        if let Err(error) = self.0.engine.account_did(event, account, address, visit).await {
            tracing::error!(account = %account.name, event = event.as_str(), %error, "what waits for it could not be started");
        }
    }

    /// Whether a key opens an account for somebody from there. Answers its fingerprint.
    pub fn opens_with(&self, name: &str, key: &[u8], address: IpAddr) -> Option<String> {
        let account = self.0.engine.account(name)?;
        account.opens(address, Timestamp::now()).ok()?;
        account.keys.iter().find(|own| own.is(key)).map(|own| own.fingerprint())
    }

    /// Somebody went without being let in. Nothing is told of names that there are not.
    pub async fn refused(&self, name: &str, address: IpAddr) {
        if let Some(account) = self.0.engine.account(name) {
            tracing::info!(account = name, %address, "not let in");
            self.did(AccountEvent::Refused, &account, address, 0).await;
        }
    }

    /// What a password is good for. Everything that is wrong is told alike.
    ///
    /// # Errors
    ///
    /// If nothing; [`PeopleError::Wait`] and [`PeopleError::Busy`] say nothing of the account.
    pub async fn prove(&self, name: &str, password: &SecretString, address: IpAddr) -> Result<Proven, PeopleError> {
        let now = Timestamp::now();
        let account = self.0.engine.account(name);
        let is_known =
            account.as_ref().is_some_and(|account| self.0.known.lock().contains(&(account.name.clone(), address)));
        let attempt = self.0.attempts.take(name, address, is_known, Instant::now())?;
        let kept =
            account.as_ref().filter(|account| account.has_password).and_then(|_| self.0.kept.lock().get(name).cloned());
        // While it is locked no password is right, and finding out takes as long as ever.
        let open = kept.as_ref().filter(|kept| kept.locked.is_none_or(|until| until <= now));
        let fits = self.0.passwords.fits(password, open.map(|kept| kept.password.as_str())).await?;
        let Some(account) = account else { return Err(PeopleError::Wrong) };
        if !fits {
            if open.is_some() {
                self.was_wrong(&account, address).await?;
            }
            return Err(PeopleError::Wrong);
        }
        if let Err(shut) = account.opens(address, now) {
            tracing::info!(account = name, %address, %shut, "not let in");
            return Err(PeopleError::Wrong);
        }
        attempt.was_right();
        if kept.as_ref().is_some_and(|kept| kept.wrong > 0) {
            self.set_wrong(name, 0, None).await?;
        }
        let mut known = self.0.known.lock();
        if known.len() >= REMEMBERED {
            known.clear();
        }
        known.insert((account.name.clone(), address));
        Ok(if kept.is_some_and(|kept| kept.is_once) { Proven::Once } else { Proven::In })
    }

    async fn was_wrong(&self, account: &Account, address: IpAddr) -> Result<(), PeopleError> {
        let name = account.name.as_str();
        let wrong = self.0.kept.lock().get(name).map_or(1, |kept| kept.wrong.saturating_add(1));
        let until = locked(wrong, Timestamp::now());
        self.set_wrong(name, wrong, until).await?;
        if let Some(until) = until {
            tracing::warn!(account = name, %address, %until, "locked after wrong passwords");
            self.did(AccountEvent::Locked, account, address, 0).await;
        }
        Ok(())
    }

    async fn set_wrong(&self, name: &str, wrong: u32, until: Option<Timestamp>) -> Result<(), PeopleError> {
        let _alone = self.0.changing.lock().await;
        if let Some(kept) = self.0.kept.lock().get_mut(name) {
            (kept.wrong, kept.locked) = (wrong, until);
        }
        Ok(self.0.engine.journal().set_account_wrong(name, wrong, until).await?)
    }

    /// Gives an account a password. One that counts `once` lets its owner choose another one and nothing else.
    ///
    /// # Errors
    ///
    /// If it is easy to guess, or cannot be put on record.
    pub async fn set_password(&self, name: &str, password: &SecretString, is_once: bool) -> Result<(), PeopleError> {
        let account = self.0.engine.account(name);
        let account = account.ok_or_else(|| PeopleError::Unknown { kind: "account", name: name.to_owned() })?;
        Passwords::check(password, account.name.as_str())?;
        let made = self.0.passwords.keep(password).await?;
        let _alone = self.0.changing.lock().await;
        let now = Timestamp::now();
        self.0.engine.journal().put_account_password(name, made.clone(), is_once, now).await?;
        let kept =
            AccountPassword { account: name.to_owned(), password: made, is_once, made: now, wrong: 0, locked: None };
        self.0.kept.lock().insert(name.to_owned(), kept);
        Ok(())
    }

    /// Makes a password that counts once.
    ///
    /// # Errors
    ///
    /// If it cannot be put on record.
    pub async fn one_time_password(&self, name: &str) -> Result<SecretString, PeopleError> {
        let letters = OsRng.sample_iter(Uniform::from(0..LETTERS.len())).map(|at| char::from(LETTERS[at]));
        let text: Vec<char> = letters.take(20).collect();
        let text = text.chunks(5).map(|part| part.iter().collect::<String>()).collect::<Vec<_>>().join("-");
        let password = SecretString::from(text);
        self.set_password(name, &password, true).await?;
        Ok(password)
    }

    /// Has the owner of a one-time password choose another one.
    ///
    /// # Errors
    ///
    /// If it is the same, or easy to guess, or cannot be put on record.
    pub async fn choose(&self, name: &str, was: &SecretString, new: &SecretString) -> Result<(), PeopleError> {
        if was.expose_secret() == new.expose_secret() {
            return Err(PeopleError::Weak("is the one that counts once; choose another one"));
        }
        self.set_password(name, new, false).await
    }

    /// Takes an account's password away. Answers whether it had one.
    ///
    /// # Errors
    ///
    /// If that cannot be put on record.
    pub async fn remove_password(&self, name: &str) -> Result<bool, PeopleError> {
        let _alone = self.0.changing.lock().await;
        self.0.kept.lock().remove(name);
        Ok(self.0.engine.journal().remove_account_password(name).await?)
    }

    /// What is kept of an account's password: whether it counts once, when it was made, and until when none counts.
    pub fn password_of(&self, name: &str) -> Option<(bool, Timestamp, Option<Timestamp>)> {
        let kept = self.0.kept.lock();
        kept.get(name).map(|kept| (kept.is_once, kept.made, kept.locked.filter(|until| *until > Timestamp::now())))
    }

    /// Lets somebody in who proved to be of an account. `how` names what was proved with, `agent` the program.
    ///
    /// # Errors
    ///
    /// [`PeopleError::Busy`] if too many are here; or if the visit cannot be put on record.
    pub async fn enter(
        &self,
        name: &str,
        (way, address): (Way, IpAddr),
        how: String,
        agent: &str,
    ) -> Result<Guest, PeopleError> {
        let account = self.0.engine.account(name).ok_or(PeopleError::Wrong)?;
        {
            let live = self.0.live.lock();
            let of_one = live.values().filter(|one| one.account == account.name).count();
            if live.len() >= MOST || of_one >= MOST_OF_ONE {
                return Err(PeopleError::Busy);
            }
        }
        if let Err(error) = self.make_root(&account).await {
            tracing::warn!(account = name, %error, "the root of an account cannot be made or reached");
        }
        let agent: String = agent.chars().filter(|letter| !letter.is_control()).take(200).collect();
        let began = Timestamp::now();
        let new = NewVisit {
            account: account.name.clone(),
            partner: account.partner.clone(),
            way: way.as_str(),
            how,
            address: address.to_canonical().to_string(),
            agent,
            began,
        };
        let visit = self.0.engine.journal().begin_visit(new).await?;
        let ended = CancellationToken::new();
        self.0.live.lock().insert(visit, Live { account: account.name.clone(), ended: ended.clone() });
        let guest = Guest { visit, account: account.name.clone(), address, way, began, ended, desk: self.clone() };
        tracing::info!(account = name, %address, visit, way = way.as_str(), "came in");
        self.did(AccountEvent::SignedIn, &account, address, visit).await;
        Ok(guest)
    }

    /// The root is made when it is first needed.
    async fn make_root(&self, account: &Account) -> Result<(), EngineError> {
        let place = self.0.engine.place_of(account)?;
        match place.stat(&account.root.path).await {
            Err(error) if error.kind == PlaceErrorKind::NotFound => Ok(place.make_folder(&account.root.path).await?),
            looked => Ok(looked.map(drop)?),
        }
    }

    /// A guest went.
    pub(crate) fn left(&self, visit: i64) {
        self.0.live.lock().remove(&visit);
        let engine = self.0.engine.clone();
        // Without a runtime the service has ended, and at the next start nobody is here.
        if let Ok(runtime) = tokio::runtime::Handle::try_current() {
            runtime.spawn(async move {
                if let Err(error) = engine.visit_ended(visit).await {
                    tracing::warn!(visit, %error, "that a visit ended could not be put on record");
                }
            });
        }
    }

    /// How many visits of an account go on.
    pub fn here_of(&self, account: &str) -> usize {
        self.0.live.lock().values().filter(|one| one.account.as_str() == account).count()
    }

    /// Sends a guest away. Answers whether there was one.
    pub fn send_away(&self, visit: i64) -> bool {
        let live = self.0.live.lock();
        live.get(&visit).map(|one| one.ended.cancel()).is_some()
    }
}
