//! The engine as a whole: what its parts share, starting, stopping.

mod agreements;
mod book;
mod build;
mod by_hand;
mod calendars;
mod databases;
mod files;
mod items;
mod partners;
mod places;
mod runs;
mod secrets;
mod signals;

pub(crate) use agreements::SignIns;
pub use agreements::{CodeToType, SignInOffer, SignInState};
pub use by_hand::Begun;
pub use calendars::{CalendarImport, CalendarStatus};
pub use databases::DatabaseStatus;
pub(crate) use items::Stopped;
pub use partners::{PartnerStatus, Warning};
pub use places::{NewAgreement, NewPlaceKeys, NewPlaceValue};
pub(crate) use runs::Beginning;
pub use runs::NextFiring;
pub use signals::{SignalCall, SignalRefusal, signal_proof};

use std::{
    collections::{BTreeMap, HashMap},
    fs::{self, File},
    path::{Path, PathBuf},
    sync::{Arc, PoisonError, RwLock},
    time::Duration,
};

use jiff::Timestamp;
use tokio::sync::{Notify, OwnedSemaphorePermit, Semaphore, broadcast};
use tokio_util::{sync::CancellationToken, task::TaskTracker};
use wetbank_core::{
    BY_HAND, Explanation, FileFacts, FilePath, ItemState, Known, Name, PlaceSpec, RetryPolicy, Rule, parse_book,
};
use wetbank_crypt::Vault;
use wetbank_journal::{Journal, Work};
use wetbank_places::{Folder, PlaceError};

use crate::{
    Arrangement, EngineError, Event, LiveRule, Moving, chain, claims::Claims, clock, events::Events,
    health::HealthBook, join, join::Joins, keys::Keys, outbox, probe, runner, scheduler, scheduler::Deadlines,
    step::FailureKind, watch,
};

/// How long running steps may take to notice that the service stops.
const STOP_WITHIN: Duration = Duration::from_secs(20);

/// How an engine is set up.
#[derive(Debug, Clone)]
pub struct EngineOptions {
    /// The folder with the journal, the vault's key and the work folder.
    pub data: PathBuf,
    /// The list of programs that rules may run; `programs.toml` in the data folder if none is given.
    pub programs: Option<PathBuf>,
}

/// What all parts of the engine share.
#[derive(Debug)]
pub(crate) struct Core {
    pub journal: Journal,
    pub keys: Keys,
    pub events: Events,
    pub health: HealthBook,
    pub sign_ins: SignIns,
    pub claims: Claims,
    pub intake: watch::Intake,
    pub work_folder: Folder,
    /// Tells this data folder's temporary files from those of other services.
    pub instance: String,
    pub cancel: CancellationToken,
    pub tracker: TaskTracker,
    pub arrangement_changed: Notify,
    /// A place failed, or was probed.
    pub place_news: Notify,
    warnings: partners::KeptWarnings,
    /// Runs that are being stopped, and why.
    stopping: std::sync::Mutex<HashMap<i64, Stopped>>,
    /// Something happened that starts other rules.
    pub chain_news: Notify,
    /// A mail was put into the outbox.
    pub mail_news: Notify,
    /// Where mails lie that are to be sent.
    pub outbox: PathBuf,
    /// The list of programs that may be run.
    pub programs: PathBuf,
    /// Items that wait for others.
    pub joins: Joins,
    /// Runs that may take only so long, by the time when that is over.
    pub deadlines: Deadlines,
    /// Items at work: their run, and what stops them.
    /// Encrypting and decrypting keeps a processor busy: more at once would only take memory.
    pub crypt_slots: Semaphore,
    /// Turns to run a program.
    pub program_slots: Semaphore,
    large_slots: std::sync::Mutex<HashMap<Name, Arc<Semaphore>>>,
    arrangement: RwLock<Arc<Arrangement>>,
    old_rules: std::sync::Mutex<HashMap<(Name, i64), Arc<Rule>>>,
}

/// A file over this size holds many chunks in memory while it travels.
const LARGE: u64 = 8 << 20;
/// Large files on their way to one place at once.
const LARGE_SLOTS: usize = 4;
/// Files being encrypted or decrypted at once.
const CRYPT_SLOTS: usize = 2;
/// Programs that run at once.
const PROGRAM_SLOTS: usize = 4;
/// Old rule versions remembered; items that need one are few and soon done.
const OLD_RULES: usize = 256;

