//! Working items through their branch, step by step.

mod find;
mod letter;
mod original;
mod record;

use std::{sync::Arc, time::Duration};

use tokio_util::sync::CancellationToken;
use wetbank_core::{
    Decision, FileFacts, ItemKind, ItemState, Letter, Next as Then, Original, RelPath, Rule, Step, decide,
};
use wetbank_journal::{Progress, Work};

use crate::{
    EngineError,
    claims::Next,
    clock,
    engine::Core,
    recover::{Found, recover},
    step::{AtStep, FailureKind, Hand, StepDone, StepFailure, about},
};
pub(crate) use find::ALL;
pub(crate) use original::base;
use original::{Look, keep, look};
pub(crate) use record::stopped;
use record::{After, End, after_failure, change, close_attempt, end_stopped, finish, hold, record, skip, step_done};

/// After the journal refused a write, when to try again.
const JOURNAL_PAUSE: Duration = Duration::from_secs(5);
/// Rules that hand a file to each other more often than this are going round in a circle.
const LONGEST_CHAIN: u32 = 8;
/// Items fetched from the journal at once.
const PAGE: i64 = 1000;

/// Claims items and works on each in a task of its own, until the service stops.
pub(crate) async fn run(core: Arc<Core>) {
    loop {
        if core.claims.wants_more() {
            fetch(&core).await;
        }
        match core.claims.next(clock::now()) {
            Next::Work(work, stop) => {
                let core = core.clone();
                core.tracker.clone().spawn(async move { work_on(&core, *work, &stop).await });
            }
            Next::Wait(due) => {
                let until = due.map_or(Duration::from_secs(60), clock::until);
                tokio::select! {
                    () = core.claims.changed() => {}
                    () = tokio::time::sleep(until) => {}
                    () = core.cancel.cancelled() => return,
                }
            }
            Next::Closed => return,
        }
    }
}

/// Offers every open item of the journal to the queue, as far as there is room.
pub(crate) async fn fetch(core: &Arc<Core>) {
    let mut after = 0;
    core.claims.expect_more(false);
    while !core.claims.has_more() {
        match core.journal.open_items(after, PAGE).await {
            Ok(page) => {
                let Some(last) = page.last() else { return };
                after = last.item;
                core.claims.add(page);
            }
            Err(error) => {
                tracing::error!(%error, "open items cannot be read; trying again");
                core.claims.expect_more(true);
            }
        }
    }
}

async fn work_on(core: &Arc<Core>, mut work: Work, stop: &CancellationToken) {
    let end = match through(core, &mut work, stop).await {
        Ok(End::Later(due)) => match core.claims.postpone(work, due) {
            None => return,
            Some(now) => {
                work = now;
                stopped(core, &mut work).await.map(|()| End::AtRest)
            }
        },
        end => end,
    };
    match end {
        Ok(End::AtRest | End::Later(_)) => core.claims.finish(&work),
        Ok(End::Stopping) => {}
        Err(error) => {
            tracing::error!(item = work.item, file = %work.file, %error, "the journal refused a write; trying again");
            core.events.end(work.item);
            // What was recorded and what not is found out by recovery.
            work.state = ItemState::Working;
            core.claims.put_off(work, clock::after(clock::now(), JOURNAL_PAUSE));
        }
    }
}

/// Positions of an item on its way through a branch: the indexes of its steps, then these.
fn at_original(branch: &wetbank_core::Branch) -> usize {
    branch.steps.len()
}

/// Behind everything.
fn at_end(branch: &wetbank_core::Branch) -> usize {
    branch.steps.len() + 1
}

/// At the end of a failure path.
fn at_failed_end(branch: &wetbank_core::Branch) -> usize {
    branch.steps.len() + 2
}

/// The position after the one where an item is.
fn next_position(branch: &wetbank_core::Branch, step: usize) -> usize {
    match branch.steps.get(step).map(|planned| planned.next) {
        Some(Then::Step(next)) => next,
        Some(Then::Original) => at_original(branch),
        Some(Then::Failed) => at_failed_end(branch),
        None => at_end(branch),
    }
}

fn leaves_original(original: &Original, hand: &Hand) -> bool {
    *original == Original::Stays || hand.original.is_none()
}

