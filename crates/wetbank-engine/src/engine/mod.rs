//! The engine as a whole: what its parts share, starting, stopping.

mod accounts;
mod agreements;
mod book;
mod build;
mod by_hand;
mod calendars;
mod databases;
mod drafts;
mod explain;
mod files;
mod items;
mod partners;
mod places;
mod rehearse;
mod runs;
mod secrets;
mod sections;
mod signals;
mod twins;

use agreements::SignIns;
pub use agreements::{CodeToType, SignInOffer, SignInState};
pub use book::By;
pub use by_hand::Begun;
pub use calendars::{CalendarImport, CalendarStatus};
pub use databases::DatabaseStatus;
pub use drafts::{Drafted, Proposed};
pub use explain::{ExplainedFile, RuleOnFile};
pub use items::StoppedRun;
pub use partners::{PartnerStatus, Warning};
pub use places::{NewAgreement, NewPlaceKeys, NewPlaceValue};
pub use rehearse::{Against, Counted, DayCount, Only, Over, Played, PlayedFile, Rehearsed, Show, WayCount};
pub use runs::NextFiring;
pub use sections::{Expected, SectionNow};
pub use signals::{SignalCall, SignalRefusal, signal_proof};
pub use twins::{Comparison, PassStatus, TwinStatus};

use std::{
    collections::BTreeMap,
    fs::{self, File},
    io,
    path::{Path, PathBuf},
    sync::Arc,
    time::Duration,
};

use jiff::Timestamp;
use tokio::sync::broadcast;
use tokio_util::{sync::CancellationToken, task::TaskTracker};
use wetbank_core::{ItemState, Known, Name, PlaceSpec, parse_book};
use wetbank_crypt::Vault;
use wetbank_journal::Journal;
use wetbank_places::{Folder, PlaceError};

use crate::{
    Arrangement, Declined, EngineError, Event, LiveRule, LiveTwin, Moving,
    arranged::{Arranged, Turn},
    clock,
    effects::{Effects, Passes, Slots, WorkFolder},
    events::Events,
    guarded::Guarded,
    intake::{self, Arrivals, Gatherings, Intake, Offers},
    keeping::Keeping,
    keys::Keys,
    moorings::{self, Moorings},
    outbox::{self, Outbox},
    queue::{Claims, Queue},
    record::Record,
    runner::{self, Runner},
    tidy,
    twins::{Differ, Keeper, Turns, run as keep_twins},
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
    /// Whether a new key of the vault may be made although secrets are sealed with another one.
    pub new_vault_key: bool,
}

/// The rooms of the engine. Nobody below is given more than the rooms that it works with.
#[derive(Debug)]
pub(crate) struct Core {
    pub journal: Journal,
    pub keys: Keys,
    pub events: Events,
    pub arranged: Arc<Arranged>,
    pub moorings: Arc<Moorings>,
    pub queue: Arc<Queue>,
    pub effects: Arc<Effects>,
    pub runner: Arc<Runner>,
    pub intake: Arc<Intake>,
    pub twins: Arc<Keeper>,
    outbox: Arc<Outbox>,
    sign_ins: SignIns,
    warnings: partners::KeptWarnings,
    cancel: CancellationToken,
    tracker: TaskTracker,
}

/// The engine. Clones share it.
#[derive(Debug, Clone)]
pub struct Engine {
    core: Arc<Core>,
    /// Held until the process ends: two services on one data folder would undo each other.
    _lock: Arc<File>,
    started: Timestamp,
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
    /// Twins that have a side there, or are told of by it.
    pub twins: Vec<Name>,
}

/// What waits for a place that was away need not wait longer.
async fn hurry(core: Arc<Core>) {
    loop {
        let back = tokio::select! {
            back = core.moorings.came_back() => back,
            () = core.cancel.cancelled() => return,
        };
        let arrangement = core.arranged.now();
        let waits = |rule: &Name| arrangement.rule(rule).map(|live| live.rule.places());
        core.queue
            .claims
            .hurry(|rule, _| waits(rule).is_some_and(|places| back.iter().any(|place| places.contains(place))));
    }
}

/// Makes a folder that nobody else may look into; one that is there stays as it is.
fn make_private(folder: &Path) -> io::Result<()> {
    use std::os::unix::fs::DirBuilderExt;
    match fs::DirBuilder::new().mode(0o700).create(folder) {
        Err(error) if error.kind() == io::ErrorKind::AlreadyExists => Ok(()),
        made => made,
    }
}

