//! What follows when a step did not do what it should: another attempt, another way, or a person.

use std::sync::Arc;

use wetbank_core::{Advance, ChainEvent, ItemState, Position, RetryPolicy};
use wetbank_journal::{AttemptEnd, Outcome};

use super::{
    means::Runner,
    record::{Settled, Turn, end_stopped, hold, settle},
};
use crate::{
    EngineError, clock,
    effects::{FailureKind, Fault, Hand, StepFailure},
    queue::{Claim, Moved},
};

/// What follows a failure.
pub(super) enum After {
    /// The work on the item ends for now.
    Turn(Turn),
    /// It goes on along a failure path, with this in hand.
    GoOn(Claim, Box<Hand>),
}

/// A way on after a failure: where it leads, the kind of the step that failed, what it had in hand.
pub(super) type Path<'a> = (Advance, &'a str, &'a Hand);

/// Waits, tries again later, or holds, where the item is on record.
pub(super) async fn failed(runner: &Arc<Runner>, claim: Claim, own: Option<RetryPolicy>, failure: StepFailure) -> Turn {
    let moved = Moved::stays(&claim, ItemState::Waiting);
    match decide(runner, claim, moved, own, failure, None).await {
        After::Turn(turn) => turn,
        After::GoOn(claim, _) => Turn::Rest(claim),
    }
}

/// Waits, tries again later, takes the failure path, or holds, at this branch and position.
pub(super) async fn after_failure(
    runner: &Arc<Runner>,
    claim: Claim,
    (branch, position): (usize, Position),
    own: Option<RetryPolicy>,
    failure: StepFailure,
    path: Option<Path<'_>>,
) -> After {
    let moved = Moved { branch: Some(branch), position, ..Moved::stays(&claim, ItemState::Waiting) };
    decide(runner, claim, moved, own, failure, path).await
}

async fn decide(
    runner: &Arc<Runner>,
    claim: Claim,
    moved: Moved,
    own: Option<RetryPolicy>,
    failure: StepFailure,
    path: Option<Path<'_>>,
) -> After {
    // When what failed is tried again: as the rule says, or the place where it failed.
    let of_place = || match &failure.kind {
        FailureKind::Place(error) => runner.moorings.retry_at(error),
        _ => None,
    };
    let policy = own.or_else(of_place).unwrap_or_default();
    let StepFailure { attempt, kind, unclear } = failure;
    // Without an attempt to mark, the item itself remembers.
    let claim = if unclear && attempt.is_none() { claim.left_unclear() } else { claim };
    let end = |said: &Said| {
        attempt.map(|id| AttemptEnd {
            id,
            ended: clock::now(),
            outcome: Outcome::Failed,
            size: None,
            code: Some(said.code.clone()),
            message: Some(said.why.clone()),
            remedy: Some(said.remedy.clone()),
            also_named: None,
            unclear,
        })
    };
    let (said, passes) = match kind {
        FailureKind::Stopping => return After::Turn(end_stopped(runner, claim, attempt.map(|id| (id, unclear))).await),
        FailureKind::Journal(why) => return After::Turn(Turn::Unread(claim, EngineError::Broken(why))),
        FailureKind::Paused { until, why } => {
            let moved = Moved { due: Some(until), why: Some(why), ..moved };
            return After::Turn(wait(runner, claim, moved).await);
        }
        FailureKind::Place(error) => {
            // What is asked of a folder of this machine directly reports nothing by itself.
            let error = match runner.moorings.noted::<()>(Err(*error)) {
                Err(error) => error,
                Ok(()) => unreachable!("a failure stays one"),
            };
            let said = Said { code: error.kind.code().to_owned(), why: error.to_string(), remedy: error.remedy() };
            match runner.moorings.paused(&error.place) {
                // A place that is away is waited for, however long: the file has no fault.
                Some((until, _)) if error.kind.is_of_place() => {
                    let moved = Moved { due: Some(until), end: end(&said), why: Some(said.why), ..moved };
                    return After::Turn(wait(runner, claim, moved).await);
                }
                _ => (said, error.is_retryable()),
            }
        }
        FailureKind::Passing { code, why, remedy } => (Said { code, why, remedy }, true),
        FailureKind::Lasting { code, why, remedy } => (Said { code, why, remedy }, false),
    };
    let ended = end(&said);
    if !passes {
        // A rule that asks a person means it.
        let path = path.filter(|_| said.code != "asked");
        return for_good(runner, claim, Moved { end: ended, ..moved }, said, path).await;
    }
    let failures = claim.failures + 1;
    let moved = Moved { failures, end: ended, ..moved };
    match policy.pause_after(failures, claim.item.cast_unsigned()) {
        Some(pause) => {
            let due = clock::after(clock::now(), pause);
            let moved = Moved { due: Some(due), why: Some(said.why), ..moved };
            After::Turn(wait(runner, claim, moved).await)
        }
        None => {
            let said = Said { why: format!("{}; {failures} attempts failed", said.why), ..said };
            for_good(runner, claim, moved, said, path).await
        }
    }
}

/// What is said of a failure.
struct Said {
    code: String,
    why: String,
    remedy: String,
}

async fn wait(runner: &Runner, claim: Claim, moved: Moved) -> Turn {
    let due = moved.due.unwrap_or_else(clock::now);
    match settle(runner, claim, Moved { state: ItemState::Waiting, ..moved }).await {
        Settled::Done(claim) => Turn::Later(claim, due),
        Settled::Stopping => Turn::Stopping,
    }
}

/// A step failed for good: the failure path is taken, or the item is held.
async fn for_good(runner: &Arc<Runner>, claim: Claim, moved: Moved, said: Said, path: Option<Path<'_>>) -> After {
    let Some((next, step, hand)) = path else {
        return After::Turn(hold(runner, claim, moved, (&said.code, said.why, said.remedy)).await);
    };
    let hand = Hand { fault: Some(Fault { step: step.to_owned(), why: said.why }), ..hand.clone() };
    let chained = runner.chained_here(&claim, ChainEvent::Failed);
    let moved = Moved {
        state: ItemState::Working,
        branch: Some(next.branch),
        position: next.position,
        failures: 0,
        hand: hand.text(),
        chained,
        ..moved
    };
    match settle(runner, claim, moved).await {
        Settled::Done(claim) => {
            // That this step is over is on record: no attempt goes on with what it left aside. The log names what stays.
            let _ = runner.effects.clear_target(&claim).await;
            After::GoOn(claim, Box::new(hand))
        }
        Settled::Stopping => After::Turn(Turn::Stopping),
    }
}