async fn through(core: &Arc<Core>, work: &mut Work, stop: &CancellationToken) -> Result<End, EngineError> {
    let Some(rule) = core.rule_of(work).await? else {
        let why = format!("the rule \"{}\" is no longer in the book", work.rule);
        return hold(core, work, None, "no-rule", why, "Put the rule back and release, or dismiss.".to_owned()).await;
    };
    if let Some(limit) = rule.limit {
        core.deadlines.watch(work.run, clock::after(work.started, limit));
    }
    if work.kind == ItemKind::Find {
        return find::find(core, work, &rule, stop).await;
    }
    let mut hand: Option<Hand> = work.hand.as_deref().and_then(|text| serde_json::from_str(text).ok());
    if work.state == ItemState::Working {
        match recover(core, work).await {
            Ok(Found::Done(mut done)) => {
                done.chained =
                    arranged(&rule, work).map(|branch| core.chained_by(work, branch, &done)).unwrap_or_default();
                hand = Some(done.hand.clone());
                let next = arranged(&rule, work).map_or(work.step + 1, |branch| next_position(branch, work.step));
                step_done(core, work, *done, next).await?;
            }
            Ok(Found::Again(Some(attempt))) if is_never_repeated(&rule, work) => {
                let kind = FailureKind::Lasting {
                    code: "unclear".to_owned(),
                    why: "Wetbank was stopped while the program ran; nobody knows how far it came".to_owned(),
                    remedy:
                        "Look at what it did. Release to run it again (again = true says that it may be), or dismiss."
                            .to_owned(),
                };
                let failure = StepFailure { attempt: Some(attempt), kind };
                return record::failed(core, work, rule.retry.clone(), failure).await;
            }
            Ok(Found::Again(Some(attempt))) => close_attempt(core, work, attempt).await?,
            Ok(Found::Again(None)) => {}
            Err(failure) => return record::failed(core, work, rule.retry.clone(), failure).await,
        }
    }
    let hand = match hand {
        Some(hand) => hand,
        // What it is made of, its first step tells.
        None if work.kind == ItemKind::Made => Hand::empty(RelPath::root()),
        None => match look(core, work, &rule).await? {
            Look::Hand(hand) => *hand,
            Look::End(end) => return Ok(end),
        },
    };
    if let Some(letter) = letter_of(&rule, work) {
        return letter::through(core, work, &rule, letter, hand, stop).await;
    }
    if work.branch.is_none()
        && let Some(end) = choose(core, work, &rule, &hand).await?
    {
        return Ok(end);
    }
    along(core, work, &rule, hand, stop).await
}

/// Whether the step at which an item was cut short must not be repeated unasked.
fn is_never_repeated(rule: &Rule, work: &Work) -> bool {
    let planned = arranged(rule, work).and_then(|branch| branch.steps.get(work.step));
    planned.is_some_and(|planned| matches!(&planned.step, Step::Program(program) if !program.again))
}

/// What is taken out of an item, if it is a letter that came.
fn letter_of<'r>(rule: &'r Rule, work: &Work) -> Option<&'r Letter> {
    let arrival = rule.starts.arrival.as_ref()?;
    let is_one = work.kind == ItemKind::File && work.file.place == arrival.files.place;
    arrival.letter.as_ref().filter(|_| is_one)
}

/// Counts a file, if the step that comes asks how many there were.
async fn counted(core: &Core, work: &mut Work, rule: &Rule, step: &Step, hand: &mut Hand) -> Result<(), EngineError> {
    if hand.count.is_none() && step.templates().iter().any(|template| template.mentions("count")) {
        let day = work.started.to_zoned(rule.zone.clone()).date().to_string();
        let uncounted = hand.clone();
        let with = move |number| serde_json::to_string(&Hand { count: Some(number), ..uncounted }).ok();
        // From now on it is this number, however often the step is tried.
        hand.count = Some(core.journal.count_file(&rule.name, day, work.item, with).await?);
        work.hand = serde_json::to_string(hand).ok();
    }
    Ok(())
}

fn arranged<'r>(rule: &'r Rule, work: &Work) -> Option<&'r wetbank_core::Branch> {
    rule.branches.get(work.branch?)
}

/// Chooses the branch; answers the end if none takes the file.
async fn choose(core: &Arc<Core>, work: &mut Work, rule: &Rule, hand: &Hand) -> Result<Option<End>, EngineError> {
    if work.depth > LONGEST_CHAIN {
        let why = format!("it came through {} rules one after the other; they may go round in a circle", work.depth);
        let remedy = "Check which rules write into each other's folders; release to go on once.".to_owned();
        return hold(core, work, None, "chain", why, remedy).await.map(Some);
    }
    let facts = FileFacts::new(&work.file, &hand.fingerprint).with(about(work, hand));
    match decide(rule, &facts, clock::now()) {
        Decision::Branch(branch) => {
            work.branch = Some(branch);
            Ok(None)
        }
        Decision::NotTaken { why } => skip(core, work, why, false).await.map(Some),
    }
}

