//! The way of an item through its branch, step by step, as it is told to people.

use wetbank_client as api;
use wetbank_core::{Branch, ItemKind, ItemState, Original, Step};
use wetbank_journal::{AttemptRecord, ItemRecord};

/// A position on a way: its number, the kind of what is done there, whether it is in a failure path.
type Position<'b> = (usize, &'b str, bool);

/// The positions of a branch: its steps, those of failure paths that were touched, the end of the
/// original.
fn positions(branch: &Branch, touched: impl Fn(usize) -> bool) -> Vec<Position<'_>> {
    let kind = |at: usize| branch.steps[at].step.kind();
    let mut all: Vec<Position<'_>> = (0..branch.main).map(|at| (at, kind(at), false)).collect();
    all.extend((branch.main..branch.steps.len()).filter(|at| touched(*at)).map(|at| (at, kind(at), true)));
    if branch.original != Original::Stays {
        all.push((branch.steps.len(), "original", false));
    }
    all
}

fn step(at: usize, kind: &str, state: &str, on_failure: bool) -> api::ItemStep {
    api::ItemStep { at: at as i64, kind: kind.to_owned(), state: state.to_owned(), on_failure }
}

/// The way of a file that is being worked on.
pub(crate) fn moving(branch: Option<&Branch>, now: usize) -> Vec<api::ItemStep> {
    let Some(branch) = branch else { return Vec::new() };
    let state = |at: usize| match at.cmp(&now) {
        std::cmp::Ordering::Less => "done",
        std::cmp::Ordering::Equal => "working",
        std::cmp::Ordering::Greater => "rest",
    };
    let way = positions(branch, |at| at == now);
    way.into_iter().map(|(at, kind, on_failure)| step(at, kind, state(at), on_failure)).collect()
}

/// The way of an item, with what became of each step.
pub(crate) fn item(branch: Option<&Branch>, item: &ItemRecord, attempts: &[AttemptRecord]) -> Vec<api::ItemStep> {
    if item.kind == ItemKind::Find {
        return vec![step(0, "find", state(item, 0, attempts, true), false)];
    }
    if item.kind == ItemKind::File && attempts.iter().any(|attempt| attempt.kind == "attachments") {
        let kinds = [(0, "attachments"), (1, "original")];
        let way = kinds.into_iter().filter(|(at, _)| *at == 0 || item.step > 0);
        return way.map(|(at, kind)| step(at, kind, state(item, at, attempts, true), false)).collect();
    }
    let Some(branch) = branch else { return Vec::new() };
    // What was made on the way begins there.
    let begin = match item.kind {
        ItemKind::Made => attempts.first().map_or(item.step, |attempt| attempt.step),
        ItemKind::Part => attempts.first().map_or(item.step, |attempt| attempt.step.min(item.step)),
        ItemKind::File | ItemKind::Find => 0,
    };
    let touched = |at: usize| item.step == at as i64 || attempts.iter().any(|attempt| attempt.step == at as i64);
    let failed =
        attempts.iter().any(|attempt| attempt.step >= branch.main as i64 && attempt.step < branch.steps.len() as i64);
    positions(branch, touched)
        .into_iter()
        .filter(|(at, ..)| *at as i64 >= begin)
        .map(|(at, kind, on_failure)| step(at, kind, state(item, at, attempts, !failed), on_failure))
        .collect()
}

/// What became of the step at a position; on a straight way, everything before the item is done.
fn state(item: &ItemRecord, at: usize, attempts: &[AttemptRecord], straight: bool) -> &'static str {
    let here = item.step == at as i64;
    let last = attempts.iter().rev().find(|attempt| attempt.step == at as i64).map(|attempt| attempt.outcome.as_str());
    match (item.state, last) {
        (ItemState::Held, _) if here => "held",
        (ItemState::Waiting, _) if here => "waiting",
        (ItemState::Joining, _) if here => "waiting",
        (ItemState::Working, _) if here => "working",
        (_, Some("done")) => "done",
        (_, Some("skipped")) => "skipped",
        (_, Some("failed")) => "failed",
        (ItemState::Done, _) => "done",
        (ItemState::Skipped, _) => "skipped",
        _ if straight && item.step > at as i64 => "done",
        _ => "rest",
    }
}

/// The kind of the step at a position, as a hold names it.
pub(crate) fn name(branch: Option<&Branch>, at: i64) -> Option<&str> {
    let (branch, at) = (branch?, usize::try_from(at).ok()?);
    match branch.steps.get(at) {
        Some(planned) => Some(planned.step.kind()),
        None => Some("original"),
    }
}

/// The place where a branch puts files last.
pub(crate) fn target(branch: &Branch) -> Option<String> {
    let last = branch.main_steps().filter_map(Step::target).last();
    last.map(|target| target.place.to_string())
}
