//! After a stop in the middle of a step: was it committed or not?

use wetbank_core::FilePath;
use wetbank_journal::{GoingAttempt, Work};
use wetbank_places::{Collision, Cut, EntryKind, Place, PlaceError, PlaceErrorKind};

use super::{
    means::Effects,
    outcome::{FailureKind, Intent, StepDone, StepFailure},
    send::{finish_intent, give_name, renewed},
};

/// What became of a step of which nobody knew it.
pub(crate) enum Found {
    /// It is done, or was now brought to its end.
    Done(Box<StepDone>),
    /// Nothing of it is to be seen: it is done again. The attempt is to be closed.
    Again(Option<GoingAttempt>),
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
pub(crate) async fn recover(effects: &Effects, work: &Work) -> Result<Found, StepFailure> {
    let failed = |kind: FailureKind| StepFailure::before(kind);
    let attempt = effects.record.journal.going_attempt(work.item).await.map_err(|e| failed(e.into()))?;
    let Some(attempt) = attempt else { return Ok(Found::Again(None)) };
    // One of an earlier position tells nothing of this one.
    let is_here = attempt.position.code() == work.position.code();
    // Once a person decides what became of it, nobody looks any more.
    let decided = |kind: FailureKind| match kind {
        FailureKind::Lasting { .. } => StepFailure { attempt: Some(attempt.id), kind, unclear: false },
        kind => failed(kind),
    };
    let intent = parse(&attempt).map_err(decided)?.filter(|_| is_here);
    let Some(intent) = intent else { return Ok(Found::Again(Some(attempt))) };
    let done = settle(effects, work, attempt.id, intent).await.map_err(decided)?;
    Ok(done.map_or(Found::Again(Some(attempt)), |done| Found::Done(Box::new(done))))
}

/// What was about to be committed, if anything outside of our own work folder was.
fn parse(attempt: &GoingAttempt) -> Result<Option<Intent>, FailureKind> {
    let Some(text) = attempt.intent.as_deref().filter(|text| !text.is_empty()) else { return Ok(None) };
    serde_json::from_str(text).map(Some).map_err(|error| FailureKind::Lasting {
        code: "unclear".to_owned(),
        why: format!("what the last attempt was about to do cannot be read ({error}), so nobody knows whether it did"),
        remedy: "Ask the receiver. If they have it, dismiss; if not, release and it is sent again.".to_owned(),
    })
}

/// The step, if it is done or could be brought to its end.
async fn settle(effects: &Effects, work: &Work, id: i64, intent: Intent) -> Result<Option<StepDone>, FailureKind> {
    let to = effects.moorings.get(&intent.to.place)?;
    let from = effects.moorings.get(&intent.from.place)?;
    let is_ours = |entry: &wetbank_places::Entry| entry.fingerprint == intent.fingerprint;
    if state(to.as_ref(), &intent.to).await?.as_ref().is_some_and(is_ours) {
        return finish_intent(effects, id, intent, work).await.map(Some);
    }
    let source = state(from.as_ref(), &intent.from).await?;
    match to.after_cut(&intent.from.path, &intent.to.path, &intent.fingerprint).await? {
        Cut::Done(now) => {
            // A copy that stands for a rename may have left its source behind.
            if source.as_ref().is_some_and(is_ours) {
                from.delete(&intent.from.path).await?;
            }
            let intent = renewed(effects, work, intent, Some(now)).await?;
            return finish_intent(effects, id, intent, work).await.map(Some);
        }
        Cut::Undone => return Ok(None),
        Cut::Look => {}
    }
    match source {
        // Written and verified before the stop, only its name is missing.
        Some(entry) if is_ours(&entry) => {
            let collision = if intent.replace { Collision::Replace } else { Collision::Refuse };
            let (path, name) = (&intent.from.path, &intent.to.path);
            match give_name(from.as_ref(), path, to.as_ref(), name, collision).await {
                Ok(now) => {
                    let intent = renewed(effects, work, intent, now).await?;
                    finish_intent(effects, id, intent, work).await.map(Some)
                }
                // Somebody else has that name by now: the step says what follows.
                Err(error) if error.kind == PlaceErrorKind::Exists => Ok(None),
                Err(error) => Err(error.into()),
            }
        }
        Some(_) => Ok(None),
        // Only our rename takes the temporary name away, so the file most likely arrived and
        // was fetched from there; but nobody can prove it, and sending twice may do harm.
        None => Err(FailureKind::Lasting {
            code: "unclear".to_owned(),
            why: format!(
                "nobody heard how putting the file at {} ended; now it is not there, it may have been fetched already",
                intent.to
            ),
            remedy: "Ask the receiver. If they have it, dismiss; if not, release and it is sent again.".to_owned(),
        }),
    }
}
