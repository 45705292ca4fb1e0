//! The effects of steps. Each one: plan, write aside, verify, say what will be, commit.

use std::{
    io::{BufReader, BufWriter, Write},
    sync::Arc,
};

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use wetbank_core::{
    FileFacts, FilePath, Fingerprint, IfExists, Name, RelPath, Rule, Step, TEMPORARY_PREFIX, Target, Template,
    TemplateError, TemplateFacts,
};
use wetbank_crypt::{CryptError, Opening, PgpKey, Sealing};
use wetbank_journal::{AttemptStart, Intention, JournalError, Output, Work};
use wetbank_places::{Collision, Entry, Place, PlaceError, PlaceErrorKind};

use crate::{
    EngineError, clock,
    engine::Core,
    events::Moving,
    transfer::{Source, transfer},
};

/// A larger file is not sent in the hope that its name is free: that is looked up before.
const SENT_IN_HOPE: u64 = 1 << 20;
/// Free names tried before giving up on keeping both files.
const FREE_NAMES: u32 = 1000;

/// The file in hand after a step, as the journal keeps it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Hand {
    /// Where it lies; nothing means in our own work folder.
    pub place: Option<Name>,
    /// Its path there.
    pub path: RelPath,
    /// Its name for people and templates.
    pub name: RelPath,
    /// Its state.
    pub fingerprint: Fingerprint,
    /// Where the file that came is now, and its state; nothing once it is gone.
    pub original: Option<(FilePath, Fingerprint)>,
}

/// What is about to be committed, as the journal keeps it.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub(crate) struct Intent {
    /// The file that gets its final name.
    pub from: FilePath,
    /// Its final name.
    pub to: FilePath,
    /// Its state, which the rename keeps.
    pub fingerprint: Fingerprint,
    /// Whether a taken name may be replaced.
    pub replace: bool,
    /// A file to remove after the commit, in this state: the source of a move.
    pub then_remove: Option<(FilePath, Fingerprint)>,
    /// What the hand holds afterwards.
    pub hand: Hand,
}

/// A step that did what it should.
#[derive(Debug)]
pub(crate) struct StepDone {
    /// Its attempt, once one was journalled.
    pub attempt: Option<i64>,
    /// What the hand holds now.
    pub hand: Hand,
    /// Said about it, as in "it was there already".
    pub note: Option<String>,
    /// Whether nothing had to be done.
    pub skipped: bool,
    /// The size of its result.
    pub size: Option<u64>,
    /// A new name the file got, for trace.
    pub also_named: Option<String>,
    /// The path of the original is free again.
    pub freed: bool,
}

/// Why a step did not do what it should.
#[derive(Debug)]
pub(crate) struct StepFailure {
    pub attempt: Option<i64>,
    pub kind: FailureKind,
}

#[derive(Debug)]
pub(crate) enum FailureKind {
    /// It may work later by itself.
    Passing { code: String, why: String, remedy: String },
    /// A place is paused until then; this is no failure of the item.
    Paused { until: Timestamp, why: String },
    /// A person has to do something.
    Lasting { code: String, why: String, remedy: String },
    /// A place failed; what follows depends on how.
    Place(Box<PlaceError>),
    /// The journal could not be written; nothing is known to be recorded.
    Journal(String),
    /// The service stops; the next start goes on.
    Stopping,
}

impl From<PlaceError> for FailureKind {
    fn from(error: PlaceError) -> Self {
        Self::Place(Box::new(error))
    }
}

impl From<JournalError> for FailureKind {
    fn from(error: JournalError) -> Self {
        Self::Journal(error.to_string())
    }
}

impl From<TemplateError> for FailureKind {
    fn from(error: TemplateError) -> Self {
        Self::Lasting {
            code: "template".to_owned(),
            why: error.to_string(),
            remedy: "Correct the template in the rule, then release.".to_owned(),
        }
    }
}

