//! Working items through their rule: what comes next the domain says, what came of it is recorded, and only what
//! is on record leads on.

use std::{panic::AssertUnwindSafe, sync::Arc, time::Duration};

use futures_util::FutureExt;
use tokio_util::sync::CancellationToken;
use wetbank_core::{
    Branch, Decision, FileFacts, ItemKind, ItemState, Letter, Original, Outcome, Position, RelPath, Rule, Step, Stuck,
    advance, decide,
};
use wetbank_journal::Work;
use wetbank_places::PlaceErrorKind;

use super::{
    failure::{After, after_failure, failed},
    find, letter,
    means::Runner,
    original::{Look, keep, look},
    record::{self, Settled, Turn, end_stopped, ended, held, read, rests, settle, skipped, skipped_by},
};
use crate::{
    EngineError,
    arranged::RuleOf,
    clock,
    effects::{AtStep, FailureKind, Found, Hand, StepDone, StepFailure, about, recover},
    queue::{Claim, Moved, Next},
};

/// After something could not be read, when it is tried again.
const AGAIN: Duration = Duration::from_secs(5);
/// Rules that hand a file to each other more often than this are going round in a circle.
const LONGEST_CHAIN: u32 = 8;
/// Items fetched from the journal at once.
const PAGE: i64 = 1000;

/// Claims items and works on each in a task of its own, until the service stops.
pub(crate) async fn run(runner: Arc<Runner>) {
    loop {
        if runner.queue.claims.wants_more() {
            fetch(&runner).await;
        }
        match runner.queue.claims.next(clock::now()) {
            Next::Work(claim, stop) => {
                let runner = runner.clone();
                runner.tracker.clone().spawn(async move { work_on(&runner, claim, &stop).await });
            }
            Next::Wait(due) => {
                let until = due.map_or(Duration::from_secs(60), clock::until);
                tokio::select! {
                    () = runner.queue.claims.changed() => {}
                    () = tokio::time::sleep(until) => {}
                    () = runner.cancel.cancelled() => return,
                }
            }
            Next::Closed => return,
        }
    }
}

/// Offers every open item of the journal to the queue, as far as there is room.
pub(crate) async fn fetch(runner: &Arc<Runner>) {
    let mut after = 0;
    runner.queue.claims.expect_more(false);
    while !runner.queue.claims.has_more() {
        match runner.record.journal.open_items(after, PAGE).await {
            Ok(page) => {
                let Some(last) = page.last() else { return };
                after = last.item;
                runner.queue.claims.add(page);
            }
            Err(error) => {
                tracing::error!(%error, "open items cannot be read; trying again");
                runner.queue.claims.expect_more(true);
            }
        }
    }
}

async fn work_on(runner: &Arc<Runner>, claim: Claim, stop: &CancellationToken) {
    let turn = match through(runner, claim, stop).await {
        Turn::Later(claim, due) => match runner.queue.claims.postpone(claim, due) {
            None => return,
            Some(claim) => end_stopped(runner, claim, None).await,
        },
        turn => turn,
    };
    match turn {
        Turn::Rest(claim) => runner.queue.claims.finish(&claim),
        Turn::Later(claim, due) => runner.queue.claims.put_off(claim, due),
        Turn::Stopping => {}
        Turn::Unread(claim, error) => {
            tracing::error!(item = claim.item, file = %claim.file, %error, "it cannot go on now; trying again");
            runner.queue.events.end(claim.item);
            runner.queue.claims.put_off(claim.left_unclear(), clock::after(clock::now(), AGAIN));
        }
    }
}

/// Whether nothing is to be done with the original.
fn keeps_original(branch: &Branch, hand: &Hand) -> bool {
    branch.original == Original::Stays || hand.original.is_none()
}

fn arranged<'r>(rule: &'r Rule, work: &Work) -> Option<&'r Branch> {
    rule.branches.get(work.branch?)
}

/// Where an item is, in the words of its rule.
fn here(rule: &Rule, work: &Work) -> Position {
    arranged(rule, work).map_or(work.position, |branch| work.position.within(branch.steps.len()))
}

