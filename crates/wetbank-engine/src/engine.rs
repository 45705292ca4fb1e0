//! The engine as a whole: starting, asking, changing, stopping.

use std::{
    collections::{BTreeMap, HashMap},
    fs::{self, File},
    path::{Path, PathBuf},
    sync::{Arc, PoisonError, RwLock},
    time::Duration,
};

use jiff::Timestamp;
use secrecy::SecretString;
use tokio::sync::{Notify, OwnedSemaphorePermit, Semaphore, broadcast};
use tokio_util::{sync::CancellationToken, task::TaskTracker};
use wetbank_core::{
    Book, Explanation, FileFacts, FilePath, ItemState, Name, PlaceSpec, Problem, RelPath, Rule, SftpSignIn, explain,
    parse_book,
};
use wetbank_crypt::Vault;
use wetbank_journal::{ItemChange, Journal, Sighting, Work};
use wetbank_places::{
    Entry, EntryKind, Folder, Place, PlaceError, PlaceErrorKind, ProbeStep, Sftp, SftpCredentials, probe,
};

use crate::{
    Arrangement, BookDiff, EngineError, Event, KeyStatus, LiveRule, Moving, book, claims::Claims, clock,
    events::Events, health::HealthBook, keys::Keys, runner, watch,
};

/// How long running steps may take to notice that the service stops.
const STOP_WITHIN: Duration = Duration::from_secs(20);

/// How an engine is set up.
#[derive(Debug, Clone)]
pub struct EngineOptions {
    /// The folder with the journal, the vault's key and the work folder.
    pub data: PathBuf,
}