impl From<CryptError> for FailureKind {
    fn from(error: CryptError) -> Self {
        let why = error.to_string();
        let (code, remedy) = match &error {
            CryptError::Unfit { .. } => ("key-unfit", "Import the new key under the same name, then release."),
            CryptError::NoKey => {
                ("no-key", "Import the key (or set the passphrase) this file was encrypted to, then release.")
            }
            CryptError::Damaged => ("damaged", "Ask the sender to send the file again; then dismiss this one."),
            CryptError::Signature(_) => (
                "signature",
                "Ask the sender whether the file is theirs; do not use it before. Then dismiss it, or change the rule and release.",
            ),
            CryptError::Io(_) => {
                return Self::Passing {
                    code: "work-folder".to_owned(),
                    why: format!("cannot write the work folder: {why}"),
                    remedy: "Free space on the disk that holds Wetbank's data folder.".to_owned(),
                };
            }
            _ => ("crypt", "Check the keys that the rule names, then release."),
        };
        Self::Lasting { code: code.to_owned(), why, remedy: remedy.to_owned() }
    }
}

impl From<EngineError> for FailureKind {
    fn from(error: EngineError) -> Self {
        match error {
            EngineError::Place(e) => e.into(),
            EngineError::Crypt(e) => e.into(),
            EngineError::Journal(e) => e.into(),
            other => Self::Lasting {
                code: "set-up".to_owned(),
                why: other.to_string(),
                remedy: "Mend that, then release.".to_owned(),
            },
        }
    }
}

/// One step of one item at work.
pub(crate) struct AtStep<'a> {
    pub core: &'a Arc<Core>,
    pub work: &'a Work,
    pub rule: &'a Rule,
    pub branch: usize,
    pub step: usize,
    pub kind: &'static str,
    pub hand: &'a Hand,
}

type Effect<T> = Result<T, FailureKind>;