impl Core {
    pub fn arrangement(&self) -> Arc<Arrangement> {
        self.arrangement.read().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// The rule that an item follows: today's if it has not begun, else the one it began with.
    pub async fn rule_of(&self, work: &Work) -> Result<Option<Arc<Rule>>, EngineError> {
        let arrangement = self.arrangement();
        let live = arrangement.rule(&work.rule);
        if let Some(live) = live.filter(|live| work.branch.is_none() || live.version == work.version) {
            return Ok(Some(live.rule.clone()));
        }
        if work.branch.is_none() && work.rule.as_str() != BY_HAND {
            return Ok(None);
        }
        let key = (work.rule.clone(), work.version);
        if let Some(rule) = self.old_rules.lock().unwrap_or_else(PoisonError::into_inner).get(&key) {
            return Ok(Some(rule.clone()));
        }
        let text = self.journal.version_text("rule", work.rule.as_str(), work.version).await?;
        let known = arrangement.known();
        let rule = text.and_then(|text| parse_book(&[("journal".to_owned(), text)], &known).ok()?.rules.pop());
        let Some(rule) = rule.map(Arc::new) else { return Ok(live.map(|live| live.rule.clone())) };
        let mut old = self.old_rules.lock().unwrap_or_else(PoisonError::into_inner);
        if old.len() >= OLD_RULES {
            old.clear();
        }
        old.insert(key, rule.clone());
        Ok(Some(rule))
    }

    /// Waits for a turn to send a large file to a place; small ones need none.
    pub async fn large_slot(&self, place: &Name, size: u64) -> Option<OwnedSemaphorePermit> {
        if size <= LARGE {
            return None;
        }
        let slots = {
            let mut all = self.large_slots.lock().unwrap_or_else(PoisonError::into_inner);
            all.entry(place.clone()).or_insert_with(|| Arc::new(Semaphore::new(LARGE_SLOTS))).clone()
        };
        slots.acquire_owned().await.ok()
    }

    /// Notes a place's failure; answers whether that is news.
    pub fn place_failed(&self, error: &PlaceError) -> bool {
        let news = self.health.failed(error);
        if news {
            tracing::warn!(place = %error.place, %error, "place failed");
            self.events.tell(Event::Place { place: error.place.clone() });
            self.remember(vec![error.place.to_string()], "away", Some(error.to_string()));
            self.place_news.notify_one();
        }
        news
    }

    /// When what failed for this reason is tried again, as the place says where it failed.
    pub fn retry_at(&self, failure: &FailureKind) -> Option<RetryPolicy> {
        let FailureKind::Place(error) = failure else { return None };
        self.arrangement().limits.get(&error.place)?.retry.clone()
    }

    /// A place works again: what waits for it need not wait longer.
    pub fn place_well(&self, place: &Name) {
        self.events.tell(Event::Place { place: place.clone() });
        self.remember(vec![place.to_string()], "well", None);
        let arrangement = self.arrangement();
        self.claims.hurry(|rule, _| arrangement.rule(rule).is_some_and(|live| live.rule.places().contains(place)));
    }

    /// Records how places do. It is only for people: nobody waits for it.
    fn remember(&self, places: Vec<String>, state: &'static str, why: Option<String>) {
        let journal = self.journal.clone();
        self.tracker.spawn(async move {
            if let Err(error) = journal.note_states(places, state, why, clock::now()).await {
                tracing::warn!(%error, "how a place does could not be recorded");
            }
        });
    }

    /// Removes an item's files from the work folder.
    pub async fn clear_work(&self, work: &Work) {
        // Only what an item made there may lie there, and of that its hand tells.
        if work.hand.is_none() {
            return;
        }
        let (folder, prefix) = (self.work_folder.root().to_owned(), format!("{}-", work.item));
        let cleared = tokio::task::spawn_blocking(move || {
            for entry in fs::read_dir(&folder)?.flatten() {
                if entry.file_name().to_string_lossy().starts_with(&prefix) {
                    remove_work(&entry)?;
                }
            }
            Ok::<(), std::io::Error>(())
        });
        if let Ok(Err(error)) = cleared.await {
            tracing::warn!(item = work.item, %error, "a work file cannot be removed");
        }
    }
}

/// The engine. Clones share it.
#[derive(Debug, Clone)]
pub struct Engine {
    core: Arc<Core>,
    /// Held until the process ends: two services on one data folder would undo each other.
    _lock: Arc<File>,
    started: Timestamp,
}

/// A file and what every rule says of it.
#[derive(Debug, Clone)]
pub struct ExplainedFile {
    /// The file.
    pub file: FilePath,
    /// Its facts; nothing if it is not there, then only names were compared.
    pub facts: Option<FileFacts>,
    /// What was known of it, rule by rule.
    pub rules: Vec<(Explanation, Option<String>)>,
}

/// How a place is doing.
#[derive(Debug, Clone)]
pub struct PlaceStatus {
    /// Its name.
    pub name: Name,
    /// How to reach it.
    pub spec: PlaceSpec,
    /// Its text in the book.
    pub text: String,
    /// The last failure, if the last contact failed.
    pub error: Option<PlaceError>,
    /// The last contact.
    pub at: Option<Timestamp>,
    /// Since when it fails.
    pub since: Option<Timestamp>,
    /// When it is tried again.
    pub again: Option<Timestamp>,
    /// Rules that watch it or write to it.
    pub rules: Vec<Name>,
}

fn lock(data: &Path) -> Result<File, EngineError> {
    let failed = |source| EngineError::Data { path: data.to_owned(), source };
    fs::create_dir_all(data).map_err(failed)?;
    use std::os::unix::fs::PermissionsExt;
    fs::set_permissions(data, fs::Permissions::from_mode(0o700)).map_err(failed)?;
    let file = File::create(data.join("lock")).map_err(failed)?;
    match file.try_lock() {
        Ok(()) => Ok(file),
        Err(fs::TryLockError::WouldBlock) => Err(EngineError::Locked(data.to_owned())),
        Err(fs::TryLockError::Error(source)) => Err(failed(source)),
    }
}

/// Removes something from the work folder: a file, or a folder with what was taken out of an archive.
fn remove_work(entry: &fs::DirEntry) -> std::io::Result<()> {
    if entry.file_type()?.is_dir() { fs::remove_dir_all(entry.path()) } else { fs::remove_file(entry.path()) }
}

impl Engine {
    /// Opens the data folder, finishes what a stop cut short, and begins to watch.
    pub async fn start(options: EngineOptions) -> Result<Self, EngineError> {
        let lock = lock(&options.data)?;
        let failed = |source| EngineError::Data { path: options.data.clone(), source };
        let work = options.data.join("work");
        fs::create_dir_all(&work).map_err(failed)?;
        let outbox = options.data.join("outbox");
        fs::create_dir_all(&outbox).map_err(failed)?;
        let journal = Journal::open(&options.data).await?;
        let keys = Keys::new(journal.clone(), Vault::open(&options.data)?);
        let instance = match journal.setting("instance").await? {
            Some(instance) => instance,
            None => {
                let instance = format!("{:06x}", clock::now().as_nanosecond() as u64 & 0xff_ffff);
                journal.set_setting("instance", &instance).await?;
                instance
            }
        };
        let (intake, sightings) = watch::Intake::new();
        let cancel = CancellationToken::new();
        let core = Arc::new(Core {
            journal,
            keys,
            events: Events::new(),
            health: HealthBook::default(),
            sign_ins: SignIns::default(),
            claims: Claims::new(cancel.clone()),
            intake,
            work_folder: Folder::new(Name::new("work").expect("a plain name"), work),
            instance,
            cancel,
            tracker: TaskTracker::new(),
            arrangement_changed: Notify::new(),
            place_news: Notify::new(),
            warnings: std::sync::Mutex::default(),
            stopping: std::sync::Mutex::default(),
            chain_news: Notify::new(),
            mail_news: Notify::new(),
            outbox,
            programs: options.programs.unwrap_or_else(|| options.data.join("programs.toml")),
            joins: Joins::default(),
            deadlines: Deadlines::default(),
            crypt_slots: Semaphore::new(CRYPT_SLOTS),
            program_slots: Semaphore::new(PROGRAM_SLOTS),
            large_slots: std::sync::Mutex::default(),
            arrangement: RwLock::default(),
            old_rules: std::sync::Mutex::default(),
        });
        let engine = Self { core, _lock: Arc::new(lock), started: clock::now() };
        engine.reload().await?;
        engine.clean_work_folder().await?;
        outbox::clean(&engine.core).await?;
        runner::fetch(&engine.core).await;
        let core = &engine.core;
        core.tracker.spawn(watch::take_in(core.clone(), sightings));
        core.tracker.spawn(runner::run(core.clone()));
        core.tracker.spawn(watch::supervise(core.clone()));
        core.tracker.spawn(scheduler::run(core.clone()));
        core.tracker.spawn(join::run(core.clone()));
        core.tracker.spawn(chain::run(core.clone()));
        core.tracker.spawn(outbox::run(core.clone()));
        core.tracker.spawn(probe::run(core.clone()));
        // Nobody knows how they did while the service was not there.
        core.remember(core.arrangement().specs.keys().map(ToString::to_string).collect(), "unknown", None);
        Ok(engine)
    }

