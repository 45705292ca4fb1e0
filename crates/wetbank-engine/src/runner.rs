//! Working items through their branch, step by step.

use std::{sync::Arc, time::Duration};

use jiff::Timestamp;
use tokio_util::sync::CancellationToken;
use wetbank_core::{
    Decision, FileFacts, FilePath, IfExists, ItemState, Original, RelPath, RetryPolicy, Rule, Step, TemplateFacts,
    decide,
};
use wetbank_journal::{AttemptEnd, ItemChange, NewHold, Outcome, Progress, Work};
use wetbank_places::{EntryKind, PlaceErrorKind};

use crate::{
    EngineError,
    claims::Next,
    clock,
    engine::Core,
    events::Event,
    recover::{Found, recover},
    step::{AtStep, FailureKind, Hand, StepDone, StepFailure},
};

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
            Next::Work(work) => {
                let core = core.clone();
                core.tracker.clone().spawn(async move { work_on(&core, *work).await });
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

/// Offers every open item of the journal to the queue.
pub(crate) async fn fetch(core: &Arc<Core>) {
    let mut after = 0;
    core.claims.has_all();
    loop {
        match core.journal.open_items(after, PAGE).await {
            Ok(page) => {
                let Some(last) = page.last() else { return };
                after = last.item;
                core.claims.add(page);
            }
            Err(error) => {
                tracing::error!(%error, "open items cannot be read");
                return;
            }
        }
    }
}

/// Why an item of a stopped run is held.
const STOPPED: &str = "its run was stopped by a person";

enum End {
    AtRest,
    Later(Timestamp),
    Stopping,
}

async fn work_on(core: &Arc<Core>, mut work: Work) {
    let stop = core.begin(&work);
    let end = through(core, &mut work, &stop).await;
    core.end(work.item);
    match end {
        Ok(End::AtRest) => core.claims.finish(&work),
        Ok(End::Later(due)) => core.claims.postpone(work, due),
        Ok(End::Stopping) => {}
        Err(error) => {
            tracing::error!(item = work.item, file = %work.file, %error, "the journal refused a write; trying again");
            core.events.end(work.item);
            // What was recorded and what not is found out by recovery.
            work.state = ItemState::Working;
            core.claims.postpone(work, clock::after(clock::now(), JOURNAL_PAUSE));
        }
    }
}

fn change(work: &Work, state: ItemState) -> ItemChange {
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

async fn record(core: &Core, work: &mut Work, progress: Progress) -> Result<(), EngineError> {
    let state = progress.change.state;
    core.journal.record(progress).await?;
    work.state = state;
    core.events.tell(Event::Item {
        run: work.run,
        item: work.item,
        rule: work.rule.clone(),
        state,
        branch: work.branch,
        step: work.step,
    });
    Ok(())
}

async fn skip(core: &Core, work: &mut Work, why: String) -> Result<End, EngineError> {
    let change = ItemChange { why: Some(why), ..change(work, ItemState::Skipped) };
    record(core, work, Progress { end: None, change, hold: None, forget: None }).await?;
    Ok(End::AtRest)
}

async fn hold(
    core: &Core,
    work: &mut Work,
    end: Option<AttemptEnd>,
    code: &str,
    why: String,
    remedy: String,
) -> Result<End, EngineError> {
    tracing::warn!(rule = %work.rule, file = %work.file, code, %why, "held");
    let hold = NewHold { code: code.to_owned(), why: why.clone(), remedy };
    let change = ItemChange { why: Some(why), ..change(work, ItemState::Held) };
    record(core, work, Progress { end, change, hold: Some(hold), forget: None }).await?;
    Ok(End::AtRest)
}

/// What follows when an item is told to stop: if only its run is, it is held.
async fn end_stopped(core: &Core, work: &mut Work, attempt: Option<i64>) -> Result<End, EngineError> {
    if core.cancel.is_cancelled() {
        return Ok(End::Stopping);
    }
    let end = attempt.map(|id| AttemptEnd {
        id,
        ended: clock::now(),
        outcome: Outcome::Failed,
        size: None,
        code: Some("stopped".to_owned()),
        message: Some(STOPPED.to_owned()),
        remedy: None,
        also_named: None,
    });
    let remedy = "Release it to go on where it stopped, or dismiss it.".to_owned();
    hold(core, work, end, "stopped", STOPPED.to_owned(), remedy).await
}

/// Holds an item that nobody works on, because its run is stopped.
pub(crate) async fn stopped(core: &Core, work: &mut Work) -> Result<(), EngineError> {
    end_stopped(core, work, None).await.map(drop)
}

async fn through(core: &Arc<Core>, work: &mut Work, stop: &CancellationToken) -> Result<End, EngineError> {
    let Some(rule) = core.rule_of(work).await? else {
        let why = format!("the rule \"{}\" is no longer in the book", work.rule);
        return hold(core, work, None, "no-rule", why, "Put the rule back and release, or dismiss.".to_owned()).await;
    };
    let mut hand: Option<Hand> = work.hand.as_deref().and_then(|text| serde_json::from_str(text).ok());
    if work.state == ItemState::Working {
        match recover(core, work).await {
            Ok(Found::Done(done)) => {
                hand = Some(done.hand.clone());
                step_done(core, work, *done).await?;
                if is_finished(&rule, work) {
                    return end(core, work, &rule).await;
                }
            }
            Ok(Found::Again(Some(attempt))) => close_attempt(core, work, attempt).await?,
            Ok(Found::Again(None)) => {}
            Err(failure) => return failed(core, work, &rule, failure).await,
        }
    }
    let mut hand = match hand {
        Some(hand) => hand,
        None => match look(core, work).await? {
            Look::Hand(hand) => *hand,
            Look::End(end) => return Ok(end),
        },
    };
    let branch = match work.branch {
        Some(branch) => branch,
        None => {
            if work.depth > LONGEST_CHAIN {
                let why =
                    format!("it came through {} rules one after the other; they may go round in a circle", work.depth);
                let remedy = "Check which rules write into each other's folders; release to go on once.".to_owned();
                return hold(core, work, None, "chain", why, remedy).await;
            }
            let facts = FileFacts::new(&work.file, &hand.fingerprint);
            match decide(&rule, &facts, clock::now()) {
                Decision::Branch(branch) => branch,
                Decision::NotTaken { why } => return skip(core, work, why).await,
            }
        }
    };
    work.branch = Some(branch);
    let Some(arranged) = rule.branches.get(branch) else {
        let why = format!("the rule has no branch {} any more", branch + 1);
        return hold(core, work, None, "no-branch", why, "Dismiss, or put the branch back.".to_owned()).await;
    };
    while let Some(step) = arranged.steps.get(work.step) {
        if stop.is_cancelled() {
            return end_stopped(core, work, None).await;
        }
        let at = AtStep { core, work, rule: &rule, branch, step: work.step, kind: step.kind(), hand: &hand, stop };
        match at.run(step).await {
            Ok(done) => {
                hand = done.hand.clone();
                let last = work.step + 1 == arranged.steps.len() && leaves_original(&arranged.original, &hand);
                if last {
                    work.step += 1;
                    work.failures = 0;
                    finish(core, work, &rule, Some(done)).await?;
                    return Ok(End::AtRest);
                }
                step_done(core, work, done).await?;
            }
            Err(failure) => return failed(core, work, &rule, failure).await,
        }
    }
    if work.step == arranged.steps.len() && !leaves_original(&arranged.original, &hand) {
        match keep(core, work, &rule, (branch, &arranged.original), &hand, stop).await {
            Ok(done) => {
                work.step += 1;
                work.failures = 0;
                finish(core, work, &rule, Some(done)).await?;
                return Ok(End::AtRest);
            }
            Err(failure) => return failed(core, work, &rule, failure).await,
        }
    }
    end(core, work, &rule).await
}

fn leaves_original(original: &Original, hand: &Hand) -> bool {
    *original == Original::Stays || hand.original.is_none()
}

fn is_finished(rule: &Rule, work: &Work) -> bool {
    let steps = work.branch.and_then(|branch| rule.branches.get(branch)).map_or(0, |b| b.steps.len());
    work.step > steps
}

async fn end(core: &Arc<Core>, work: &mut Work, rule: &Rule) -> Result<End, EngineError> {
    finish(core, work, rule, None).await?;
    Ok(End::AtRest)
}

enum Look {
    Hand(Box<Hand>),
    End(End),
}

/// Looks at the file that came, before anything is done with it.
async fn look(core: &Arc<Core>, work: &mut Work) -> Result<Look, EngineError> {
    let name = work.file.place.clone();
    if let Some((until, _)) = core.health.paused(&name) {
        return Ok(Look::End(End::Later(until)));
    }
    let found = match core.arrangement().place(&name) {
        Ok(place) => place.stat(&work.file.path).await,
        Err(error) => Err(error),
    };
    match found {
        Ok(entry) if entry.kind != EntryKind::File => {
            let why = "it is no regular file any more".to_owned();
            Ok(Look::End(skip(core, work, why).await?))
        }
        Ok(entry) if entry.fingerprint.to_string() != work.fingerprint => {
            let why = "it was replaced before its turn; the new file is taken by itself".to_owned();
            Ok(Look::End(skip(core, work, why).await?))
        }
        Ok(entry) => Ok(Look::Hand(Box::new(Hand {
            place: Some(name),
            path: work.file.path.clone(),
            name: RelPath::from_bytes(work.file.path.name()).expect("a name of a path"),
            fingerprint: entry.fingerprint.clone(),
            original: Some((work.file.clone(), entry.fingerprint)),
        }))),
        Err(e) if e.kind == PlaceErrorKind::NotFound => {
            let forget = Some((work.rule.clone(), work.file.clone()));
            let why = "it was gone before its turn".to_owned();
            let change = ItemChange { why: Some(why), ..change(work, ItemState::Skipped) };
            record(core, work, Progress { end: None, change, hold: None, forget }).await?;
            Ok(Look::End(End::AtRest))
        }
        Err(error) => {
            let policy = core.rule_of(work).await?.and_then(|rule| rule.retry.clone());
            let failure = StepFailure { attempt: None, kind: error.into() };
            Ok(Look::End(later_or_hold(core, work, policy, failure).await?))
        }
    }
}

/// What becomes of the original, after everything else.
async fn keep(
    core: &Arc<Core>,
    work: &Work,
    rule: &Rule,
    (branch, original): (usize, &Original),
    hand: &Hand,
    stop: &CancellationToken,
) -> Result<StepDone, StepFailure> {
    let at = AtStep { core, work, rule, branch, step: work.step, kind: "original", hand, stop };
    let mut attempt = None;
    let result = match (original, &hand.original) {
        (Original::MoveTo(folder), Some((file, fingerprint))) => {
            let facts = FileFacts::new(file, fingerprint);
            let started = work.started;
            let facts = TemplateFacts { file: &facts, rule, run: work.run, started, now: started };
            match aside(&rule.arrival.folder, folder, &facts) {
                Ok(folder) => match still_the_same(core, file, fingerprint).await {
                    Ok(true) => {
                        let path = folder.join(&RelPath::from_bytes(file.path.name()).expect("a name"));
                        let to = FilePath { place: file.place.clone(), path };
                        at.relocate(file, to, folder, IfExists::KeepBoth, &mut attempt).await
                    }
                    Ok(false) => Ok(StepDone::nothing(hand, "the original was replaced or removed in the meantime")),
                    Err(kind) => Err(kind),
                },
                Err(error) => Err(error.into()),
            }
        }
        _ => at.remove_original(&mut attempt).await,
    };
    result.map_err(|kind| StepFailure { attempt, kind })
}

/// Where originals are set aside: below the watched folder, or from the root with a slash.
fn aside(
    watched: &RelPath,
    folder: &wetbank_core::Template,
    facts: &TemplateFacts<'_>,
) -> Result<RelPath, wetbank_core::TemplateError> {
    let below = folder.render_folder(facts)?;
    Ok(if folder.source().starts_with('/') { below } else { watched.join(&below) })
}

async fn still_the_same(
    core: &Core,
    file: &FilePath,
    fingerprint: &wetbank_core::Fingerprint,
) -> Result<bool, FailureKind> {
    let place = core.arrangement().place(&file.place)?;
    match place.stat(&file.path).await {
        Ok(entry) => Ok(entry.fingerprint == *fingerprint),
        Err(e) if e.kind == PlaceErrorKind::NotFound => Ok(false),
        Err(e) => Err(e.into()),
    }
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

fn forget(work: &Work, freed: bool) -> Option<(wetbank_core::Name, FilePath)> {
    freed.then(|| (work.rule.clone(), work.file.clone()))
}

async fn step_done(core: &Core, work: &mut Work, done: StepDone) -> Result<(), EngineError> {
    work.step += 1;
    work.failures = 0;
    work.hand = serde_json::to_string(&done.hand).ok();
    let end = attempt_end(&done);
    let forget = forget(work, done.freed);
    let change = change(work, ItemState::Working);
    record(core, work, Progress { end, change, hold: None, forget }).await
}

async fn finish(core: &Arc<Core>, work: &mut Work, rule: &Rule, done: Option<StepDone>) -> Result<(), EngineError> {
    let end = done.as_ref().and_then(attempt_end);
    let freed = done.as_ref().is_some_and(|done| done.freed);
    if let Some(done) = &done {
        work.hand = serde_json::to_string(&done.hand).ok();
    }
    let forget = forget(work, freed);
    let change = change(work, ItemState::Done);
    record(core, work, Progress { end, change, hold: None, forget }).await?;
    let used = rule.branches.get(work.branch.unwrap_or(usize::MAX)).is_none_or(|branch| {
        branch.steps.iter().any(|step| matches!(step, Step::Encrypt { .. } | Step::Decrypt { .. }))
    });
    if used {
        core.clear_work(work.item, work.step).await;
    }
    Ok(())
}

async fn close_attempt(core: &Core, work: &mut Work, attempt: i64) -> Result<(), EngineError> {
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
    record(core, work, Progress { end: Some(end), change, hold: None, forget: None }).await
}

async fn failed(core: &Arc<Core>, work: &mut Work, rule: &Rule, failure: StepFailure) -> Result<End, EngineError> {
    later_or_hold(core, work, rule.retry.clone(), failure).await
}

async fn later_or_hold(
    core: &Arc<Core>,
    work: &mut Work,
    own: Option<RetryPolicy>,
    failure: StepFailure,
) -> Result<End, EngineError> {
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
                    record(core, work, Progress { end, change, hold: None, forget: None }).await?;
                    return Ok(End::Later(until));
                }
                _ if error.is_retryable() => FailureKind::Passing { code, why, remedy },
                _ => FailureKind::Lasting { code, why, remedy },
            }
        }
        kind => kind,
    };
    match kind {
        FailureKind::Place(_) => unreachable!("turned into another kind above"),
        FailureKind::Stopping => end_stopped(core, work, failure.attempt).await,
        FailureKind::Journal(why) => Err(EngineError::NotNow(why)),
        FailureKind::Paused { until, why } => {
            let due = Some(until);
            let change = ItemChange { due, why: Some(why), ..change(work, ItemState::Waiting) };
            record(core, work, Progress { end: None, change, hold: None, forget: None }).await?;
            Ok(End::Later(until))
        }
        FailureKind::Lasting { code, why, remedy } => {
            let ended = end(Outcome::Failed, &code, &why, &remedy);
            hold(core, work, ended, &code, why, remedy).await
        }
        FailureKind::Passing { code, why, remedy } => {
            work.failures += 1;
            let ended = end(Outcome::Failed, &code, &why, &remedy);
            let Some(pause) = policy.pause_after(work.failures, work.item.cast_unsigned()) else {
                let why = format!("{why}; {} attempts failed", work.failures);
                return hold(core, work, ended, &code, why, remedy).await;
            };
            let due = clock::after(now, pause);
            let change = ItemChange { due: Some(due), why: Some(why), ..change(work, ItemState::Waiting) };
            record(core, work, Progress { end: ended, change, hold: None, forget: None }).await?;
            Ok(End::Later(due))
        }
    }
}
