//! The effects of steps. Each one: plan, write aside, verify, say what will be, commit.

mod archive;
mod convert;
mod errands;
mod mail;
mod making;
mod names;
mod relocate;
mod send;
mod sign;

use std::{collections::BTreeMap, sync::Arc};

use jiff::Timestamp;
use serde::{Deserialize, Serialize};
use tokio_util::sync::CancellationToken;
use wetbank_core::{
    About, FileFacts, FilePath, Fingerprint, Name, Planned, RelPath, Rule, Step, TEMPORARY_PREFIX, Target, Template,
    TemplateError, TemplateFacts, Verdict,
};
use wetbank_crypt::CryptError;
use wetbank_journal::{AttemptStart, Chained, JournalError, NewMail, NewPart, Work};
use wetbank_places::{Place, PlaceError};

use crate::{EngineError, clock, engine::Core, events::Moving, reading::Source};
pub(crate) use mail::mailbox;
pub(crate) use send::{finish_intent, give_name, renewed};

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
    /// The step that failed, on whose failure path the item is.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub fault: Option<Fault>,
    /// The how-manieth file of the rule on its day it is, once somebody asked.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub count: Option<i64>,
}

impl Hand {
    /// What is in hand where there is no file: a name at most.
    pub fn empty(name: RelPath) -> Self {
        let fingerprint = Fingerprint { size: 0, modified: 0, inode: None, tag: None };
        Self { place: None, path: RelPath::root(), name, fingerprint, original: None, fault: None, count: None }
    }

    /// Whether there is a file.
    pub fn has_file(&self) -> bool {
        !self.path.is_root()
    }
}

/// A step that failed for good.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Fault {
    /// Its kind.
    pub step: String,
    /// Why it failed.
    pub why: String,
}

/// What happened to the file that began a run, as a run's `about` has it.
pub(crate) const EVENT: &str = "run.event";

/// What is known of a run.
pub(crate) fn about_run(work: &Work) -> BTreeMap<String, String> {
    let mut about: BTreeMap<String, String> =
        work.about.as_deref().and_then(|text| serde_json::from_str(text).ok()).unwrap_or_default();
    about.insert("run.cause".to_owned(), work.cause.as_str().to_owned());
    about.entry(EVENT.to_owned()).or_insert_with(|| "new".to_owned());
    about
}

/// What is known of a run, and of the failure that an item comes from.
pub(crate) fn about(work: &Work, hand: &Hand) -> About {
    let mut about = about_run(work);
    if let Some(fault) = &hand.fault {
        about.insert("fault.step".to_owned(), fault.step.clone());
        about.insert("fault.why".to_owned(), fault.why.clone());
    }
    if let Some(count) = hand.count {
        about.insert("count".to_owned(), count.to_string());
    }
    Arc::new(about)
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
    /// The branch that goes on with the file.
    pub branch: Option<usize>,
    /// Files that go on instead of it.
    pub parts: Vec<NewPart>,
    /// The file that was put somewhere, and its state there.
    pub put: Option<(FilePath, Fingerprint)>,
    /// What starts other rules.
    pub chained: Vec<Chained>,
    /// A mail that is to be sent.
    pub mail: Option<NewMail>,
}

impl StepDone {
    /// The step did what it should, and this is in hand now.
    pub fn with(hand: Hand) -> Self {
        Self {
            attempt: None,
            hand,
            note: None,
            skipped: false,
            size: None,
            also_named: None,
            freed: false,
            branch: None,
            parts: Vec::new(),
            put: None,
            chained: Vec::new(),
            mail: None,
        }
    }

    /// Nothing had to be done, and why; the hand is as it was.
    pub fn nothing(hand: &Hand, note: &str) -> Self {
        Self { note: Some(note.to_owned()), skipped: true, ..Self::with(hand.clone()) }
    }
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
    /// The item is told to stop: with the service, or by a person.
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
    /// Cancelled when the item is to stop at the next safe point.
    pub stop: &'a CancellationToken,
}

/// The wait for the end of a receiver's quiet hours.
fn quiet(target: &Target) -> Option<FailureKind> {
    let quiet = target.quiet.as_ref()?;
    let until = quiet.end(clock::now())?;
    let who = target.partner.as_ref().unwrap_or(&target.place);
    Some(FailureKind::Paused { until, why: format!("{who} wants nothing from {quiet}") })
}

type Effect<T> = Result<T, FailureKind>;

