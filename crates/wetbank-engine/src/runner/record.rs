//! What is written down of an item: its steps, its end, and what follows a failure.

use std::sync::Arc;

use jiff::Timestamp;
use wetbank_core::{ChainEvent, FilePath, ItemState, Name, RetryPolicy};
use wetbank_journal::{AttemptEnd, ItemChange, NewHold, Outcome, Progress, Work};
use wetbank_places::PlaceErrorKind;

use crate::{
    EngineError, clock,
    engine::{Core, Stopped},
    events::Event,
    step::{FailureKind, Fault, Hand, StepDone, StepFailure},
};

/// How the work on an item ended for now.
pub(super) enum End {
    /// It is done, skipped, held, or waits for others.
    AtRest,
    /// It goes on at this time.
    Later(Timestamp),
    /// The service stops.
    Stopping,
}

pub(super) fn change(work: &Work, state: ItemState) -> ItemChange {
    ItemChange {
        item: work.item,
        run: work.run,
        state,
        branch: work.branch,
        step: work.step,
        hand: work.hand.clone(),
        failures: work.failures,
        due: None,
        why: None,
        at: clock::now(),
    }
}

pub(super) async fn record(core: &Core, work: &mut Work, progress: Progress) -> Result<(), EngineError> {
    let (state, chains, mails) = (progress.change.state, !progress.chained.is_empty(), progress.mail.is_some());
    core.journal.record(progress).await?;
    if chains {
        core.chain_news.notify_one();
    }
    if mails {
        core.mail_news.notify_one();
    }
    tell(core, work, state);
    Ok(())
}

/// Tells those who listen, and those who wait for it, where an item stands now.
pub(super) fn tell(core: &Core, work: &mut Work, state: ItemState) {
    work.state = state;
    core.events.tell(Event::Item {
        run: work.run,
        item: work.item,
        rule: work.rule.clone(),
        state,
        branch: work.branch,
        step: work.step,
    });
    if state == ItemState::Joining {
        // Only now is it in the journal; before, nobody could have seen that it waits.
        core.joins.expect(work.run);
    } else if state.is_at_rest() {
        core.joins.news(work.run);
    }
}

/// The end of a step, with the state that follows.
pub(super) fn ended(work: &Work, done: &StepDone, state: ItemState) -> Progress {
    Progress { end: attempt_end(done), ..Progress::change(change(work, state)) }
}

/// Leaves an item alone, for a reason. With `forget` the rule would take the file again.
pub(super) async fn skip(core: &Core, work: &mut Work, why: String, forget: bool) -> Result<End, EngineError> {
    let forget = self::forget(work, forget);
    leave_out(core, work, Progress { forget, ..Progress::change(skipped(work, why)) }).await
}

/// Leaves an item alone because of what its step found.
pub(super) async fn skip_by(core: &Core, work: &mut Work, done: &StepDone, why: String) -> Result<End, EngineError> {
    work.hand = serde_json::to_string(&done.hand).ok();
    leave_out(core, work, Progress { end: attempt_end(done), ..Progress::change(skipped(work, why)) }).await
}

fn skipped(work: &Work, why: String) -> ItemChange {
    ItemChange { why: Some(why), ..change(work, ItemState::Skipped) }
}

async fn leave_out(core: &Core, work: &mut Work, progress: Progress) -> Result<End, EngineError> {
    record(core, work, progress).await?;
    core.clear_work(work).await;
    Ok(End::AtRest)
}

pub(super) async fn hold(
    core: &Core,
    work: &mut Work,
    end: Option<AttemptEnd>,
    code: &str,
    why: String,
    remedy: String,
) -> Result<End, EngineError> {
    tracing::warn!(rule = %work.rule, file = %work.file, code, %why, "held");
    let chained = core.chained_here(work, ChainEvent::Held);
    let hold = NewHold { code: code.to_owned(), why: why.clone(), remedy };
    let change = ItemChange { why: Some(why), ..change(work, ItemState::Held) };
    record(core, work, Progress { end, hold: Some(hold), chained, ..Progress::change(change) }).await?;
    Ok(End::AtRest)
}