impl AtStep<'_> {
    /// Does the step.
    pub async fn run(&self, step: &Step) -> Result<StepDone, StepFailure> {
        let mut attempt = None;
        let result = match step {
            Step::Encrypt { .. } => self.encrypt(step, &mut attempt).await,
            Step::Decrypt { .. } => self.decrypt(step, &mut attempt).await,
            Step::Copy(target) | Step::Deliver(target) => self.send(target, None, &mut attempt).await,
            Step::Move(target) => self.move_on(target, &mut attempt).await,
            Step::Rename { name, exists } => self.rename(name, *exists, &mut attempt).await,
            Step::Delete => self.delete(&mut attempt).await,
            Step::Hold { why } => Err(FailureKind::Lasting {
                code: "asked".to_owned(),
                why: why.clone(),
                remedy: "The rule asks a person: release to go on, or dismiss.".to_owned(),
            }),
        };
        self.core.events.end(self.work.item);
        result.map_err(|kind| StepFailure { attempt, kind })
    }

    /// The name of the temporary file of this step, the same at every attempt so that a broken
    /// write is found again, and different for every service so that none touches another's.
    fn temporary(&self, folder: &RelPath) -> RelPath {
        let name = format!("{TEMPORARY_PREFIX}{}-{}-{}", self.core.instance, self.work.item, self.step);
        folder.join_name(name.as_bytes()).expect("a plain name")
    }

    fn facts(&self) -> FileFacts {
        let folder = self.work.file.path.parent();
        let file = FilePath { place: self.work.file.place.clone(), path: folder.join(&self.hand.name) };
        FileFacts::new(&file, &self.hand.fingerprint)
    }

    fn with_facts<T>(&self, render: impl FnOnce(&TemplateFacts<'_>) -> T) -> T {
        let file = self.facts();
        let started = self.work.started;
        // The run's own time, so that every attempt plans the same names.
        render(&TemplateFacts { file: &file, rule: self.rule, run: self.work.run, started, now: started })
    }

    /// The place of a name, unless it is paused.
    fn place(&self, name: &Name) -> Effect<Arc<dyn Place>> {
        if let Some((until, error)) = self.core.health.paused(name) {
            return Err(FailureKind::Paused { until, why: error.to_string() });
        }
        Ok(self.core.arrangement().place(name)?)
    }

    fn source(&self) -> Effect<Source> {
        let place = match &self.hand.place {
            Some(name) => self.place(name)?,
            None => Arc::new(self.core.work_folder.clone()),
        };
        Ok(Source { place, path: self.hand.path.clone(), fingerprint: self.hand.fingerprint.clone() })
    }

    fn began(&self, attempt: i64, target: Option<FilePath>, intent: Option<&Intent>) -> AttemptStart {
        AttemptStart {
            id: attempt,
            item: self.work.item,
            branch: self.branch,
            step: self.step,
            kind: self.kind,
            number: self.work.failures + 1,
            began: clock::now(),
            target,
            intent: intent.map(|intent| serde_json::to_string(intent).expect("plain values serialise")),
        }
    }

    fn moving(&self, total: u64) -> Arc<std::sync::atomic::AtomicU64> {
        self.core.events.begin(Moving {
            run: self.work.run,
            item: self.work.item,
            rule: self.work.rule.clone(),
            file: self.work.file.clone(),
            branch: self.branch,
            step: self.step,
            kind: self.kind,
            total,
            done: Arc::default(),
            since: clock::now(),
        })
    }

    async fn start(&self, start: AttemptStart, attempt: &mut Option<i64>) -> Effect<()> {
        let id = start.id;
        self.core.journal.start_attempt(start).await?;
        *attempt = Some(id);
        Ok(())
    }

    /// Copies the file in hand to a target, or moves it there when `then_remove` is set.
    async fn send(
        &self,
        target: &Target,
        then_remove: Option<(FilePath, Fingerprint)>,
        attempt: &mut Option<i64>,
    ) -> Effect<StepDone> {
        let (folder, wanted) = self.with_facts(|facts| {
            let folder = target.folder.render_folder(facts)?;
            let path = target.name.render_name(&folder, facts)?;
            Ok::<_, TemplateError>((folder, path))
        })?;
        let place = self.place(&target.place)?;
        let source = self.source()?;
        let temporary = self.temporary(&folder);
        let mut to = FilePath { place: target.place.clone(), path: wanted };
        let id = self.core.journal.next_attempt();
        self.start(self.began(id, Some(to.clone()), None), attempt).await?;
        let refuses = target.exists == IfExists::Refuse && place.capabilities().refuses_atomically;
        let in_hope = refuses && self.hand.fingerprint.size <= SENT_IN_HOPE;
        let must_look = target.exists != IfExists::Replace && !in_hope;
        if must_look && let Some(taken) = existing(place.as_ref(), &to.path).await? {
            match target.exists {
                IfExists::Refuse => return Err(taken_name(&to, &taken).into()),
                IfExists::Replace => {}
                IfExists::KeepBoth => to.path = free_name(place.as_ref(), &to.path).await?,
                IfExists::SkipSame => {
                    if !same_content(&source, place.as_ref(), &to.path, &taken).await? {
                        return Err(taken_name(&to, &taken).into());
                    }
                    return Ok(StepDone {
                        attempt: Some(id),
                        hand: self.hand.clone(),
                        note: Some("the same file is there already".to_owned()),
                        skipped: true,
                        size: Some(taken.fingerprint.size),
                        also_named: None,
                        freed: false,
                    });
                }
            }
        }
        let _slot = self.core.large_slot(&to.place, self.hand.fingerprint.size).await;
        let done = self.moving(self.hand.fingerprint.size);
        let staging = match transfer(&source, &place, &temporary, done.clone(), &self.core.cancel).await {
            // Folders below the root are made when they are needed; the root itself never is.
            Err(e) if e.kind == PlaceErrorKind::NotFound && e.place == to.place && !folder.is_root() => {
                place.make_folder(&folder).await?;
                transfer(&source, &place, &temporary, done, &self.core.cancel).await
            }
            result => result,
        };
        let staging = match staging {
            Ok(staging) => staging,
            Err(_) if self.core.cancel.is_cancelled() => return Err(FailureKind::Stopping),
            Err(e) => return Err(e.into()),
        };
        self.core.health.well(&to.place);
        let arrived = staging.entry.fingerprint.clone();
        let moved = then_remove.is_some();
        let hand = if moved {
            Hand {
                place: Some(to.place.clone()),
                path: to.path.clone(),
                name: RelPath::from_bytes(to.path.name()).expect("a name of a path"),
                fingerprint: arrived.clone(),
                original: None,
            }
        } else {
            self.hand.clone()
        };
        let intent = Intent {
            from: FilePath { place: to.place.clone(), path: temporary },
            to: to.clone(),
            fingerprint: arrived.clone(),
            replace: target.exists == IfExists::Replace,
            then_remove,
            hand,
        };
        self.core
            .journal
            .intend(Intention {
                attempt: id,
                intent: serde_json::to_string(&intent).expect("plain values serialise"),
                target: to.clone(),
                size: arrived.size,
                sha256: staging.digests.sha256,
                blake3: staging.digests.blake3,
                output: Some(self.output(&to, &arrived)),
            })
            .await?;
        self.commit(place.as_ref(), id, intent).await
    }

    fn output(&self, file: &FilePath, fingerprint: &Fingerprint) -> Output {
        Output {
            file: file.clone(),
            fingerprint: fingerprint.to_string(),
            rule: self.work.rule.clone(),
            item: self.work.item,
            depth: self.work.depth,
        }
    }

    /// Carries out an intent that is in the journal.
    async fn commit(&self, place: &dyn Place, attempt: i64, intent: Intent) -> Effect<StepDone> {
        let collision = if intent.replace { Collision::Replace } else { Collision::Refuse };
        if let Err(error) = place.rename(&intent.from.path, &intent.to.path, collision).await {
            return Err(name_lost(place, &intent, error).await);
        }
        // A server may lie; on this machine the rename itself is the proof.
        if place.as_folder().is_some() {
            return finish_intent(self.core, attempt, intent, self.work).await;
        }
        let there = place.stat(&intent.to.path).await?;
        if there.fingerprint.size != intent.fingerprint.size {
            return Err(FailureKind::Passing {
                code: "verify".to_owned(),
                why: format!(
                    "{} has {} bytes after the transfer, {} were sent",
                    intent.to, there.fingerprint.size, intent.fingerprint.size
                ),
                remedy: "It is sent again.".to_owned(),
            });
        }
        finish_intent(self.core, attempt, intent, self.work).await
    }

    async fn move_on(&self, target: &Target, attempt: &mut Option<i64>) -> Effect<StepDone> {
        let here = self.hand.place.clone().map(|place| FilePath { place, path: self.hand.path.clone() });
        let Some(here) = here else { return self.send(target, None, attempt).await };
        let (folder, wanted) = self.with_facts(|facts| {
            let folder = target.folder.render_folder(facts)?;
            let path = target.name.render_name(&folder, facts)?;
            Ok::<_, TemplateError>((folder, path))
        })?;
        let to = FilePath { place: target.place.clone(), path: wanted };
        let (source, place) = (self.place(&here.place)?, self.place(&target.place)?);
        let same_place = here.place == target.place;
        let folders = source.as_folder().zip(place.as_folder()).is_some();
        if !same_place && !folders {
            return self.send(target, Some((here, self.hand.fingerprint.clone())), attempt).await;
        }
        // SkipSame must compare contents, and a copy does that.
        if target.exists == IfExists::SkipSame {
            return self.send(target, Some((here, self.hand.fingerprint.clone())), attempt).await;
        }
        match self.relocate(&here, to, folder, target.exists, attempt).await {
            Err(FailureKind::Place(e)) if e.kind == PlaceErrorKind::Unsupported => {
                self.send(target, Some((here, self.hand.fingerprint.clone())), attempt).await
            }
            result => result,
        }
    }

    async fn rename(&self, name: &Template, exists: IfExists, attempt: &mut Option<i64>) -> Effect<StepDone> {
        let folder = self.hand.path.parent();
        let path = self.with_facts(|facts| name.render_name(&folder, facts))?;
        let Some(place) = self.hand.place.clone() else {
            // What lies in the work folder only changes the name it goes by.
            let name = RelPath::from_bytes(path.name()).expect("a name of a path");
            return Ok(StepDone {
                attempt: None,
                hand: Hand { name, ..self.hand.clone() },
                note: None,
                skipped: false,
                size: None,
                also_named: Some(path.name_text()),
                freed: false,
            });
        };
        let here = FilePath { place: place.clone(), path: self.hand.path.clone() };
        self.relocate(&here, FilePath { place, path }, folder, exists, attempt).await
    }

    /// Gives a file another path without moving a byte.
    pub async fn relocate(
        &self,
        here: &FilePath,
        mut to: FilePath,
        folder: RelPath,
        exists: IfExists,
        attempt: &mut Option<i64>,
    ) -> Effect<StepDone> {
        let (source, place) = (self.place(&here.place)?, self.place(&to.place)?);
        if *here == to {
            return Ok(StepDone {
                attempt: None,
                hand: self.hand.clone(),
                note: Some("it is there already".to_owned()),
                skipped: true,
                size: None,
                also_named: None,
                freed: false,
            });
        }
        if !folder.is_root() {
            place.make_folder(&folder).await?;
        }
        if let Some(taken) = existing(place.as_ref(), &to.path).await? {
            match exists {
                IfExists::Replace => {}
                IfExists::KeepBoth => to.path = free_name(place.as_ref(), &to.path).await?,
                IfExists::Refuse | IfExists::SkipSame => return Err(taken_name(&to, &taken).into()),
            }
        }
        let there = source.stat(&here.path).await?;
        let was_original = self.hand.original.as_ref().is_some_and(|(file, _)| file == here);
        let intent = Intent {
            from: here.clone(),
            to: to.clone(),
            fingerprint: there.fingerprint.clone(),
            replace: exists == IfExists::Replace,
            then_remove: None,
            hand: Hand {
                place: Some(to.place.clone()),
                path: to.path.clone(),
                name: RelPath::from_bytes(to.path.name()).expect("a name of a path"),
                fingerprint: there.fingerprint.clone(),
                original: if was_original {
                    Some((to.clone(), there.fingerprint.clone()))
                } else {
                    self.hand.original.clone()
                },
            },
        };
        let id = self.core.journal.next_attempt();
        self.core.journal.note_output(self.output(&to, &there.fingerprint)).await?;
        self.start(self.began(id, Some(to.clone()), Some(&intent)), attempt).await?;
        let collision = if intent.replace { Collision::Replace } else { Collision::Refuse };
        match (source.as_folder(), place.as_folder()) {
            (Some(from), Some(into)) => into.move_in(from, &here.path, &to.path, collision).await?,
            _ => place.rename(&here.path, &to.path, collision).await?,
        }
        finish_intent(self.core, id, intent, self.work).await
    }

    async fn delete(&self, attempt: &mut Option<i64>) -> Effect<StepDone> {
        let id = self.core.journal.next_attempt();
        let target = self.hand.original.as_ref().map(|(file, _)| file.clone());
        self.start(self.began(id, target, None), attempt).await?;
        let note = match &self.hand.original {
            Some((file, fingerprint)) => remove(self.place(&file.place)?.as_ref(), file, fingerprint).await?,
            None => Some("it was gone already".to_owned()),
        };
        Ok(StepDone {
            attempt: Some(id),
            hand: Hand { original: None, ..self.hand.clone() },
            skipped: note.is_some(),
            note,
            size: None,
            also_named: None,
            freed: true,
        })
    }

    /// Removes the original at the end of its item.
    pub async fn remove_original(&self, attempt: &mut Option<i64>) -> Effect<StepDone> {
        self.delete(attempt).await
    }

    async fn encrypt(&self, step: &Step, attempt: &mut Option<i64>) -> Effect<StepDone> {
        let Step::Encrypt { to, passphrase, sign, armour, name } = step else {
            unreachable!("called for this step only")
        };
        let keys = self.core.keys.all().await?;
        let find = |name: &String| {
            keys.iter().position(|key| key.name == *name).ok_or_else(|| EngineError::unknown("key", name))
        };
        let recipients = to.iter().map(find).collect::<Result<Vec<_>, _>>()?;
        let signer = sign.as_ref().map(find).transpose()?;
        let passphrase = match passphrase {
            Some(secret) => Some(self.core.keys.secret(secret.as_str()).await?),
            None => None,
        };
        let (armour, file_name) = (*armour, self.hand.name.name_text());
        self.through_work(name, attempt, move |input, output| {
            let sealing = Sealing {
                recipients: recipients.iter().map(|&at| &keys[at]).collect(),
                passphrase: passphrase.as_ref(),
                signer: signer.map(|at| &keys[at]),
                armour,
                file_name,
            };
            wetbank_crypt::encrypt(input, output, &sealing, clock::now()).map(|()| None)
        })
        .await
    }

    async fn decrypt(&self, step: &Step, attempt: &mut Option<i64>) -> Effect<StepDone> {
        let Step::Decrypt { passphrase, signed_by, name } = step else { unreachable!("called for this step only") };
        let keys = self.core.keys.all().await?;
        for wanted in signed_by {
            if !keys.iter().any(|key| key.name == *wanted) {
                return Err(EngineError::unknown("key", wanted).into());
            }
        }
        let passphrase = match passphrase {
            Some(secret) => Some(self.core.keys.secret(secret.as_str()).await?),
            None => None,
        };
        let signed_by = signed_by.clone();
        self.through_work(name, attempt, move |input, output| {
            let opening = Opening {
                keys: keys.iter().collect::<Vec<&PgpKey>>(),
                passphrases: passphrase.iter().collect(),
                signed_by: keys.iter().filter(|key| signed_by.contains(&key.name)).collect(),
            };
            let opened = wetbank_crypt::decrypt(input, output, &opening, clock::now())?;
            Ok((!opened.signed_by.is_empty()).then(|| format!("signed by {}", opened.signed_by.join(", "))))
        })
        .await
    }

    /// Turns the file in hand into another one in the work folder. That folder is ours alone,
    /// so a broken attempt is simply done again.
    async fn through_work(
        &self,
        name: &Template,
        attempt: &mut Option<i64>,
        work: impl FnOnce(Reading, &mut dyn Write) -> Result<Option<String>, CryptError> + Send + 'static,
    ) -> Effect<StepDone> {
        let name = self.with_facts(|facts| name.render_name(&RelPath::root(), facts))?;
        let source = self.source()?;
        let id = self.core.journal.next_attempt();
        self.start(self.began(id, None, None), attempt).await?;
        let _slot = self.core.crypt_slots.acquire().await.expect("the semaphore is never closed");
        let before = source.place.stat(&source.path).await?;
        let done = self.moving(before.fingerprint.size);
        let path = RelPath::parse(&format!("{}-{}", self.work.item, self.step)).expect("a plain name");
        let part = self.core.work_folder.root().join(format!("{path}.part"));
        let last = self.core.work_folder.root().join(path.to_string());
        let reading = Reading::open(&source, done).await?;
        let broken = reading.broken.clone();
        let result = tokio::task::spawn_blocking(move || {
            // Whatever ends this early, what was written so far is worth nothing to anybody.
            let part = RemovedOnDrop(part);
            let file = create_private(&part.0)?;
            let mut output =
                Hashed { inner: BufWriter::with_capacity(256 << 10, file), hashing: Default::default(), size: 0 };
            let note = work(reading, &mut output)?;
            output.inner.flush()?;
            output.inner.get_ref().sync_data()?;
            std::fs::rename(&part.0, &last)?;
            Ok::<_, CryptError>((note, output.hashing.finish(), output.size))
        })
        .await
        .map_err(|e| EngineError::NotNow(format!("the step broke off: {e}")))?;
        if let Some(error) = broken.lock().unwrap_or_else(std::sync::PoisonError::into_inner).take() {
            return Err(error.into());
        }
        let (note, digests, size) = result?;
        let after = source.place.stat(&source.path).await?;
        if after.fingerprint != before.fingerprint {
            return Err(FailureKind::Passing {
                code: "busy".to_owned(),
                why: format!("\"{}\" changed while it was read", source.path),
                remedy: "It is read again when its writer is done.".to_owned(),
            });
        }
        let entry = self.core.work_folder.stat(&path).await?;
        let hand = Hand {
            place: None,
            path: path.clone(),
            name: name.clone(),
            fingerprint: entry.fingerprint,
            original: self.hand.original.clone(),
        };
        let shown = FilePath { place: self.core.work_folder.name().clone(), path: name.clone() };
        self.core
            .journal
            .intend(Intention {
                attempt: id,
                intent: String::new(),
                target: shown,
                size,
                sha256: digests.sha256,
                blake3: digests.blake3,
                output: None,
            })
            .await?;
        Ok(StepDone {
            attempt: Some(id),
            hand,
            note,
            skipped: false,
            size: Some(size),
            also_named: Some(name.to_string()),
            freed: false,
        })
    }
}