async fn through(runner: &Arc<Runner>, claim: Claim, stop: &CancellationToken) -> Turn {
    let rule = match read!(claim, runner.arranged.rule_of(&claim).await) {
        RuleOf::Rule(rule) => rule,
        RuleOf::Gone => {
            let why = format!("the rule \"{}\" is no longer in the book", claim.rule);
            return held(runner, claim, None, ("no-rule", why, "Put the rule back and release, or dismiss.")).await;
        }
        RuleOf::Unreadable(problem) => {
            let why = format!(
                "it began with version {} of the rule \"{}\", which cannot be read any more: {problem}",
                claim.version, claim.rule
            );
            let remedy = "Put back what that version names and release; or dismiss this, and have today's rule take \
                          the file anew (wetbank rule run RULE --file PLACE:/PATH).";
            return held(runner, claim, None, ("old-rule", why, remedy)).await;
        }
    };
    if let Some(limit) = rule.limit {
        runner.queue.deadlines.watch(claim.run, clock::after(claim.started, limit));
    }
    if claim.kind == ItemKind::Find {
        return find::find(runner, claim, &rule, stop).await;
    }
    let claim = if claim.unclear {
        match settle_unclear(runner, claim, &rule).await {
            Ok(claim) => claim,
            Err(turn) => return turn,
        }
    } else {
        claim
    };
    let hand = match read!(claim, Hand::of(&claim)) {
        Some(hand) => hand,
        // What it is made of, its first step tells.
        None if claim.kind == ItemKind::Made => Hand::empty(RelPath::root()),
        None => match look(runner, claim, &rule).await {
            Look::Hand(same, hand) => return with_hand(runner, same, &rule, *hand, stop).await,
            Look::End(turn) => return turn,
        },
    };
    with_hand(runner, claim, &rule, hand, stop).await
}

async fn with_hand(runner: &Arc<Runner>, claim: Claim, rule: &Rule, hand: Hand, stop: &CancellationToken) -> Turn {
    if let Some(letter) = letter_of(rule, &claim) {
        return letter::through(runner, claim, rule, letter, hand, stop).await;
    }
    if claim.position == Position::Branching {
        return choose(runner, claim, rule, hand, stop).await;
    }
    along(runner, claim, rule, hand, stop).await
}

/// Looks what became of an attempt of which nobody knows it, before anything else is done: what was
/// committed is recorded as done and not done again. Where the item is, the record tells.
async fn settle_unclear(runner: &Arc<Runner>, claim: Claim, rule: &Rule) -> Result<Claim, Turn> {
    let claim = match runner.record.journal.work(claim.item).await {
        Ok(Some(work)) => Claim::new(work),
        Ok(None) => claim,
        Err(error) => return Err(Turn::Unread(claim, error.into())),
    };
    if claim.state.is_at_rest() {
        return Err(Turn::Rest(claim));
    }
    let moved = match recover(&runner.effects, &claim).await {
        Ok(Found::Done(done)) => match onward(runner, &claim, rule, *done) {
            Some(moved) => moved,
            None => return Err(lost_way(runner, claim, rule).await),
        },
        Ok(Found::Again(Some(attempt))) if !attempt.has_ended && is_never_repeated(rule, &claim) => {
            let kind = FailureKind::Lasting {
                code: "unclear".to_owned(),
                why: "Wetbank was stopped while the program ran; nobody knows how far it came".to_owned(),
                remedy: "Look at what it did. Release to run it again (again = true says that it may be), or dismiss."
                    .to_owned(),
            };
            let failure = StepFailure { attempt: Some(attempt.id), kind, unclear: false };
            return Err(failed(runner, claim, rule.retry.clone(), failure).await);
        }
        Ok(Found::Again(Some(attempt))) if attempt.has_ended => {
            Moved { settled: Some(attempt.id), ..Moved::stays(&claim, ItemState::Working) }
        }
        Ok(Found::Again(Some(attempt))) => {
            Moved { end: Some(record::cut_short(attempt.id)), ..Moved::stays(&claim, ItemState::Working) }
        }
        Ok(Found::Again(None)) => return Ok(claim),
        // What a pass does about a file is planned anew from what is there, however this ended.
        Err(StepFailure { attempt, kind: FailureKind::Lasting { code, why, .. }, .. })
            if code == "unclear" && is_planned(&claim) =>
        {
            let (end, why) = (attempt.map(record::cut_short), Some(format!("{why}; the next pass plans it anew")));
            let moved = Moved { end, why, ..Moved::stays(&claim, ItemState::Skipped) };
            return Err(ended(runner, claim, moved).await);
        }
        Err(failure) => return Err(failed(runner, claim, rule.retry.clone(), failure).await),
    };
    let is_over = moved.state.is_at_rest();
    match settle(runner, claim, moved).await {
        Settled::Done(claim) if is_over => {
            runner.effects.clear_work(&claim).await;
            Err(Turn::Rest(claim))
        }
        Settled::Done(claim) => Ok(claim),
        Settled::Stopping => Err(Turn::Stopping),
    }
}