/// What all parts of the engine share.
#[derive(Debug)]
pub(crate) struct Core {
    pub journal: Journal,
    pub keys: Keys,
    pub events: Events,
    pub health: HealthBook,
    pub claims: Claims,
    pub intake: watch::Intake,
    pub work_folder: Folder,
    /// Tells this data folder's temporary files from those of other services.
    pub instance: String,
    pub cancel: CancellationToken,
    pub tracker: TaskTracker,
    pub arrangement_changed: Notify,
    /// Encrypting and decrypting keeps a processor busy: more at once would only take memory.
    pub crypt_slots: Semaphore,
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
        if work.branch.is_none() {
            return Ok(None);
        }
        let key = (work.rule.clone(), work.version);
        if let Some(rule) = self.old_rules.lock().unwrap_or_else(PoisonError::into_inner).get(&key) {
            return Ok(Some(rule.clone()));
        }
        let text = self.journal.version_text("rule", work.rule.as_str(), work.version).await?;
        let places: Vec<Name> = arrangement.specs.keys().cloned().collect();
        let rule = text.and_then(|text| parse_book(&[("journal".to_owned(), text)], &places).ok()?.rules.pop());
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
        }
        news
    }

    /// A place works again: what waits for it need not wait longer.
    pub fn place_well(&self, place: &Name) {
        self.events.tell(Event::Place { place: place.clone() });
        let arrangement = self.arrangement();
        self.claims.hurry(|work| arrangement.rule(&work.rule).is_some_and(|live| live.rule.places().contains(place)));
    }

    /// Removes an item's files from the work folder.
    pub async fn clear_work(&self, item: i64, steps: usize) {
        for step in 0..=steps {
            for end in ["", ".part"] {
                let path = self.work_folder.root().join(format!("{item}-{step}{end}"));
                match tokio::fs::remove_file(&path).await {
                    Err(error) if error.kind() != std::io::ErrorKind::NotFound => {
                        tracing::warn!(path = %path.display(), %error, "a work file cannot be removed");
                    }
                    _ => {}
                }
            }
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

impl Engine {
    /// Opens the data folder, finishes what a stop cut short, and begins to watch.
    pub async fn start(options: EngineOptions) -> Result<Self, EngineError> {
        let lock = lock(&options.data)?;
        let failed = |source| EngineError::Data { path: options.data.clone(), source };
        let work = options.data.join("work");
        fs::create_dir_all(&work).map_err(failed)?;
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
        let core = Arc::new(Core {
            journal,
            keys,
            events: Events::new(),
            health: HealthBook::default(),
            claims: Claims::default(),
            intake,
            work_folder: Folder::new(Name::new("work").expect("a plain name"), work),
            instance,
            cancel: CancellationToken::new(),
            tracker: TaskTracker::new(),
            arrangement_changed: Notify::new(),
            crypt_slots: Semaphore::new(CRYPT_SLOTS),
            large_slots: std::sync::Mutex::default(),
            arrangement: RwLock::default(),
            old_rules: std::sync::Mutex::default(),
        });
        let engine = Self { core, _lock: Arc::new(lock), started: clock::now() };
        engine.reload().await?;
        engine.clean_work_folder().await?;
        runner::fetch(&engine.core).await;
        let core = &engine.core;
        core.tracker.spawn(watch::take_in(core.clone(), sightings));
        core.tracker.spawn(runner::run(core.clone()));
        core.tracker.spawn(watch::supervise(core.clone()));
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
                fs::remove_file(entry.path()).map_err(failed)?;
            }
        }
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

    async fn reload(&self) -> Result<(), EngineError> {
        let sections = self.core.journal.sections().await?;
        let files: Vec<_> = sections.iter().map(|s| (format!("{}.{}", s.kind, s.name), s.text.clone())).collect();
        let book = parse_book(&files, &[]).map_err(EngineError::Book)?;
        let old = self.core.arrangement();
        let mut new = Arrangement::default();
        for (name, spec) in &book.places {
            let text = sections.iter().find(|s| s.kind == "place" && s.name == name.as_str());
            let text = text.map(|s| s.text.clone()).unwrap_or_default();
            let place = match (old.specs.get(name), old.places.get(name)) {
                (Some(same), Some(Ok(place))) if same == spec => Ok(place.clone()),
                _ => {
                    self.core.health.forget(name);
                    self.build(name, spec).await
                }
            };
            new.places.insert(name.clone(), place);
            new.specs.insert(name.clone(), spec.clone());
            new.texts.insert(name.clone(), text);
        }
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
        self.core.arrangement_changed.notify_waiters();
        self.core.events.tell(Event::Book);
        Ok(())
    }

    async fn build(&self, name: &Name, spec: &PlaceSpec) -> Result<Arc<dyn Place>, PlaceError> {
        let refused = |error: EngineError| PlaceError {
            kind: PlaceErrorKind::Refused,
            place: name.clone(),
            call: "sign in to",
            path: RelPath::root(),
            detail: error.to_string(),
        };
        match spec {
            PlaceSpec::Folder { root } => Ok(Arc::new(Folder::new(name.clone(), root))),
            PlaceSpec::Sftp(sftp) => {
                let credentials = match &sftp.sign_in {
                    SftpSignIn::Password(secret) => {
                        SftpCredentials::Password(self.core.keys.secret(secret.as_str()).await.map_err(refused)?)
                    }
                    SftpSignIn::Key { key, passphrase } => SftpCredentials::Key {
                        key: self.core.keys.secret(key.as_str()).await.map_err(refused)?,
                        passphrase: match passphrase {
                            Some(name) => Some(self.core.keys.secret(name.as_str()).await.map_err(refused)?),
                            None => None,
                        },
                    },
                };
                Ok(Arc::new(Sftp::new(name.clone(), sftp.clone(), credentials)))
            }
        }
    }

    // The book.

    /// Reads a proposed book. Places of the book in force count as known unless `whole`.
    pub fn check_book(&self, files: &[(String, String)], whole: bool) -> Result<Book, Vec<Problem>> {
        let known: Vec<Name> = if whole { Vec::new() } else { self.core.arrangement().specs.keys().cloned().collect() };
        parse_book(files, &known)
    }

    /// How a proposed book differs from the one in force.
    pub async fn diff_book(&self, files: &[(String, String)], whole: bool) -> Result<BookDiff, EngineError> {
        let book = self.check_book(files, whole).map_err(EngineError::Book)?;
        Ok(book::diff(&self.core.journal.sections().await?, &book.sections, whole))
    }

    /// Puts a proposed book in force. With `whole`, what it does not have is removed.
    pub async fn apply_book(
        &self,
        files: &[(String, String)],
        whole: bool,
        who: &str,
    ) -> Result<BookDiff, EngineError> {
        let book = self.check_book(files, whole).map_err(EngineError::Book)?;
        let sections = self.core.journal.sections().await?;
        let diff = book::diff(&sections, &book.sections, whole);
        let order = book::order(&sections, &book, whole);
        self.change(&diff, order, who).await?;
        Ok(diff)
    }

    async fn change(&self, diff: &BookDiff, order: Vec<(String, String)>, who: &str) -> Result<(), EngineError> {
        let put = diff.changes.iter().filter_map(|c| Some((c.kind.clone(), c.name.clone(), c.new.clone()?))).collect();
        let gone = diff.changes.iter().filter(|c| c.new.is_none()).map(|c| (c.kind.clone(), c.name.clone())).collect();
        self.core.journal.change_book(put, gone, order, who, clock::now()).await?;
        self.reload().await
    }

    /// Removes a section, if nothing else in the book needs it.
    pub async fn remove_section(&self, kind: &str, name: &str, who: &str) -> Result<(), EngineError> {
        let sections = self.core.journal.sections().await?;
        if !sections.iter().any(|s| s.kind == kind && s.name == name) {
            return Err(EngineError::Unknown {
                kind: if kind == "rule" { "rule" } else { "place" },
                name: name.to_owned(),
            });
        }
        let rest: Vec<_> = sections
            .iter()
            .filter(|s| !(s.kind == kind && s.name == name))
            .map(|s| (format!("{}.{}", s.kind, s.name), s.text.clone()))
            .collect();
        self.apply_book(&rest, true, who).await?;
        Ok(())
    }

    /// The book in force as one text.
    pub async fn export_book(&self) -> Result<String, EngineError> {
        let sections = self.core.journal.sections().await?;
        let (places, rules): (Vec<_>, Vec<_>) = sections.into_iter().partition(|s| s.kind == "place");
        Ok(places.iter().chain(&rules).map(|s| s.text.trim_end()).collect::<Vec<_>>().join("\n\n") + "\n")
    }

    /// Switches a rule on or off.
    pub async fn switch(&self, rule: &str, is_on: bool) -> Result<(), EngineError> {
        if !self.core.journal.switch_rule(rule, is_on).await? {
            return Err(EngineError::unknown("rule", rule));
        }
        self.reload().await
    }

    // Secrets and keys.

    /// Keeps a secret; places that need it sign in anew.
    pub async fn set_secret(&self, name: &str, secret: &SecretString) -> Result<(), EngineError> {
        Name::new(name).map_err(|e| EngineError::NotNow(e.to_string()))?;
        self.core.keys.set_secret(name, secret).await?;
        self.rebuild_users_of(name).await
    }

    /// Removes a secret that no place needs.
    pub async fn remove_secret(&self, name: &str) -> Result<(), EngineError> {
        let user = self
            .core
            .arrangement()
            .specs
            .iter()
            .find_map(|(place, spec)| spec.secrets().iter().any(|s| s.as_str() == name).then(|| place.clone()));
        if let Some(place) = user {
            return Err(EngineError::NotNow(format!(
                "the place \"{place}\" needs the secret \"{name}\"; change the place first"
            )));
        }
        if !self.core.journal.remove_secret(name).await? {
            return Err(EngineError::unknown("secret", name));
        }
        Ok(())
    }

    async fn rebuild_users_of(&self, secret: &str) -> Result<(), EngineError> {
        let mut arrangement = (*self.core.arrangement()).clone();
        for (name, spec) in arrangement.specs.clone() {
            if spec.secrets().iter().any(|s| s.as_str() == secret) {
                self.core.health.forget(&name);
                arrangement.places.insert(name.clone(), self.build(&name, &spec).await);
            }
        }
        *self.core.arrangement.write().unwrap_or_else(PoisonError::into_inner) = Arc::new(arrangement);
        self.core.arrangement_changed.notify_waiters();
        self.core.claims.hurry(|_| true);
        Ok(())
    }

    /// Keeps an OpenPGP key.
    pub async fn import_key(
        &self,
        name: &str,
        export: &[u8],
        passphrase: Option<&SecretString>,
    ) -> Result<KeyStatus, EngineError> {
        Name::new(name).map_err(|e| EngineError::NotNow(e.to_string()))?;
        self.core.keys.import(name, export, passphrase).await
    }

    /// Every OpenPGP key.
    pub async fn keys(&self) -> Result<Vec<KeyStatus>, EngineError> {
        self.core.keys.statuses().await
    }

    /// A key as armoured text.
    pub async fn export_key(&self, name: &str, with_secret: bool) -> Result<String, EngineError> {
        self.core.keys.export(name, with_secret).await
    }

    /// Removes a key.
    pub async fn remove_key(&self, name: &str) -> Result<(), EngineError> {
        if !self.core.journal.remove_key(name).await? {
            return Err(EngineError::unknown("key", name));
        }
        Ok(())
    }

    // Places.

    /// A place ready to use.
    pub fn place(&self, name: &str) -> Result<Arc<dyn Place>, EngineError> {
        let arrangement = self.core.arrangement();
        let name = Name::new(name).map_err(|_| EngineError::unknown("place", name))?;
        if !arrangement.specs.contains_key(&name) {
            return Err(EngineError::unknown("place", name));
        }
        Ok(arrangement.place(&name)?)
    }

    /// How every place is doing.
    pub fn places(&self) -> Vec<PlaceStatus> {
        let arrangement = self.core.arrangement();
        arrangement
            .specs
            .iter()
            .map(|(name, spec)| {
                let health = self.core.health.of(name);
                let broken = arrangement.places.get(name).and_then(|p| p.as_ref().err().cloned());
                PlaceStatus {
                    name: name.clone(),
                    spec: spec.clone(),
                    text: arrangement.texts.get(name).cloned().unwrap_or_default(),
                    error: broken.or(health.error),
                    at: health.at,
                    since: health.since,
                    again: health.paused_until,
                    rules: arrangement
                        .rules
                        .iter()
                        .filter(|live| live.rule.places().contains(name))
                        .map(|live| live.rule.name.clone())
                        .collect(),
                }
            })
            .collect()
    }

    /// Tests a place step by step, as the service.
    pub async fn test_place(&self, name: &str, write: bool) -> Result<Vec<ProbeStep>, EngineError> {
        let place = self.place(name)?;
        let steps = probe(place.as_ref(), write).await;
        match steps.iter().find_map(|step| step.outcome.as_ref().err()) {
            Some(error) => {
                self.core.place_failed(error);
            }
            None => {
                self.core.health.well(place.name());
                self.core.place_well(place.name());
            }
        }
        Ok(steps)
    }

    /// The host key that an SFTP place's server shows now.
    pub async fn host_key(&self, name: &str) -> Result<Option<String>, EngineError> {
        let arrangement = self.core.arrangement();
        let key = Name::new(name).map_err(|_| EngineError::unknown("place", name))?;
        match arrangement.specs.get(&key) {
            Some(PlaceSpec::Sftp(spec)) => Ok(Some(wetbank_places::HostKey::fetch(&key, spec).await?.to_string())),
            Some(_) => Ok(None),
            None => Err(EngineError::unknown("place", name)),
        }
    }

    /// Writes a confirmed host key into the place's text in the book.
    pub async fn pin_host_key(&self, name: &str, fingerprint: &str, who: &str) -> Result<(), EngineError> {
        let sections = self.core.journal.sections().await?;
        let section = sections
            .iter()
            .find(|s| s.kind == "place" && s.name == name)
            .ok_or_else(|| EngineError::unknown("place", name))?;
        let text = book::with_host_key(&section.text, name, fingerprint)
            .ok_or_else(|| EngineError::NotNow(format!("the text of place \"{name}\" cannot be changed")))?;
        self.apply_book(&[(format!("place.{name}"), text)], false, who).await?;
        Ok(())
    }

    // Rules and files.

    /// What every rule, or one, says of a file.
    pub async fn explain(&self, file: &FilePath, rule: Option<&str>) -> Result<ExplainedFile, EngineError> {
        let place = self.place(file.place.as_str())?;
        let entry = match place.stat(&file.path).await {
            Ok(entry) => Some(entry),
            Err(e) if e.kind == PlaceErrorKind::NotFound => None,
            Err(e) => return Err(e.into()),
        };
        if let Some(entry) = entry.as_ref().filter(|e| e.kind != EntryKind::File) {
            let what = match entry.kind {
                EntryKind::Folder => "a folder",
                EntryKind::Link => "a symbolic link; links are never followed",
                _ => "a pipe or device",
            };
            return Err(EngineError::NotNow(format!("{file} is {what}; no rule takes it")));
        }
        let now = clock::now();
        let facts = entry.as_ref().map(|entry| FileFacts::new(file, &entry.fingerprint));
        let assumed = facts.clone().unwrap_or_else(|| FileFacts {
            place: file.place.clone(),
            path: file.path.clone(),
            size: 0,
            modified: now,
        });
        let arrangement = self.core.arrangement();
        let mut rules = Vec::new();
        for live in &arrangement.rules {
            if rule.is_some_and(|name| name != live.rule.name.as_str()) {
                continue;
            }
            let explanation = explain(&live.rule, &assumed, now);
            let note = self.standing(live, file, entry.as_ref()).await?;
            rules.push((explanation, note));
        }
        if let (Some(name), true) = (rule, rules.is_empty()) {
            return Err(EngineError::unknown("rule", name));
        }
        Ok(ExplainedFile { file: file.clone(), facts, rules })
    }

    /// What, besides its conditions, decides whether a rule takes a file.
    async fn standing(
        &self,
        live: &LiveRule,
        file: &FilePath,
        entry: Option<&Entry>,
    ) -> Result<Option<String>, EngineError> {
        if !live.is_on {
            return Ok(Some("the rule is off".to_owned()));
        }
        let Some(entry) = entry else {
            return Ok(Some("the file is not there; only its name was compared".to_owned()));
        };
        let fingerprint = entry.fingerprint.to_string();
        if let Some(output) = self.core.journal.output(file).await?
            && output.0 == fingerprint
            && output.1 == live.rule.name.as_str()
            && !live.rule.arrival.own_results
        {
            return Ok(Some(
                "the rule made this file itself, so it leaves it alone (own-results = true would take it)".to_owned(),
            ));
        }
        Ok(match self.core.journal.sighting(&live.rule.name, file).await? {
            Some(known) if known == fingerprint => Some("the rule took this very file before".to_owned()),
            Some(_) => Some("the rule took an earlier state of this file".to_owned()),
            None => None,
        })
    }

    /// Runs a rule on a chosen file now, even if it took it before. Answers run and item.
    pub async fn run_now(&self, rule: &str, file: &FilePath) -> Result<(i64, i64), EngineError> {
        let arrangement = self.core.arrangement();
        let name = Name::new(rule).map_err(|_| EngineError::unknown("rule", rule))?;
        let live = arrangement.rule(&name).ok_or_else(|| EngineError::unknown("rule", rule))?;
        let entry = self.place(file.place.as_str())?.stat(&file.path).await?;
        if entry.kind != EntryKind::File {
            return Err(EngineError::NotNow(format!("{file} is no regular file")));
        }
        let facts = FileFacts::new(file, &entry.fingerprint);
        let explanation = explain(&live.rule, &facts, clock::now());
        if explanation.taken_by.is_none() {
            return Err(EngineError::NotNow(format!("the rule does not take {file}: {}", explanation.outcome)));
        }
        let sighting = Sighting {
            rule: name,
            version: live.version,
            file: file.clone(),
            fingerprint: entry.fingerprint.to_string(),
            size: entry.fingerprint.size,
            seen: clock::now(),
            own_results: true,
            by_hand: true,
        };
        let taken = self.core.journal.take_in(vec![sighting], clock::now()).await?;
        let works: Vec<Work> = taken.into_iter().flatten().collect();
        let Some(ids) = works.first().map(|work| (work.run, work.item)) else {
            return Err(EngineError::NotNow("the file was not taken in".to_owned()));
        };
        self.core.claims.add(works);
        Ok(ids)
    }

    /// Lets a held item go on, with the rule as it is today.
    pub async fn release(&self, item: i64) -> Result<(), EngineError> {
        let work = self.held(item).await?;
        let hold = self.core.journal.hold(item).await?;
        let arrangement = self.core.arrangement();
        let mut step = work.step;
        let mut version = work.version;
        let mut branch = work.branch;
        if let Some(live) = arrangement.rule(&work.rule) {
            let old = self.core.rule_of(&work).await?;
            let kinds = |rule: &Rule| -> Option<Vec<&'static str>> {
                Some(rule.branches.get(branch?)?.steps.iter().take(step).map(|s| s.kind()).collect())
            };
            // What was done is not done again: the item goes on where it stopped, as long as
            // today's rule did the same until there.
            if step == 0 || old.as_deref().and_then(kinds) == kinds(&live.rule) {
                version = live.version;
                if step == 0 {
                    branch = None;
                }
            }
        }
        // A person answered the question that the hold step asked.
        if hold.as_deref() == Some("asked") {
            step += 1;
            branch = work.branch;
        }
        self.end_hold(&work, ItemState::Queued, branch, step, version, None).await?;
        if let Some(work) = self.core.journal.work(item).await? {
            self.core.claims.add([work]);
        }
        Ok(())
    }

    /// Gives a held item up, for a stated reason.
    pub async fn dismiss(&self, item: i64, why: &str) -> Result<(), EngineError> {
        let work = self.held(item).await?;
        let why = Some(format!("dismissed: {why}"));
        self.end_hold(&work, ItemState::Skipped, work.branch, work.step, work.version, why).await?;
        self.core.clear_work(item, work.step).await;
        self.remove_leftover(&work).await;
        Ok(())
    }

    async fn held(&self, item: i64) -> Result<Work, EngineError> {
        let work = self.core.journal.work(item).await?.ok_or_else(|| EngineError::unknown("item", item))?;
        if work.state != ItemState::Held {
            return Err(EngineError::NotNow(format!("item {item} is not held, it is {}", work.state.as_str())));
        }
        Ok(work)
    }

    async fn end_hold(
        &self,
        work: &Work,
        state: ItemState,
        branch: Option<usize>,
        step: usize,
        version: i64,
        why: Option<String>,
    ) -> Result<(), EngineError> {
        let change = ItemChange {
            item: work.item,
            run: work.run,
            state,
            branch,
            step,
            hand: work.hand.clone(),
            failures: 0,
            due: None,
            why,
            at: clock::now(),
        };
        if !self.core.journal.end_hold(change, version).await? {
            return Err(EngineError::NotNow(format!("item {} is no longer held", work.item)));
        }
        let (run, item, rule) = (work.run, work.item, work.rule.clone());
        self.core.events.tell(Event::Item { run, item, rule, state, branch, step });
        Ok(())
    }

    /// A partial file that a dismissed item left at its target.
    async fn remove_leftover(&self, work: &Work) {
        let Ok(attempts) = self.core.journal.attempts(work.item).await else { return };
        let Some(target) = attempts.into_iter().rev().find_map(|attempt| attempt.target) else { return };
        let name = format!("{}{}-{}-{}", wetbank_core::TEMPORARY_PREFIX, self.core.instance, work.item, work.step);
        if let (Ok(place), Ok(path)) =
            (self.core.arrangement().place(&target.place), target.path.parent().join_name(name.as_bytes()))
        {
            match place.delete(&path).await {
                Err(error) if error.kind != PlaceErrorKind::NotFound => {
                    tracing::warn!(%error, "a partial file could not be removed");
                }
                _ => {}
            }
        }
    }
}