/// What follows a commit: the source of a move is removed, if it is still what was sent.
pub(crate) async fn finish_intent(core: &Arc<Core>, attempt: i64, intent: Intent, work: &Work) -> Effect<StepDone> {
    let mut note = None;
    if let Some((file, fingerprint)) = &intent.then_remove {
        let place = core.arrangement().place(&file.place)?;
        note = remove(place.as_ref(), file, fingerprint).await?;
    }
    let gone = intent.hand.original.as_ref().is_none_or(|(file, _)| *file != work.file);
    Ok(StepDone {
        attempt: Some(attempt),
        also_named: (intent.to.path.name() != work.file.path.name()).then(|| intent.to.path.to_string()),
        hand: intent.hand,
        note,
        skipped: false,
        size: Some(intent.fingerprint.size),
        freed: gone,
    })
}

/// Removes a file that is still in the state that was worked on. A file that was replaced in
/// the meantime is a new one and stays. Answers what is to be said if nothing was removed.
async fn remove(place: &dyn Place, file: &FilePath, fingerprint: &Fingerprint) -> Effect<Option<String>> {
    match place.stat(&file.path).await {
        Ok(entry) if entry.fingerprint == *fingerprint => {}
        Ok(_) => return Ok(Some(format!("{file} was replaced in the meantime and stays"))),
        Err(e) if e.kind == PlaceErrorKind::NotFound => return Ok(Some(format!("{file} was gone already"))),
        Err(e) => return Err(e.into()),
    }
    match place.delete(&file.path).await {
        Err(e) if e.kind != PlaceErrorKind::NotFound => Err(e.into()),
        _ => Ok(None),
    }
}

