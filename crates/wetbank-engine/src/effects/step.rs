//! One step of one item: plan, write aside, verify, say what will be, commit.

use std::sync::Arc;

use secrecy::SecretString;
use tokio_util::sync::CancellationToken;
use wetbank_core::{FileFacts, FilePath, Name, Planned, Position, RelPath, Rule, SecretName, TemplateFacts, Verdict};
use wetbank_journal::{AttemptStart, Intention, Output, Work};
use wetbank_places::Place;

use super::{
    kinds::Does,
    means::Effects,
    outcome::{Attempt, Effect, FailureKind, Hand, Intent, StepDone, StepFailure, about},
    reading::Source,
};
use crate::{clock, events::Moving};

/// One step of one item at work.
pub(crate) struct AtStep<'a> {
    pub effects: &'a Arc<Effects>,
    pub work: &'a Work,
    pub rule: &'a Rule,
    pub branch: usize,
    pub position: Position,
    pub kind: &'static str,
    pub hand: &'a Hand,
    /// Cancelled when the item is to stop at the next safe point.
    pub stop: &'a CancellationToken,
}

impl AtStep<'_> {
    /// Does the step, if its condition holds.
    pub async fn run(&self, planned: &Planned) -> Result<StepDone, StepFailure> {
        let mut attempt = Attempt::default();
        let result = match &planned.condition {
            _ if self.hand.aligned.is_some() => self.align(&mut attempt).await,
            Some(condition) => match condition.ask(&self.facts(), clock::now()) {
                verdict if verdict.holds => planned.step.done_at(self, &mut attempt).await,
                verdict => self.left_out(&verdict, &mut attempt).await,
            },
            None => planned.step.done_at(self, &mut attempt).await,
        };
        let result = match result {
            // That there was nothing to do is on record like everything else.
            Ok(done) if done.attempt.is_none() => self.recorded(done, &mut attempt).await,
            result => result,
        };
        self.ends(result, &attempt)
    }

    async fn recorded(&self, done: StepDone, attempt: &mut Attempt) -> Effect<StepDone> {
        let id = self.effects.record.journal.next_attempt();
        self.start(self.began(id, None, None), attempt).await?;
        Ok(StepDone { attempt: Some(id), ..done })
    }

    /// How the attempt ended.
    pub fn ends(&self, result: Effect<StepDone>, attempt: &Attempt) -> Result<StepDone, StepFailure> {
        self.effects.events.end(self.work.item);
        result.map_err(|kind| attempt.failed(kind))
    }

    /// The step is not for this file; the record says why.
    async fn left_out(&self, verdict: &Verdict, attempt: &mut Attempt) -> Effect<StepDone> {
        self.noted(format!("left out: {}", verdict.refusal()), true, attempt).await
    }

    /// Something that only the record shows.
    pub(super) async fn noted(&self, text: String, skipped: bool, attempt: &mut Attempt) -> Effect<StepDone> {
        let id = self.effects.record.journal.next_attempt();
        self.start(self.began(id, None, None), attempt).await?;
        Ok(StepDone { attempt: Some(id), skipped, ..StepDone::nothing(self.hand, &text) })
    }

    /// The temporary file of this step.
    pub(super) fn temporary(&self, folder: &RelPath) -> RelPath {
        self.effects.aside(self.work, self.position, folder)
    }

    pub(super) fn facts(&self) -> FileFacts {
        let folder = self.work.file.path.parent();
        let file = FilePath { place: self.work.file.place.clone(), path: folder.join(&self.hand.name) };
        FileFacts::new(&file, &self.hand.fingerprint).with(about(self.work, self.hand))
    }

    pub(super) fn with_facts<T>(&self, render: impl FnOnce(&TemplateFacts<'_>) -> T) -> T {
        self.with_file(self.facts(), render)
    }

    /// The same for another file.
    pub(super) fn with_file<T>(&self, file: FileFacts, render: impl FnOnce(&TemplateFacts<'_>) -> T) -> T {
        let started = self.work.started;
        // The run's own time, so that every attempt plans the same names.
        render(&TemplateFacts { file: &file, rule: self.rule, run: self.work.run, started, now: started })
    }

    /// The place of a name, unless it is paused.
    pub(super) fn place(&self, name: &Name) -> Effect<Arc<dyn Place>> {
        Ok(self.effects.moorings.get(name)?)
    }

    /// The secret of a name, if there is one.
    pub(super) async fn secret(&self, name: Option<&SecretName>) -> Effect<Option<SecretString>> {
        match name {
            Some(name) => Ok(Some(self.effects.keys.secret(name.as_str()).await?)),
            None => Ok(None),
        }
    }

    pub(super) fn source(&self) -> Effect<Source> {
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
            None => Arc::new(self.effects.work.folder.clone()),
        };
        Ok(Source { place, path: self.hand.path.clone(), fingerprint: self.hand.fingerprint.clone() })
    }

    pub(super) fn began(&self, attempt: i64, target: Option<FilePath>, intent: Option<&Intent>) -> AttemptStart {
        AttemptStart {
            id: attempt,
            item: self.work.item,
            branch: Some(self.branch),
            position: self.position,
            kind: self.kind,
            number: self.work.failures + 1,
            began: clock::now(),
            target,
            intent: intent.map(|intent| serde_json::to_string(intent).expect("plain values serialise")),
        }
    }

    pub(super) fn moving(&self, total: u64) -> Arc<std::sync::atomic::AtomicU64> {
        self.effects.events.begin(Moving {
            run: self.work.run,
            item: self.work.item,
            rule: self.work.rule.clone(),
            file: self.work.file.clone(),
            branch: self.branch,
            step: self.position.code(),
            kind: self.kind,
            total,
            done: Arc::default(),
            since: clock::now(),
        })
    }

    /// Records that an attempt begins; waits as long as the journal refuses it.
    pub(super) async fn start(&self, start: AttemptStart, attempt: &mut Attempt) -> Effect<()> {
        let intends = start.intent.is_some();
        let begun = self.effects.record.insist(|| self.effects.record.journal.start_attempt(start.clone())).await;
        begun.ok_or(FailureKind::Stopping)?;
        *attempt = Attempt { id: Some(start.id), intends };
        Ok(())
    }

    /// Records what is about to be committed; waits as long as the journal refuses it.
    pub(super) async fn intends(&self, intention: Intention, attempt: &mut Attempt) -> Effect<()> {
        let intended = self.effects.record.insist(|| self.effects.record.journal.intend(intention.clone())).await;
        intended.ok_or(FailureKind::Stopping)?;
        attempt.intends |= !intention.intent.is_empty();
        Ok(())
    }

    /// Records a file of ours that no attempt stages; waits as long as the journal refuses it.
    pub(super) async fn notes(&self, output: Output) -> Effect<()> {
        let noted = self.effects.record.insist(|| self.effects.record.journal.note_output(output.clone())).await;
        noted.ok_or(FailureKind::Stopping)
    }
}