/// What follows when an item is told to stop: if only its run is, it is held.
pub(super) async fn end_stopped(core: &Core, work: &mut Work, attempt: Option<i64>) -> Result<End, EngineError> {
    if core.cancel.is_cancelled() {
        return Ok(End::Stopping);
    }
    let Stopped { code, why } = core.why_stopped(work.run);
    let end = attempt.map(|id| AttemptEnd {
        id,
        ended: clock::now(),
        outcome: Outcome::Failed,
        size: None,
        code: Some(code.to_owned()),
        message: Some(why.clone()),
        remedy: None,
        also_named: None,
    });
    let remedy = "Release it to go on where it stopped, or dismiss it.".to_owned();
    hold(core, work, end, code, why, remedy).await
}

/// Holds an item that nobody works on, because its run is stopped.
pub(crate) async fn stopped(core: &Core, work: &mut Work) -> Result<(), EngineError> {
    end_stopped(core, work, None).await.map(drop)
}

fn attempt_end(done: &StepDone) -> Option<AttemptEnd> {
    Some(AttemptEnd {
        id: done.attempt?,
        ended: clock::now(),
        outcome: if done.skipped { Outcome::Skipped } else { Outcome::Done },
        size: done.size,
        code: None,
        message: done.note.clone(),
        remedy: None,
        also_named: done.also_named.clone(),
    })
}

fn forget(work: &Work, freed: bool) -> Option<(Name, FilePath)> {
    freed.then(|| (work.rule.clone(), work.file.clone()))
}

pub(super) async fn step_done(core: &Core, work: &mut Work, done: StepDone, next: usize) -> Result<(), EngineError> {
    work.step = next;
    work.failures = 0;
    work.hand = serde_json::to_string(&done.hand).ok();
    let end = attempt_end(&done);
    let forget = forget(work, done.freed);
    let change = change(work, ItemState::Working);
    let StepDone { chained, mail, .. } = done;
    record(core, work, Progress { end, forget, chained, mail, ..Progress::change(change) }).await
}

pub(super) async fn finish(core: &Arc<Core>, work: &mut Work, done: Option<StepDone>) -> Result<(), EngineError> {
    let end = done.as_ref().and_then(attempt_end);
    let freed = done.as_ref().is_some_and(|done| done.freed);
    let forget = forget(work, freed);
    work.failures = 0;
    let change = change(work, ItemState::Done);
    let (chained, mail) = done.map(|done| (done.chained, done.mail)).unwrap_or_default();
    record(core, work, Progress { end, forget, chained, mail, ..Progress::change(change) }).await?;
    core.clear_work(work).await;
    Ok(())
}

pub(super) async fn close_attempt(core: &Core, work: &mut Work, attempt: i64) -> Result<(), EngineError> {
    let end = AttemptEnd {
        id: attempt,
        ended: clock::now(),
        outcome: Outcome::Failed,
        size: None,
        code: Some("stopped".to_owned()),
        message: Some("Wetbank was stopped in the middle of this; it is done again".to_owned()),
        remedy: None,
        also_named: None,
    };
    let change = change(work, ItemState::Working);
    record(core, work, Progress { end: Some(end), ..Progress::change(change) }).await
}

/// What follows a failure.
pub(super) enum After {
    /// The work on the item ends for now.
    End(End),
    /// It goes on along a failure path, with this in hand.
    GoOn(Box<Hand>),
}

/// Waits, tries again later, or holds.
pub(super) async fn failed(
    core: &Arc<Core>,
    work: &mut Work,
    own: Option<RetryPolicy>,
    failure: StepFailure,
) -> Result<End, EngineError> {
    match after_failure(core, work, own, failure, None).await? {
        After::End(end) => Ok(end),
        After::GoOn(_) => unreachable!("no failure path was given"),
    }
}