/// Goes through the steps of the branch from where the item is.
async fn along(
    core: &Arc<Core>,
    work: &mut Work,
    rule: &Rule,
    mut hand: Hand,
    stop: &CancellationToken,
) -> Result<End, EngineError> {
    loop {
        let Some(branch) = arranged(rule, work) else {
            let why = format!("the rule has no branch {} any more", work.branch.unwrap_or(0) + 1);
            return hold(core, work, None, "no-branch", why, "Dismiss, or put the branch back.".to_owned()).await;
        };
        if work.step == at_failed_end(branch) {
            let why =
                hand.fault.as_ref().map_or_else(|| "a step failed".to_owned(), |f| format!("{}: {}", f.step, f.why));
            return skip(core, work, format!("{why}; what the rule says for that was done"), false).await;
        }
        if work.step == at_end(branch) || (work.step == at_original(branch) && leaves_original(&branch.original, &hand))
        {
            finish(core, work, None).await?;
            return Ok(End::AtRest);
        }
        if stop.is_cancelled() {
            return end_stopped(core, work, None).await;
        }
        if branch.steps.get(work.step).is_some_and(|planned| planned.step.joins()) && !is_to_be_made(work, &hand) {
            return gather(core, work, &hand).await;
        }
        if let Some(planned) = branch.steps.get(work.step) {
            counted(core, work, rule, &planned.step, &mut hand).await?;
        }
        let (result, retry, path) = match branch.steps.get(work.step) {
            None => (keep(core, work, rule, (branch, &hand), stop).await, rule.retry.clone(), None),
            Some(planned) => {
                let number = work.branch.unwrap_or(0);
                let kind = planned.step.kind();
                let at = AtStep { core, work, rule, branch: number, step: work.step, kind, hand: &hand, stop };
                let retry = planned.retry.clone().or_else(|| rule.retry.clone());
                (at.run(planned).await, retry, planned.on_failure)
            }
        };
        match result {
            Ok(mut done) => {
                done.chained = core.chained_by(work, branch, &done);
                hand = done.hand.clone();
                if let Some(other) = done.branch {
                    work.branch = Some(other);
                    step_done(core, work, done, 0).await?;
                    continue;
                }
                let next = next_position(branch, work.step);
                if !done.parts.is_empty() {
                    return split(core, work, done, next).await;
                }
                let is_last =
                    next == at_end(branch) || (next == at_original(branch) && leaves_original(&branch.original, &hand));
                if is_last {
                    work.step = next;
                    finish(core, work, Some(done)).await?;
                    return Ok(End::AtRest);
                }
                step_done(core, work, done, next).await?;
            }
            Err(failure) => {
                let kind = branch.steps.get(work.step).map_or("original", |planned| planned.step.kind());
                match after_failure(core, work, retry, failure, path.map(|path| (path, kind, &hand))).await? {
                    After::End(end) => return Ok(end),
                    After::GoOn(with) => hand = *with,
                }
            }
        }
    }
}

/// Whether an item is only about to be made of others, by the step where it stands.
fn is_to_be_made(work: &Work, hand: &Hand) -> bool {
    work.kind == ItemKind::Made && !hand.has_file()
}

/// The item waits for the others of its run.
async fn gather(core: &Arc<Core>, work: &mut Work, hand: &Hand) -> Result<End, EngineError> {
    work.hand = serde_json::to_string(hand).ok();
    let change = change(work, ItemState::Joining);
    record(core, work, Progress::change(change)).await?;
    Ok(End::AtRest)
}

/// The item waits for the files that were taken out of its own.
async fn split(core: &Arc<Core>, work: &mut Work, mut done: StepDone, next: usize) -> Result<End, EngineError> {
    let mut parts = std::mem::take(&mut done.parts);
    parts.iter_mut().for_each(|part| part.step = next);
    work.hand = serde_json::to_string(&done.hand).ok();
    let progress = record::ended(work, &done, ItemState::Joining);
    let works = core.journal.split(progress, work, parts, clock::now()).await?;
    record::tell(core, work, ItemState::Joining);
    core.claims.add(works);
    Ok(End::AtRest)
}

/// Everything made of an item is at its end: what becomes of its original comes next.
pub(crate) async fn resume(core: &Arc<Core>, mut work: Work) -> Result<(), EngineError> {
    let Some(rule) = core.rule_of(&work).await? else { return Ok(()) };
    work.step = arranged(&rule, &work).map_or(work.step, at_original);
    let change = change(&work, ItemState::Queued);
    record(core, &mut work, Progress::change(change)).await?;
    core.claims.go_on(work);
    Ok(())
}

/// What was made of an item was left out, and so is the item.
pub(crate) async fn leave(core: &Arc<Core>, work: &mut Work, why: String) -> Result<(), EngineError> {
    skip(core, work, why, false).await.map(drop)
}