/// Whether a pass of a twin planned what an item does.
fn is_planned(work: &Work) -> bool {
    matches!(Hand::of(work), Ok(Some(Hand { aligned: Some(_), .. })))
}

/// Whether the step at which an item was cut short must not be repeated unasked.
fn is_never_repeated(rule: &Rule, work: &Work) -> bool {
    let planned = here(rule, work).step().and_then(|step| arranged(rule, work)?.steps.get(step));
    planned.is_some_and(|planned| !planned.step.is_repeatable())
}

/// What is taken out of an item, if it is a letter that came.
fn letter_of<'r>(rule: &'r Rule, work: &Work) -> Option<&'r Letter> {
    let arrival = rule.starts.arrival.as_ref()?;
    let is_one = work.kind == ItemKind::File && work.file.place == arrival.files.place;
    arrival.letter.as_ref().filter(|_| is_one)
}

/// Counts a file, if the step that comes asks how many there were. From then on it is this number,
/// however often the step is tried.
async fn counted(runner: &Runner, claim: Claim, rule: &Rule, step: &Step, hand: &mut Hand) -> Result<Claim, Turn> {
    if hand.count.is_some() || !step.templates().iter().any(|template| template.mentions("count")) {
        return Ok(claim);
    }
    let day = claim.started.to_zoned(rule.zone.clone()).date().to_string();
    let counted = runner
        .record
        .insist(|| {
            let uncounted = hand.clone();
            let with = move |number| Hand { count: Some(number), ..uncounted }.text();
            runner.record.journal.count_file(&rule.name, day.clone(), claim.item, with)
        })
        .await;
    let Some(number) = counted else { return Err(Turn::Stopping) };
    hand.count = Some(number);
    Ok(claim.with_hand(hand.text()))
}

/// Chooses the branch and goes on along it, or ends if none takes the file.
async fn choose(runner: &Arc<Runner>, claim: Claim, rule: &Rule, hand: Hand, stop: &CancellationToken) -> Turn {
    if claim.depth > LONGEST_CHAIN {
        let why = format!("it came through {} rules one after the other; they may go round in a circle", claim.depth);
        let remedy = "Check which rules write into each other's folders; release to go on once.";
        return held(runner, claim, None, ("chain", why, remedy)).await;
    }
    let facts = FileFacts::new(&claim.file, &hand.fingerprint).with(about(&claim, &hand));
    match decide(rule, &facts, clock::now()) {
        Decision::Branch(branch) => {
            let keeps = rule.branches.get(branch).is_none_or(|branch| keeps_original(branch, &hand));
            match advance(rule, (None, Position::Branching), Outcome::Taken(branch), keeps) {
                // The first attempt records the branch with its beginning; a branch without any ends here.
                Ok(next) if next.position.state() == ItemState::Working => {
                    along_from(runner, claim, rule, hand, stop, Some((next.branch, next.position))).await
                }
                Ok(next) => {
                    let moved = Moved {
                        branch: Some(next.branch),
                        position: next.position,
                        ..Moved::stays(&claim, next.position.state())
                    };
                    ended(runner, claim, moved).await
                }
                Err(stuck) => no_branch(runner, claim, stuck).await,
            }
        }
        Decision::NotTaken { why } => skipped(runner, claim, why, false).await,
    }
}

async fn no_branch(runner: &Runner, claim: Claim, stuck: Stuck) -> Turn {
    held(runner, claim, None, ("no-branch", stuck.to_string(), "Dismiss, or put the branch back.")).await
}

/// The rule has no such position.
async fn lost_way(runner: &Runner, claim: Claim, rule: &Rule) -> Turn {
    let stuck = match claim.branch {
        Some(branch) if branch >= rule.branches.len() => Stuck::NoBranch(branch),
        _ => Stuck::NotThere,
    };
    no_branch(runner, claim, stuck).await
}

