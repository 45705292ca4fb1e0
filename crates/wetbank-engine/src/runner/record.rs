//! What is written down of an item: what came of its steps, and its end.

use wetbank_core::{ChainEvent, ItemState};
use wetbank_journal::{AttemptEnd, NewHold, Outcome, Work};

use super::means::Runner;
use crate::{
    EngineError, clock,
    effects::StepDone,
    events::Event,
    queue::{Claim, Moved, Refused, Stopped},
};

/// How the work on an item ended for now.
pub(crate) enum Turn {
    /// It is done, skipped, held, or waits for others.
    Rest(Claim),
    /// It goes on at this time.
    Later(Claim, jiff::Timestamp),
    /// The service stops; the next start goes on with it.
    Stopping,
    /// Something that has to be known could not be read: it is tried again.
    Unread(Claim, EngineError),
}

/// What was read, or the end of the turn.
macro_rules! read {
    ($claim:ident, $read:expr) => {
        match $read {
            Ok(read) => read,
            Err(error) => return Turn::Unread($claim, error.into()),
        }
    };
}
pub(super) use read;

/// What became of something that was to be recorded.
pub(super) enum Settled {
    /// It is on record, and the item is there.
    Done(Claim),
    /// The service stops, and it is not.
    Stopping,
}

/// Records what came of an item, as often as the journal refuses it: until then the item is where it was.
pub(super) async fn settle(runner: &Runner, mut claim: Claim, moved: Moved) -> Settled {
    loop {
        match claim.commit(&runner.record.journal, &moved).await {
            Ok((claim, parts)) => {
                if !moved.chained.is_empty() {
                    runner.queue.chains.notify_one();
                }
                if moved.mail.is_some() {
                    runner.queue.mails.notify_one();
                }
                tell(runner, &claim);
                runner.queue.claims.add(parts);
                return Settled::Done(claim);
            }
            Err((same, Refused::Journal(_))) => {
                claim = same;
                if !runner.record.pauses().await {
                    return Settled::Stopping;
                }
            }
            Err((same, error @ Refused::Move(_))) => {
                // A fault of ours. The record is right, so it is left as it is until the next start.
                tracing::error!(item = same.item, %error, "an item was to take a way that it does not have");
                return Settled::Stopping;
            }
        }
    }
}

/// Tells those who listen, and those who wait for it, where an item stands now.
fn tell(runner: &Runner, work: &Work) {
    runner.queue.events.tell(Event::Item {
        run: work.run,
        item: work.item,
        rule: work.rule.clone(),
        state: work.state,
        branch: work.branch,
        step: work.position.code(),
    });
    if work.state == ItemState::Joining {
        // Only now is it in the journal; before, nobody could have seen that it waits.
        runner.queue.joins.expect(work.run);
    } else if work.state.is_at_rest() {
        runner.queue.joins.news(work.run);
    }
}

/// What is recorded after a step, but for where it leads.
pub(super) fn after(claim: &Claim, done: StepDone, state: ItemState) -> Moved {
    Moved {
        hand: done.hand.text(),
        failures: 0,
        end: attempt_end(&done),
        forget: done.freed,
        chained: done.chained,
        mail: done.mail,
        noted: done.noted,
        parts: done.parts,
        ..Moved::stays(claim, state)
    }
}

/// Leaves an item alone, for a reason. With `forget` the rule would take the file again.
pub(super) async fn skipped(runner: &Runner, claim: Claim, why: String, forget: bool) -> Turn {
    let moved = Moved { why: Some(why), forget, ..Moved::stays(&claim, ItemState::Skipped) };
    ended(runner, claim, moved).await
}

/// Leaves an item alone because of what its step found.
pub(super) async fn skipped_by(runner: &Runner, claim: Claim, done: StepDone, why: String) -> Turn {
    let moved = Moved { why: Some(why), ..after(&claim, done, ItemState::Skipped) };
    ended(runner, claim, moved).await
}