fn lock(data: &Path) -> Result<File, EngineError> {
    let failed = |cause| EngineError::Data { path: data.to_owned(), cause };
    use std::os::unix::fs::{OpenOptionsExt, PermissionsExt};
    if let Some(above) = data.parent() {
        fs::create_dir_all(above).map_err(failed)?;
    }
    make_private(data).map_err(failed)?;
    // A folder that somebody else made is theirs to close. What we put into it is closed by itself.
    let mode = fs::metadata(data).map_err(failed)?.permissions().mode();
    if mode & 0o077 != 0 {
        tracing::warn!(
            folder = %data.display(),
            "the data folder can be looked into by other users; close it with: chmod 700 {}",
            data.display()
        );
    }
    // The database gives the files beside it the mode that it has itself.
    let mut opening = fs::OpenOptions::new();
    opening.write(true).create(true).truncate(false).mode(0o600);
    let journal = opening.open(data.join("journal.db")).map_err(failed)?;
    if journal.metadata().map_err(failed)?.permissions().mode() & 0o077 != 0 {
        journal.set_permissions(fs::Permissions::from_mode(0o600)).map_err(failed)?;
    }
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
        let failed = |cause| EngineError::Data { path: options.data.clone(), cause };
        let work = options.data.join("work");
        make_private(&work).map_err(failed)?;
        let outbox = options.data.join("outbox");
        make_private(&outbox).map_err(failed)?;
        let journal = Journal::open(&options.data).await?;
        let makes_key = options.new_vault_key || journal.sealed().await? == 0;
        let keys = Keys::new(journal.clone(), Vault::open(&options.data, makes_key)?);
        let instance = match journal.setting("instance").await? {
            Some(instance) => instance,
            None => {
                let instance = format!("{:06x}", clock::now().as_nanosecond() as u64 & 0xff_ffff);
                journal.set_setting("instance", &instance).await?;
                instance
            }
        };
        let (cancel, tracker, events) = (CancellationToken::new(), TaskTracker::new(), Events::new());
        let record = Record::new(journal.clone(), cancel.clone());
        let arranged = Arc::new(Arranged::new(journal.clone()));
        let moorings = Moorings::new(record.clone(), arranged.clone(), events.clone(), tracker.clone());
        let moorings = Arc::new(moorings);
        let queue = Arc::new(Queue::new(events.clone(), Claims::new(cancel.clone())));
        let programs = options.programs.unwrap_or_else(|| options.data.join("programs.toml"));
        let (passes, asks) = Passes::new();
        let effects = Arc::new(Effects {
            record: record.clone(),
            arranged: arranged.clone(),
            moorings: moorings.clone(),
            keys: keys.clone(),
            events: events.clone(),
            work: WorkFolder { folder: Folder::new(Name::new("work").expect("a plain name"), work), instance },
            outbox: outbox.clone(),
            guarded: Guarded::new(&options.data, &programs),
            programs,
            slots: Slots::default(),
            passes,
        });
        let runner = Arc::new(Runner {
            record: record.clone(),
            arranged: arranged.clone(),
            moorings: moorings.clone(),
            queue: queue.clone(),
            effects: effects.clone(),
            cancel: cancel.clone(),
            tracker: tracker.clone(),
        });
        let (offers, sightings) = Offers::new();
        let (arrivals, came) = Arrivals::new(Keeping::of(&journal).await?);
        let intake = Arc::new(Intake {
            record: record.clone(),
            arranged: arranged.clone(),
            moorings: moorings.clone(),
            queue: queue.clone(),
            runner: runner.clone(),
            offers,
            arrivals,
            gatherings: Gatherings::default(),
            cancel: cancel.clone(),
            tracker: tracker.clone(),
        });
        let outbox = Arc::new(Outbox {
            record,
            arranged: arranged.clone(),
            queue: queue.clone(),
            folder: outbox,
            cancel: cancel.clone(),
        });
        let twins = Arc::new(Keeper {
            record: effects.record.clone(),
            arranged: arranged.clone(),
            queue: queue.clone(),
            effects: effects.clone(),
            runner: runner.clone(),
            cancel: cancel.clone(),
            tracker: tracker.clone(),
            turns: Turns::default(),
            differ: Differ::default(),
        });
        let (sign_ins, warnings) = (SignIns::default(), parking_lot::Mutex::default());
        let core = Arc::new(Core {
            journal,
            keys,
            events,
            arranged,
            moorings,
            queue,
            effects,
            runner,
            intake,
            twins,
            outbox,
            sign_ins,
            warnings,
            cancel,
            tracker,
        });
        let engine = Self { core, _lock: Arc::new(lock), started: clock::now() };
        engine.reload(&engine.core.arranged.turn().await).await?;
        engine.clean_work_folder().await?;
        outbox::clean(&engine.core.outbox).await?;
        engine.place_handed_in().await?;
        runner::fetch(&engine.core.runner).await;
        let core = &engine.core;
        core.tracker.spawn(intake::take_in(core.intake.clone(), sightings));
        core.tracker.spawn(intake::note_arrivals(core.journal.clone(), came, core.cancel.clone()));
        core.tracker.spawn(runner::run(core.runner.clone()));
        core.tracker.spawn(intake::supervise(core.intake.clone()));
        core.tracker.spawn(intake::clock(core.intake.clone()));
        core.tracker.spawn(intake::gatherings(core.intake.clone()));
        core.tracker.spawn(intake::chains(core.intake.clone()));
        core.tracker.spawn(runner::join(core.runner.clone()));
        core.tracker.spawn(keep_twins(core.twins.clone(), asks));
        core.tracker.spawn(outbox::run(core.outbox.clone()));
        core.tracker.spawn(moorings::probe(core.moorings.clone(), core.cancel.clone()));
        core.tracker.spawn(hurry(core.clone()));
        core.tracker.spawn(core.keys.clone().close_unused(core.cancel.clone()));
        core.tracker.spawn(tidy::run(core.journal.clone(), core.arranged.clone(), core.cancel.clone()));
        core.moorings.begin();
        Ok(engine)
    }

    /// Stops taking files in, lets running steps come to a safe point, closes the journal.
    pub async fn stop(&self) {
        self.core.cancel.cancel();
        self.core.queue.claims.close();
        self.core.tracker.close();
        if tokio::time::timeout(STOP_WITHIN, self.core.tracker.wait()).await.is_err() {
            tracing::warn!("some steps did not come to an end; they go on at the next start");
        }
        self.core.journal.close().await;
    }

    /// Files in the work folder whose items are at an end.
    async fn clean_work_folder(&self) -> Result<(), EngineError> {
        let root = self.core.effects.work.folder.root().to_owned();
        let failed = |cause| EngineError::Data { path: root.clone(), cause };
        for entry in fs::read_dir(&root).map_err(failed)? {
            let entry = entry.map_err(failed)?;
            let name = entry.file_name().to_string_lossy().into_owned();
            // An item has a folder; older versions named its files after it.
            let item = name.split('-').next().and_then(|id| id.parse::<i64>().ok());
            let open = match item {
                Some(item) => {
                    let work = self.core.journal.work(item).await?;
                    work.is_some_and(|w| !matches!(w.state, ItemState::Done | ItemState::Skipped))
                }
                None => false,
            };
            WorkFolder::tidy(&entry, open).map_err(failed)?;
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
            return Err(Declined::NoMail(id).into());
        }
        self.forget_warnings();
        self.core.queue.mails.notify_one();
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
        self.core.arranged.now()
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
        *self.core.warnings.lock() = None;
    }

    /// Puts what the journal has in force.
    async fn reload(&self, turn: &Turn<'_>) -> Result<(), EngineError> {
        let sections = self.core.journal.sections().await?;
        let files: Vec<_> = sections.iter().map(|s| (format!("{}.{}", s.kind, s.name), s.text.clone())).collect();
        let book = parse_book(&files, &Known::default()).map_err(EngineError::Book)?;
        let old = self.core.arranged.now();
        let mut new = Arrangement::default();
        for (name, spec) in &book.places {
            let text = sections.iter().find(|s| s.kind == "place" && s.name == name.as_str());
            let text = text.map(|s| s.text.clone()).unwrap_or_default();
            let place = match (old.specs.get(name), old.places.get(name)) {
                (Some(same), Some(Ok(place))) if same == spec && old.limits.get(name) == book.limits.get(name) => {
                    Ok(place.clone())
                }
                _ => {
                    self.core.moorings.forget(name);
                    self.build(name, spec, book.limits.get(name)).await
                }
            };
            new.places.insert(name.clone(), place);
            new.specs.insert(name.clone(), spec.clone());
            new.texts.insert(name.clone(), text);
        }
        new.limits = book.limits;
        new.partners = book.partners;
        new.accounts = book.accounts.into_iter().map(Arc::new).collect();
        new.calendars = book.calendars;
        new.databases = book.databases;
        let section_of = |kind: &str, name: &Name| sections.iter().find(|s| s.kind == kind && s.name == name.as_str());
        for twin in book.twins {
            let Some(section) = section_of("twin", &twin.name) else { continue };
            let Some(rule) = twin.rule() else { continue };
            new.twins.push(LiveTwin {
                rule: Arc::new(rule),
                twin: Arc::new(twin),
                version: section.version,
                is_on: section.is_on,
                text: section.text.as_str().into(),
                changed: section.changed,
            });
        }
        for rule in book.rules {
            let Some(section) = section_of("rule", &rule.name) else { continue };
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
        turn.put(new);
        self.forget_warnings();
        self.core.events.tell(Event::Book);
        Ok(())
    }
}