/// Goes through the steps of the branch from where the item is.
async fn along(runner: &Arc<Runner>, claim: Claim, rule: &Rule, hand: Hand, stop: &CancellationToken) -> Turn {
    along_from(runner, claim, rule, hand, stop, None).await
}

/// The same; `begins` is where an item begins that has only just been taken by a branch.
async fn along_from(
    runner: &Arc<Runner>,
    mut claim: Claim,
    rule: &Rule,
    mut hand: Hand,
    stop: &CancellationToken,
    mut begins: Option<(usize, Position)>,
) -> Turn {
    loop {
        let (branch_at, position) = match begins {
            Some((branch, position)) => (Some(branch), position),
            None => (claim.branch, here(rule, &claim)),
        };
        let Some((number, branch)) = branch_at.and_then(|at| Some((at, rule.branches.get(at)?))) else {
            return lost_way(runner, claim, rule).await;
        };
        if position.state() != ItemState::Working || (position == Position::Original && keeps_original(branch, &hand)) {
            return at_the_end(runner, claim, position, &hand).await;
        }
        if stop.is_cancelled() {
            return end_stopped(runner, claim, None).await;
        }
        let planned = position.step().and_then(|step| branch.steps.get(step));
        if position.step().is_some() && planned.is_none() {
            return lost_way(runner, claim, rule).await;
        }
        if planned.is_some_and(|planned| planned.step.joins()) && !is_to_be_made(&claim, &hand) {
            let at = Moved { branch: Some(number), position, ..Moved::stays(&claim, ItemState::Joining) };
            return rests(runner, claim, Moved { hand: hand.text(), ..at }).await;
        }
        if let Some(planned) = planned {
            claim = match counted(runner, claim, rule, &planned.step, &mut hand).await {
                Ok(claim) => claim,
                Err(turn) => return turn,
            };
        }
        let kind = planned.map_or("original", |planned| planned.step.kind());
        let at =
            AtStep { effects: &runner.effects, work: &claim, rule, branch: number, position, kind, hand: &hand, stop };
        let (result, retry) = match planned {
            None => (caught(keep(&runner.moorings, &at, branch), kind).await, rule.retry.clone()),
            Some(planned) => {
                let retry = planned.retry.clone().or_else(|| rule.retry.clone());
                (caught(at.run(planned), kind).await, retry)
            }
        };
        let from = (Some(number), position);
        match result {
            Ok(done) => {
                let made = done.hand.clone();
                if let Some(why) = done.left.clone() {
                    return skipped_by(runner, claim, done, why).await;
                }
                let is_split = !done.parts.is_empty();
                let Some(mut moved) = onward_from(runner, &claim, rule, from, done) else {
                    return lost_way(runner, claim, rule).await;
                };
                if is_split {
                    // The parts go on; the whole waits where it was taken apart.
                    moved.parts.iter_mut().for_each(|part| part.position = moved.position);
                    let whole = Moved { state: ItemState::Joining, branch: Some(number), position, ..moved };
                    return rests(runner, claim, whole).await;
                }
                if moved.state.is_at_rest() {
                    return ended(runner, claim, moved).await;
                }
                claim = match settle(runner, claim, moved).await {
                    Settled::Done(claim) => claim,
                    Settled::Stopping => return Turn::Stopping,
                };
                hand = made;
            }
            Err(failure) => {
                let failure = gone_meanwhile(&claim, position, &hand, failure);
                let path = advance(rule, from, Outcome::Failed, false).ok().map(|next| (next, kind, &hand));
                let claim_at = (number, position);
                match after_failure(runner, claim, claim_at, retry, failure, path).await {
                    After::Turn(turn) => return turn,
                    After::GoOn(same, with) => (claim, hand) = (same, *with),
                }
            }
        }
        begins = None;
    }
}

/// A file that went away while it was read, before anything was done with it, has no fault: it is looked at again,
/// as it would have been if it had gone before its turn.
fn gone_meanwhile(claim: &Claim, position: Position, hand: &Hand, failure: StepFailure) -> StepFailure {
    let is_untouched =
        position.step() == Some(0) && hand.fault.is_none() && hand.place.as_ref() == Some(&claim.file.place);
    match &failure.kind {
        FailureKind::Place(error)
            if is_untouched
                && error.kind == PlaceErrorKind::NotFound
                && (&error.place, &error.path) == (&claim.file.place, &claim.file.path)
                && hand.path == claim.file.path =>
        {
            let kind = FailureKind::Passing {
                code: error.kind.code().to_owned(),
                why: "it was renamed or removed while it was read".to_owned(),
                remedy: "It is looked at again.".to_owned(),
            };
            StepFailure { kind, ..failure }
        }
        _ => failure,
    }
}