async fn existing(place: &dyn Place, path: &RelPath) -> Effect<Option<Entry>> {
    match place.stat(path).await {
        Ok(entry) => Ok(Some(entry)),
        Err(e) if e.kind == PlaceErrorKind::NotFound => Ok(None),
        Err(e) => Err(e.into()),
    }
}

fn taken_name(to: &FilePath, taken: &Entry) -> PlaceError {
    PlaceError {
        kind: PlaceErrorKind::Exists,
        place: to.place.clone(),
        call: "write",
        path: to.path.clone(),
        detail: format!(
            "{} from {} is there",
            wetbank_core::ByteSize(taken.fingerprint.size),
            taken.fingerprint.modified_at().strftime("%F %H:%M UTC")
        ),
    }
}

/// What is told when a rename failed. If the name was taken, what lies aside is of no use.
async fn name_lost(place: &dyn Place, intent: &Intent, error: PlaceError) -> FailureKind {
    if error.kind != PlaceErrorKind::Exists {
        return error.into();
    }
    if let Err(error) = place.delete(&intent.from.path).await {
        tracing::warn!(%error, "a temporary file could not be removed");
    }
    match existing(place, &intent.to.path).await {
        Ok(Some(taken)) => taken_name(&intent.to, &taken).into(),
        _ => error.into(),
    }
}