/// A person has to do something: the code, why, and what.
pub(super) async fn held(
    runner: &Runner,
    claim: Claim,
    end: Option<AttemptEnd>,
    (code, why, remedy): (&str, String, impl Into<String>),
) -> Turn {
    let moved = Moved { end, ..Moved::stays(&claim, ItemState::Held) };
    hold(runner, claim, moved, (code, why, remedy.into())).await
}

/// The same, with all that is to be recorded besides.
pub(super) async fn hold(
    runner: &Runner,
    claim: Claim,
    moved: Moved,
    (code, why, remedy): (&str, String, String),
) -> Turn {
    tracing::warn!(rule = %claim.rule, file = %claim.file, code, %why, "held");
    let chained = runner.chained_here(&claim, ChainEvent::Held);
    let hold = NewHold { code: code.to_owned(), why: why.clone(), remedy };
    let moved = Moved { state: ItemState::Held, why: Some(why), hold: Some(hold), chained, ..moved };
    match settle(runner, claim, moved).await {
        Settled::Done(claim) => {
            // What cannot be removed then either is when the hold ends.
            if !matches!(runner.effects.clear_target(&claim).await, Ok(false)) {
                runner.clear_later(Work::clone(&claim));
            }
            Turn::Rest(claim)
        }
        Settled::Stopping => Turn::Stopping,
    }
}

/// What follows when an item is told to stop: if only its run is, it is held.
pub(super) async fn end_stopped(runner: &Runner, claim: Claim, attempt: Option<(i64, bool)>) -> Turn {
    if runner.cancel.is_cancelled() {
        return Turn::Stopping;
    }
    let Stopped { code, why } = runner.queue.stopping.why(claim.run);
    let end = attempt.map(|(id, unclear)| AttemptEnd {
        id,
        ended: clock::now(),
        outcome: Outcome::Failed,
        size: None,
        code: Some(code.to_owned()),
        message: Some(why.clone()),
        remedy: None,
        also_named: None,
        unclear,
    });
    held(runner, claim, end, (code, why, "Release it to go on where it stopped, or dismiss it.")).await
}

/// Holds an item that nobody works on, because its run is stopped. Answers whether that is on record.
pub(crate) async fn stopped(runner: &Runner, work: Work) -> bool {
    matches!(end_stopped(runner, Claim::new(work), None).await, Turn::Rest(_))
}

fn attempt_end(done: &StepDone) -> Option<AttemptEnd> {
    Some(AttemptEnd {
        id: done.attempt?,
        ended: clock::now(),
        outcome: if done.skipped { Outcome::Skipped } else { Outcome::Done },
        size: done.size,
        code: done.code.map(str::to_owned),
        message: done.note.clone(),
        remedy: None,
        also_named: done.also_named.clone(),
        unclear: false,
    })
}

/// The end of an attempt that was cut short and is done again.
pub(super) fn cut_short(attempt: i64) -> AttemptEnd {
    AttemptEnd {
        id: attempt,
        ended: clock::now(),
        outcome: Outcome::Failed,
        size: None,
        code: Some("stopped".to_owned()),
        message: Some("it was cut short; it is done again".to_owned()),
        remedy: None,
        also_named: None,
        unclear: false,
    }
}

/// The item is at its end: what it left in the work folder goes.
pub(super) async fn ended(runner: &Runner, claim: Claim, moved: Moved) -> Turn {
    match settle(runner, claim, moved).await {
        Settled::Done(claim) => {
            runner.effects.clear_work(&claim).await;
            Turn::Rest(claim)
        }
        Settled::Stopping => Turn::Stopping,
    }
}

/// Records that an item is at rest, or waits for others.
pub(super) async fn rests(runner: &Runner, claim: Claim, moved: Moved) -> Turn {
    match settle(runner, claim, moved).await {
        Settled::Done(claim) => Turn::Rest(claim),
        Settled::Stopping => Turn::Stopping,
    }
}
