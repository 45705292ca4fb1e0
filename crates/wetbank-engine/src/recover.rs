//! After a stop in the middle of a step: was it committed or not?

use std::sync::Arc;

use wetbank_core::FilePath;
use wetbank_journal::{GoingAttempt, Work};
use wetbank_places::{Collision, Cut, EntryKind, Place, PlaceError, PlaceErrorKind};

use crate::{
    engine::Core,
    step::{FailureKind, Intent, StepDone, StepFailure, finish_intent, give_name, renewed},
};

/// What became of a step that a stop cut short.
pub(crate) enum Found {
    /// It is done, or was now brought to its end.
    Done(Box<StepDone>),
    /// Nothing of it is to be seen: it is done again. The attempt is to be closed.
    Again(Option<i64>),
}

async fn state(place: &dyn Place, file: &FilePath) -> Result<Option<wetbank_places::Entry>, PlaceError> {
    match place.stat(&file.path).await {
        Ok(entry) if entry.kind == EntryKind::File => Ok(Some(entry)),
        Ok(_) => Ok(None),
        Err(e) if e.kind == PlaceErrorKind::NotFound => Ok(None),
        Err(e) => Err(e),
    }
}

/// Looks at both ends of the commit that the journal announced.
pub(crate) async fn recover(core: &Arc<Core>, work: &Work) -> Result<Found, StepFailure> {
    let failed = |attempt: Option<i64>, kind: FailureKind| StepFailure { attempt, kind };
    let attempt = core.journal.going_attempt(work.item).await.map_err(|e| failed(None, e.into()))?;
    let Some(attempt) = attempt else { return Ok(Found::Again(None)) };
    let id = attempt.id;
    let Some(intent) = parse(&attempt) else { return Ok(Found::Again(Some(id))) };
    settle(core, work, id, intent).await.map_err(|kind| failed(None, kind))
}

fn parse(attempt: &GoingAttempt) -> Option<Intent> {
    serde_json::from_str(attempt.intent.as_deref()?).ok()
}

async fn settle(core: &Arc<Core>, work: &Work, id: i64, intent: Intent) -> Result<Found, FailureKind> {
    let arrangement = core.arrangement();
    if let Some((until, error)) = core.health.paused(&intent.to.place) {
        return Err(FailureKind::Paused { until, why: error.to_string() });
    }
    let to = arrangement.place(&intent.to.place)?;
    let from = arrangement.place(&intent.from.place)?;
    let is_ours = |entry: &wetbank_places::Entry| entry.fingerprint == intent.fingerprint;
    if state(to.as_ref(), &intent.to).await?.as_ref().is_some_and(is_ours) {
        return finish_intent(core, id, intent, work).await.map(|done| Found::Done(Box::new(done)));
    }
    let source = state(from.as_ref(), &intent.from).await?;
    match to.after_cut(&intent.from.path, &intent.to.path, &intent.fingerprint).await? {
        Cut::Done(now) => {
            // A copy that stands for a rename may have left its source behind.
            if source.as_ref().is_some_and(is_ours) {
                from.delete(&intent.from.path).await?;
            }
            let intent = renewed(core, work, intent, Some(now)).await?;
            return finish_intent(core, id, intent, work).await.map(|done| Found::Done(Box::new(done)));
        }
        Cut::Undone => return Ok(Found::Again(Some(id))),
        Cut::Look => {}
    }
    match source {
        // Written and verified before the stop, only its name is missing.
        Some(entry) if is_ours(&entry) => {
            let collision = if intent.replace { Collision::Replace } else { Collision::Refuse };
            let (path, name) = (&intent.from.path, &intent.to.path);
            let now = give_name(from.as_ref(), path, to.as_ref(), name, collision).await?;
            let intent = renewed(core, work, intent, now).await?;
            finish_intent(core, id, intent, work).await.map(|done| Found::Done(Box::new(done)))
        }
        Some(_) => Ok(Found::Again(Some(id))),
        // Only our rename takes the temporary name away, so the file most likely arrived and
        // was fetched from there; but nobody can prove it, and sending twice may do harm.
        None => Err(FailureKind::Lasting {
            code: "unclear".to_owned(),
            why: format!(
                "Wetbank stopped while it put the file at {}; now the file is not there, it may have been fetched already",
                intent.to
            ),
            remedy: "Ask the receiver. If they have it, dismiss; if not, release and it is sent again.".to_owned(),
        }),
    }
}