/// `name (2).csv`, `name (3).csv`, … whichever is free first.
pub(crate) async fn free_name(place: &dyn Place, path: &RelPath) -> Effect<RelPath> {
    let name = path.name();
    let dot = name.iter().rposition(|&b| b == b'.').filter(|&at| at > 0).unwrap_or(name.len());
    for number in 2..FREE_NAMES {
        let mut next = name[..dot].to_vec();
        next.extend_from_slice(format!(" ({number})").as_bytes());
        next.extend_from_slice(&name[dot..]);
        let next = path.parent().join_name(&next).expect("a name with a number is a name");
        if existing(place, &next).await?.is_none() {
            return Ok(next);
        }
    }
    Err(FailureKind::Lasting {
        code: "exists".to_owned(),
        why: format!("\"{path}\" and {FREE_NAMES} numbered names after it are taken"),
        remedy: "Clear that folder, or use a name with a date in the rule.".to_owned(),
    })
}

async fn same_content(source: &Source, place: &dyn Place, path: &RelPath, taken: &Entry) -> Effect<bool> {
    use futures_util::StreamExt;
    let here = source.place.stat(&source.path).await?;
    if here.fingerprint.size != taken.fingerprint.size {
        return Ok(false);
    }
    let mut sums = Vec::new();
    for mut content in [source.place.read(&source.path, 0).await?, place.read(path, 0).await?] {
        let mut hashing = wetbank_crypt::Hashing::default();
        while let Some(chunk) = content.next().await {
            hashing.update(chunk?).await;
        }
        sums.push(hashing.finish().blake3);
    }
    Ok(sums[0] == sums[1])
}