/// Waits, tries again later, takes the failure path (its first step, the step that failed, what it
/// had in hand), or holds.
pub(super) async fn after_failure(
    core: &Arc<Core>,
    work: &mut Work,
    own: Option<RetryPolicy>,
    failure: StepFailure,
    path: Option<(usize, &str, &Hand)>,
) -> Result<After, EngineError> {
    let policy = own.or_else(|| core.retry_at(&failure.kind)).unwrap_or_default();
    let now = clock::now();
    let end = |outcome, code: &str, why: &str, remedy: &str| {
        failure.attempt.map(|id| AttemptEnd {
            id,
            ended: now,
            outcome,
            size: None,
            code: Some(code.to_owned()),
            message: Some(why.to_owned()),
            remedy: Some(remedy.to_owned()),
            also_named: None,
        })
    };
    let kind = match failure.kind {
        FailureKind::Place(error) => {
            core.place_failed(&error);
            let (code, why, remedy) = (error.kind.code().to_owned(), error.to_string(), error.remedy());
            match core.health.paused(&error.place) {
                // A place that is away is waited for, however long: the file has no fault.
                Some((until, _)) if matches!(error.kind, PlaceErrorKind::Unreachable | PlaceErrorKind::SignInEnded) => {
                    let end = end(Outcome::Failed, &code, &why, &remedy);
                    let change = ItemChange { due: Some(until), why: Some(why), ..change(work, ItemState::Waiting) };
                    record(core, work, Progress { end, ..Progress::change(change) }).await?;
                    return Ok(After::End(End::Later(until)));
                }
                _ if error.is_retryable() => FailureKind::Passing { code, why, remedy },
                _ => FailureKind::Lasting { code, why, remedy },
            }
        }
        kind => kind,
    };
    match kind {
        FailureKind::Place(_) => unreachable!("turned into another kind above"),
        FailureKind::Stopping => end_stopped(core, work, failure.attempt).await.map(After::End),
        FailureKind::Journal(why) => Err(EngineError::NotNow(why)),
        FailureKind::Paused { until, why } => {
            let due = Some(until);
            let change = ItemChange { due, why: Some(why), ..change(work, ItemState::Waiting) };
            record(core, work, Progress::change(change)).await?;
            Ok(After::End(End::Later(until)))
        }
        FailureKind::Lasting { code, why, remedy } => {
            let ended = end(Outcome::Failed, &code, &why, &remedy);
            // A rule that asks a person means it.
            let path = path.filter(|_| code != "asked");
            for_good(core, work, ended, (&code, why, remedy), path).await
        }
        FailureKind::Passing { code, why, remedy } => {
            work.failures += 1;
            let ended = end(Outcome::Failed, &code, &why, &remedy);
            let Some(pause) = policy.pause_after(work.failures, work.item.cast_unsigned()) else {
                let why = format!("{why}; {} attempts failed", work.failures);
                return for_good(core, work, ended, (&code, why, remedy), path).await;
            };
            let due = clock::after(now, pause);
            let change = ItemChange { due: Some(due), why: Some(why), ..change(work, ItemState::Waiting) };
            record(core, work, Progress { end: ended, ..Progress::change(change) }).await?;
            Ok(After::End(End::Later(due)))
        }
    }
}

/// A step failed for good: the failure path is taken, or the item is held.
async fn for_good(
    core: &Arc<Core>,
    work: &mut Work,
    end: Option<AttemptEnd>,
    (code, why, remedy): (&str, String, String),
    path: Option<(usize, &str, &Hand)>,
) -> Result<After, EngineError> {
    let Some((begin, step, hand)) = path else {
        return hold(core, work, end, code, why, remedy).await.map(After::End);
    };
    let hand = Hand { fault: Some(Fault { step: step.to_owned(), why }), ..hand.clone() };
    work.step = begin;
    work.failures = 0;
    work.hand = serde_json::to_string(&hand).ok();
    let chained = core.chained_here(work, ChainEvent::Failed);
    let change = change(work, ItemState::Working);
    record(core, work, Progress { end, chained, ..Progress::change(change) }).await?;
    Ok(After::GoOn(Box::new(hand)))
}