    /// Stops taking files in, lets running steps come to a safe point, closes the journal.
    pub async fn stop(&self) {
        self.core.cancel.cancel();
        self.core.claims.close();
        self.core.tracker.close();
        if tokio::time::timeout(STOP_WITHIN, self.core.tracker.wait()).await.is_err() {
            tracing::warn!("some steps did not come to an end; they go on at the next start");
        }
        self.core.journal.close().await;
    }

    /// Files in the work folder whose items are at an end.
    async fn clean_work_folder(&self) -> Result<(), EngineError> {
        let root = self.core.work_folder.root().to_owned();
        let failed = |source| EngineError::Data { path: root.clone(), source };
        for entry in fs::read_dir(&root).map_err(failed)? {
            let entry = entry.map_err(failed)?;
            let name = entry.file_name().to_string_lossy().into_owned();
            let item = name.split('-').next().and_then(|id| id.parse::<i64>().ok());
            let open = match item {
                Some(item) => {
                    let work = self.core.journal.work(item).await?;
                    work.is_some_and(|w| !matches!(w.state, ItemState::Done | ItemState::Skipped))
                }
                None => false,
            };
            if !open || name.ends_with(".part") {
                remove_work(&entry).map_err(failed)?;
            }
        }
        Ok(())
    }

    /// Has a mail that was not sent tried again now.
    ///
    /// # Errors
    ///
    /// If there is no such mail, or it was sent.
    pub async fn mail_again(&self, id: i64) -> Result<(), EngineError> {
        if !self.core.journal.mail_again(id, clock::now()).await? {
            return Err(EngineError::NotNow(format!("there is no mail {id} that waits or was refused")));
        }
        self.forget_warnings();
        self.core.mail_news.notify_one();
        Ok(())
    }