fn create_private(path: &std::path::Path) -> std::io::Result<std::fs::File> {
    use std::os::unix::fs::OpenOptionsExt;
    std::fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(path)
}

/// A file that is removed when this goes, unless it was renamed by then.
struct RemovedOnDrop(std::path::PathBuf);

impl Drop for RemovedOnDrop {
    fn drop(&mut self) {
        let _ = std::fs::remove_file(&self.0);
    }
}

/// Output that is hashed on its way.
struct Hashed<W> {
    inner: W,
    hashing: wetbank_crypt::Hashing,
    size: u64,
}

impl<W: Write> Write for Hashed<W> {
    fn write(&mut self, buffer: &[u8]) -> std::io::Result<usize> {
        let written = self.inner.write(buffer)?;
        self.hashing.update_slice(&buffer[..written]);
        self.size += written as u64;
        Ok(written)
    }

    fn flush(&mut self) -> std::io::Result<()> {
        self.inner.flush()
    }
}

/// A place's file as a blocking reader, counted as it is read. A failure of the place is kept,
/// because the reader's user can only pass on that reading failed.
pub(crate) struct Reading {
    from: BufReader<Box<dyn std::io::Read + Send>>,
    done: Arc<std::sync::atomic::AtomicU64>,
    broken: Arc<std::sync::Mutex<Option<PlaceError>>>,
}

impl Reading {
    async fn open(source: &Source, done: Arc<std::sync::atomic::AtomicU64>) -> Result<Self, PlaceError> {
        use futures_util::StreamExt;
        let broken: Arc<std::sync::Mutex<Option<PlaceError>>> = Arc::default();
        let noted = broken.clone();
        let stream = source.place.read(&source.path, 0).await?.map(move |chunk| {
            chunk.map_err(|error| {
                *noted.lock().unwrap_or_else(std::sync::PoisonError::into_inner) = Some(error);
                std::io::Error::from(std::io::ErrorKind::Interrupted)
            })
        });
        let reader = tokio_util::io::SyncIoBridge::new(tokio_util::io::StreamReader::new(stream));
        Ok(Self { from: BufReader::with_capacity(256 << 10, Box::new(reader)), done, broken })
    }
}

impl std::io::Read for Reading {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let read = self.from.read(buffer)?;
        self.done.fetch_add(read as u64, std::sync::atomic::Ordering::Relaxed);
        Ok(read)
    }
}