/// An effect that breaks off in a way that nobody foresaw is a failure of its step and of nothing else.
async fn caught(
    effect: impl Future<Output = Result<StepDone, StepFailure>>,
    kind: &str,
) -> Result<StepDone, StepFailure> {
    match AssertUnwindSafe(effect).catch_unwind().await {
        Ok(result) => result,
        Err(panic) => {
            let said = panic.downcast_ref::<String>().map(String::as_str);
            let said = said.or_else(|| panic.downcast_ref::<&str>().copied()).unwrap_or("it said nothing");
            tracing::error!(step = kind, said, "a step broke off");
            let kind = FailureKind::broke_off(&format!("\"{kind}\""), said);
            Err(StepFailure { attempt: None, kind, unclear: true })
        }
    }
}

/// The end of an item that came here without anything left to do.
async fn at_the_end(runner: &Runner, claim: Claim, position: Position, hand: &Hand) -> Turn {
    if position == Position::Failed {
        return skipped(runner, claim, failed_way(hand), false).await;
    }
    let moved = Moved { position: Position::End, failures: 0, ..Moved::stays(&claim, ItemState::Done) };
    ended(runner, claim, moved).await
}

/// Why an item is left out whose step failed, when all is done that the rule says for that.
fn failed_way(hand: &Hand) -> String {
    let why = hand.fault.as_ref().map_or_else(|| "a step failed".to_owned(), |f| format!("{}: {}", f.step, f.why));
    format!("{why}; what the rule says for that was done")
}

/// What is recorded when the position where an item is on record is done; nothing if the rule has none such.
fn onward(runner: &Runner, claim: &Claim, rule: &Rule, done: StepDone) -> Option<Moved> {
    onward_from(runner, claim, rule, (claim.branch, here(rule, claim)), done)
}

fn onward_from(
    runner: &Runner,
    claim: &Claim,
    rule: &Rule,
    from: (Option<usize>, Position),
    mut done: StepDone,
) -> Option<Moved> {
    let outcome = done.branch.map_or(Outcome::Done, Outcome::Continued);
    let branch = rule.branches.get(done.branch.or(from.0)?)?;
    if let Some(step) = from.1.step() {
        done.chained = runner.chained_by(claim, rule.branches.get(from.0?)?.steps.get(step), &done);
    }
    let keeps = keeps_original(branch, &done.hand);
    let next = advance(rule, from, outcome, keeps).ok()?;
    let why = (next.position == Position::Failed).then(|| failed_way(&done.hand));
    let moved = record::after(claim, done, next.position.state());
    Some(Moved { branch: Some(next.branch), position: next.position, why, ..moved })
}

/// Whether an item is only about to be made of others, by the step where it stands.
fn is_to_be_made(work: &Work, hand: &Hand) -> bool {
    work.kind == ItemKind::Made && !hand.has_file()
}

/// Everything made of an item is at its end: what becomes of its original comes next.
pub(super) async fn resume(runner: &Arc<Runner>, claim: Claim) -> Result<(), EngineError> {
    let position = match runner.arranged.rule_of(&claim).await? {
        RuleOf::Rule(rule) => advance(&rule, (claim.branch, here(&rule, &claim)), Outcome::Joined, false),
        RuleOf::Gone | RuleOf::Unreadable(_) => Err(Stuck::NotThere),
    };
    // A letter has no branch; what cannot be told now is told when it goes on.
    let position = position.map_or(Position::Original, |next| next.position);
    let moved = Moved { position, ..Moved::stays(&claim, ItemState::Queued) };
    if let Settled::Done(claim) = settle(runner, claim, moved).await {
        runner.queue.claims.go_on(claim.into_work());
    }
    Ok(())
}

/// What was made of an item was left out, and so is the item.
pub(super) async fn leave(runner: &Arc<Runner>, claim: Claim, why: String) {
    skipped(runner, claim, why, false).await;
}