impl AtStep<'_> {
    /// Does the step, if its condition holds.
    pub async fn run(&self, planned: &Planned) -> Result<StepDone, StepFailure> {
        let mut attempt = None;
        let result = match &planned.condition {
            Some(condition) => match condition.ask(&self.facts(), clock::now()) {
                verdict if verdict.holds => self.effect(&planned.step, &mut attempt).await,
                verdict => self.left_out(&verdict, &mut attempt).await,
            },
            None => self.effect(&planned.step, &mut attempt).await,
        };
        self.core.events.end(self.work.item);
        result.map_err(|kind| StepFailure { attempt, kind })
    }

    async fn effect(&self, step: &Step, attempt: &mut Option<i64>) -> Effect<StepDone> {
        match step {
            Step::Encrypt { .. } => self.encrypt(step, attempt).await,
            Step::Decrypt { .. } => self.decrypt(step, attempt).await,
            Step::Sign { by, armour, name } => self.sign(by, *armour, name, attempt).await,
            Step::Verify { by, name } => self.verify(by, name, attempt).await,
            Step::Mail(mail) => self.mail(mail, attempt).await,
            Step::Call(call) => self.call(call, attempt).await,
            Step::Program(program) => self.program(program, attempt).await,
            Step::Load(load) => self.load(load, attempt).await,
            Step::Extract(extract) => self.extract(extract, attempt).await,
            Step::Compress { with, name } => self.compress(*with, name, attempt).await,
            Step::Expand { name } => self.expand(name, attempt).await,
            Step::Pack { .. } => self.pack(step, attempt).await,
            Step::Unpack { .. } => self.unpack(step, attempt).await,
            Step::Manifest { name } => self.manifest(name, attempt).await,
            Step::CheckManifest { name } => self.check_manifest(name, attempt).await,
            Step::Copy(target) | Step::Fetch(target) | Step::Deliver(target) => match quiet(target) {
                Some(paused) => Err(paused),
                None => self.send(target, None, attempt).await,
            },
            Step::Move(target) => self.move_on(target, attempt).await,
            Step::Rename { name, exists } => self.rename(name, *exists, attempt).await,
            Step::Delete => self.delete(attempt).await,
            Step::MakeFolder { place, folder } => self.make_folder(place, folder, attempt).await,
            Step::Note { text } => {
                let text = self.with_facts(|facts| text.render(facts))?;
                self.noted(text, false, attempt).await
            }
            Step::Continue { branch } => {
                let words = format!("branch {} goes on", branch + 1);
                let done = self.noted(words, false, attempt).await?;
                Ok(StepDone { branch: Some(*branch), ..done })
            }
            Step::Hold { why } => Err(FailureKind::Lasting {
                code: "asked".to_owned(),
                why: why.clone(),
                remedy: "The rule asks a person: release to go on, or dismiss.".to_owned(),
            }),
        }
    }

    /// The step is not for this file; the record says why.
    async fn left_out(&self, verdict: &Verdict, attempt: &mut Option<i64>) -> Effect<StepDone> {
        fn failed(verdict: &Verdict) -> &Verdict {
            verdict.parts.iter().find(|part| !part.holds).map_or(verdict, failed)
        }
        let Verdict { asked, found, .. } = failed(verdict);
        let found = if found.is_empty() { String::new() } else { format!(", here it is {found}") };
        self.noted(format!("left out: it is for files where {asked}{found}"), true, attempt).await
    }

    /// Something that only the record shows.
    async fn noted(&self, text: String, skipped: bool, attempt: &mut Option<i64>) -> Effect<StepDone> {
        let id = self.core.journal.next_attempt();
        self.start(self.began(id, None, None), attempt).await?;
        Ok(StepDone { attempt: Some(id), skipped, ..StepDone::nothing(self.hand, &text) })
    }

    async fn make_folder(&self, place: &Name, folder: &Template, attempt: &mut Option<i64>) -> Effect<StepDone> {
        let path = self.with_facts(|facts| folder.render_folder(facts))?;
        let there = self.place(place)?;
        let id = self.core.journal.next_attempt();
        let target = FilePath { place: place.clone(), path: path.clone() };
        self.start(self.began(id, Some(target), None), attempt).await?;
        // One that is there is as good as one that is made.
        there.make_folder(&path).await?;
        let done = StepDone::nothing(self.hand, "the folder is there");
        Ok(StepDone { attempt: Some(id), skipped: false, ..done })
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
        FileFacts::new(&file, &self.hand.fingerprint).with(about(self.work, self.hand))
    }

    fn with_facts<T>(&self, render: impl FnOnce(&TemplateFacts<'_>) -> T) -> T {
        self.with_file(self.facts(), render)
    }

    /// The same for another file.
    fn with_file<T>(&self, file: FileFacts, render: impl FnOnce(&TemplateFacts<'_>) -> T) -> T {
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
        if !self.hand.has_file() {
            return Err(FailureKind::Lasting {
                code: "no-file".to_owned(),
                why: format!("there is no file for \"{}\" to work on", self.kind),
                remedy:
                    "Let the rule find files, or leave this step out for runs without one (if = …); then dismiss this."
                        .to_owned(),
            });
        }
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
            branch: Some(self.branch),
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
}