    /// The journal, to read from.
    pub fn journal(&self) -> &Journal {
        &self.core.journal
    }

    /// When this engine started.
    pub fn started(&self) -> Timestamp {
        self.started
    }

    /// What is arranged now.
    pub fn arrangement(&self) -> Arc<Arrangement> {
        self.core.arrangement()
    }

    /// What happens from now on.
    pub fn events(&self) -> broadcast::Receiver<Event> {
        self.core.events.subscribe()
    }

    /// What moves now.
    pub fn moving(&self) -> Vec<Moving> {
        self.core.events.moving()
    }

    fn forget_warnings(&self) {
        *self.core.warnings.lock().unwrap_or_else(PoisonError::into_inner) = None;
    }

    async fn reload(&self) -> Result<(), EngineError> {
        let sections = self.core.journal.sections().await?;
        let files: Vec<_> = sections.iter().map(|s| (format!("{}.{}", s.kind, s.name), s.text.clone())).collect();
        let book = parse_book(&files, &Known::default()).map_err(EngineError::Book)?;
        let old = self.core.arrangement();
        let mut new = Arrangement::default();
        for (name, spec) in &book.places {
            let text = sections.iter().find(|s| s.kind == "place" && s.name == name.as_str());
            let text = text.map(|s| s.text.clone()).unwrap_or_default();
            let place = match (old.specs.get(name), old.places.get(name)) {
                (Some(same), Some(Ok(place))) if same == spec && old.limits.get(name) == book.limits.get(name) => {
                    Ok(place.clone())
                }
                _ => {
                    self.core.health.forget(name);
                    self.build(name, spec, book.limits.get(name)).await
                }
            };
            new.places.insert(name.clone(), place);
            new.specs.insert(name.clone(), spec.clone());
            new.texts.insert(name.clone(), text);
        }
        new.limits = book.limits;
        new.partners = book.partners;
        new.calendars = book.calendars;
        new.databases = book.databases;
        for rule in book.rules {
            let Some(section) = sections.iter().find(|s| s.kind == "rule" && s.name == rule.name.as_str()) else {
                continue;
            };
            new.rules.push(LiveRule {
                rule: Arc::new(rule),
                version: section.version,
                is_on: section.is_on,
                text: section.text.as_str().into(),
                changed: section.changed,
            });
        }
        let order: BTreeMap<_, _> = sections.iter().map(|s| ((s.kind.as_str(), s.name.as_str()), s.position)).collect();
        new.rules.sort_by_key(|live| order.get(&("rule", live.rule.name.as_str())).copied());
        *self.core.arrangement.write().unwrap_or_else(PoisonError::into_inner) = Arc::new(new);
        self.forget_warnings();
        self.core.arrangement_changed.notify_waiters();
        self.core.events.tell(Event::Book);
        Ok(())
    }
}
