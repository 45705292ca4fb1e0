//! The file that came: what it is before anything is done with it, and what becomes of it.

use std::sync::Arc;

use wetbank_core::{
    Branch, FileFacts, FilePath, Fingerprint, IfExists, OnFault, Original, RelPath, Rule, TemplateFacts,
};
use wetbank_places::{Entry, EntryKind, PlaceErrorKind, Still, Writers};

use super::{
    failure::failed,
    means::Runner,
    record::{Turn, skipped},
};
use crate::{
    effects::{
        AtStep, Attempt, EVENT, FailureKind, GONE, Hand, StepDone, StepFailure, Then, about, about_run, written,
    },
    moorings::Moorings,
    queue::Claim,
};

pub(super) enum Look {
    /// It is there, in the state in which it came.
    Hand(Claim, Box<Hand>),
    /// It is not worked on now.
    End(Turn),
}

/// Looks at the file that came, before anything is done with it.
pub(super) async fn look(runner: &Arc<Runner>, claim: Claim, rule: &Rule) -> Look {
    if rule.fault == OnFault::Stop {
        match runner.record.journal.held_in_run(claim.run).await {
            Ok(None) => {}
            Ok(Some(held)) => {
                let why =
                    format!("not begun, because {held} is held and the rule stops then; it is taken by the next run");
                return Look::End(let_go(runner, claim, rule, why, true).await);
            }
            Err(error) => return Look::End(Turn::Unread(claim, error.into())),
        }
    }
    if about_run(&claim).get(EVENT).is_some_and(|event| event == GONE) {
        let name = RelPath::from_bytes(claim.file.path.name()).expect("a name of a path");
        return Look::Hand(claim, Box::new(Hand::empty(name)));
    }
    let name = claim.file.place.clone();
    if let Some((until, _)) = runner.moorings.paused(&name) {
        return Look::End(Turn::Later(claim, until));
    }
    let found = looked_at(&runner.moorings, &claim.file).await;
    match found {
        Ok(entry) if entry.kind != EntryKind::File => {
            let why = "it is no regular file any more".to_owned();
            Look::End(let_go(runner, claim, rule, why, false).await)
        }
        Ok(entry) if entry.fingerprint.to_string() != claim.fingerprint => {
            let why = "it was replaced before its turn; the new file is taken by itself".to_owned();
            Look::End(let_go(runner, claim, rule, why, false).await)
        }
        Ok(entry) => {
            let hand = Hand {
                place: Some(name),
                path: claim.file.path.clone(),
                name: RelPath::from_bytes(claim.file.path.name()).expect("a name of a path"),
                fingerprint: entry.fingerprint.clone(),
                original: Some((claim.file.clone(), entry.fingerprint)),
                fault: None,
                count: None,
                asked: None,
                told: None,
                aligned: None,
            };
            Look::Hand(claim, Box::new(hand))
        }
        Err(FailureKind::Place(e)) if e.kind == PlaceErrorKind::NotFound => {
            let why = "it was gone before its turn".to_owned();
            Look::End(let_go(runner, claim, rule, why, true).await)
        }
        Err(kind) => Look::End(failed(runner, claim, rule.retry.clone(), StepFailure::before(kind)).await),
    }
}

/// Leaves a file alone; what earlier attempts left aside for it goes first, when the place is back if it is away.
async fn let_go(runner: &Arc<Runner>, claim: Claim, rule: &Rule, why: String, forget: bool) -> Turn {
    if claim.branch.is_some()
        && let Err(kind) = runner.effects.clear_target(&claim).await
        && kind.may_pass()
    {
        return failed(runner, claim, rule.retry.clone(), StepFailure::before(kind)).await;
    }
    skipped(runner, claim, why, forget).await
}

/// What becomes of the original, after everything else.
pub(super) async fn keep(moorings: &Moorings, at: &AtStep<'_>, branch: &Branch) -> Result<StepDone, StepFailure> {
    let mut attempt = Attempt::default();
    let result = end_of_original(moorings, at, branch, &mut attempt).await;
    at.ends(result, &attempt)
}

async fn end_of_original(
    moorings: &Moorings,
    at: &AtStep<'_>,
    branch: &Branch,
    attempt: &mut Attempt,
) -> Result<StepDone, FailureKind> {
    let (rule, work, hand) = (at.rule, at.work, at.hand);
    let Some((file, fingerprint)) = &hand.original else { return at.remove_original(attempt).await };
    let facts = FileFacts::new(file, fingerprint).with(about(work, hand));
    let started = work.started;
    let facts = TemplateFacts { file: &facts, rule, run: work.run, started, now: started };
    match &branch.original {
        Original::MoveTo(folder) => {
            let folder = rule.aside(file, folder, &facts)?;
            if !is_still_the_same(moorings, file, fingerprint).await? {
                return Ok(StepDone::nothing(hand, "the original was replaced or removed in the meantime"));
            }
            let path = folder.join(&RelPath::from_bytes(file.path.name()).expect("a name"));
            let to = FilePath { place: file.place.clone(), path };
            at.relocate(file, to, (folder, IfExists::KeepBoth), Then::Original, attempt).await
        }
        Original::Mark(name) => match name.render_name(&file.path.parent(), &facts)? {
            path if path == file.path => {
                Ok(StepDone::nothing(hand, "the mark has the file's own name, so there is none"))
            }
            path => at.mark(file, &path, attempt).await,
        },
        Original::Stays | Original::Delete => at.remove_original(attempt).await,
    }
}

/// What lies there now, complete: whoever began a run on a file that is still written waits for its end.
async fn looked_at(moorings: &Moorings, file: &FilePath) -> Result<Entry, FailureKind> {
    let place = moorings.get(&file.place)?;
    let Some(folder) = place.as_folder() else { return Ok(place.stat(&file.path).await?) };
    match folder.look(&file.path).await? {
        (_, Writers::Some) => Err(written(file)),
        (entry, _) => Ok(entry),
    }
}

async fn is_still_the_same(
    moorings: &Moorings,
    file: &FilePath,
    fingerprint: &Fingerprint,
) -> Result<bool, FailureKind> {
    let place = moorings.get(&file.place)?;
    if let Some(folder) = place.as_folder() {
        return match folder.still(&file.path, fingerprint).await? {
            Still::Same => Ok(true),
            Still::Changed | Still::Gone => Ok(false),
            Still::Written => Err(written(file)),
        };
    }
    match place.stat(&file.path).await {
        Ok(entry) => Ok(entry.fingerprint == *fingerprint),
        Err(e) if e.kind == PlaceErrorKind::NotFound => Ok(false),
        Err(e) => Err(e.into()),
    }
}
