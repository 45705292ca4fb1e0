//! The way of an item through its branch, step by step, as it is told to people: what is on record of it, and
//! what is to come as long as the rule is the one that the item follows.

use wetbank_client::{self as api, StepState};
use wetbank_core::{Branch, ItemKind, ItemState, Original, Position, Step};
use wetbank_journal::AttemptRecord;

/// A position on a way: the kind of what is done there, and whether it is in a failure path.
struct Stop<'b> {
    at: Position,
    kind: &'b str,
    on_failure: bool,
}

/// Where an item is.
pub(crate) struct At {
    pub kind: ItemKind,
    pub state: ItemState,
    pub position: Position,
}

/// What an item is asked about: where it is, and its attempts.
struct Way<'r> {
    item: &'r At,
    attempts: &'r [AttemptRecord],
    /// The steps of its branch, if that is known: older journals count on behind them.
    steps: usize,
}

impl<'r> Way<'r> {
    fn attempts_at(&self, at: Position) -> impl Iterator<Item = &'r AttemptRecord> {
        self.attempts.iter().filter(move |attempt| attempt.position.within(self.steps) == at)
    }

    fn here(&self) -> Position {
        match self.item.position.within(self.steps) {
            Position::Branching => Position::Step(0),
            position => position,
        }
    }

    /// What became of a position, as it is on record; nothing if nothing is, and nothing is to come.
    fn state(&self, at: Position) -> Option<StepState> {
        let here = match (self.here() == at, self.item.state) {
            (true, ItemState::Held) => Some(StepState::Held),
            (true, ItemState::Waiting | ItemState::Joining) => Some(StepState::Waiting),
            (true, ItemState::Working) => Some(StepState::Working),
            _ => None,
        };
        let recorded = || match self.attempts_at(at).last()?.outcome.as_str() {
            "done" => Some(StepState::Done),
            "skipped" => Some(StepState::Skipped),
            "failed" => Some(StepState::Failed),
            _ => Some(StepState::Working),
        };
        let untouched = || match self.item.state {
            ItemState::Done => None,
            ItemState::Skipped => Some(StepState::Skipped),
            _ => Some(StepState::Rest),
        };
        here.or_else(recorded).or_else(untouched)
    }

    fn told(&self, stop: &Stop<'_>) -> Option<api::ItemStep> {
        let state = self.state(stop.at)?;
        // What was done is told as what it was, whatever the rule says of that position now.
        let kind = self.attempts_at(stop.at).last().map_or(stop.kind, |attempt| &attempt.kind);
        Some(api::ItemStep { at: stop.at.code(), kind: kind.to_owned(), state, on_failure: stop.on_failure })
    }

    /// The positions that are on record, and no other.
    fn recorded(&self) -> Vec<Stop<'r>> {
        let mut stops: Vec<Stop<'r>> = Vec::new();
        for attempt in self.attempts {
            let at = attempt.position.within(self.steps);
            if !stops.iter().any(|stop| stop.at == at) {
                stops.push(Stop { at, kind: &attempt.kind, on_failure: false });
            }
        }
        stops
    }

    /// The positions of a branch: its steps, those of failure paths that were touched, the end of the original.
    fn of_branch<'b>(&self, branch: &'b Branch) -> Vec<Stop<'b>> {
        let touched = |at: Position| self.here() == at || self.attempts_at(at).next().is_some();
        let stop = |step: usize| Stop {
            at: Position::Step(step),
            kind: branch.steps[step].step.kind(),
            on_failure: step >= branch.main,
        };
        let mut all: Vec<Stop<'b>> = (0..branch.main).map(stop).collect();
        all.extend((branch.main..branch.steps.len()).map(stop).filter(|stop| touched(stop.at)));
        if branch.original != Original::Stays {
            all.push(Stop { at: Position::Original, kind: "original", on_failure: false });
        }
        // What was made on the way begins there.
        let begin = match self.item.kind {
            ItemKind::Made | ItemKind::Part => self.attempts.first().map(|attempt| attempt.position),
            ItemKind::File | ItemKind::Find => None,
        };
        let begin = begin.and_then(Position::step).unwrap_or(0);
        all.retain(|stop| stop.at.step().is_none_or(|step| step >= begin));
        all
    }
}

/// The way of an item. The branch is the one that it follows; nothing if that is not the rule's of today.
pub(crate) fn item(branch: Option<&Branch>, item: &At, attempts: &[AttemptRecord]) -> Vec<api::ItemStep> {
    let is_letter = attempts.iter().any(|attempt| attempt.kind == "attachments");
    // A letter counts its attachments as its only step.
    let unknown = usize::MAX - 1;
    let steps = match branch.filter(|_| item.kind != ItemKind::Find) {
        _ if is_letter => 1,
        Some(branch) => branch.steps.len(),
        None => unknown,
    };
    let way = Way { item, attempts, steps };
    let stops = match (item.kind, branch) {
        (ItemKind::Find, _) => vec![Stop { at: Position::Step(0), kind: "find", on_failure: false }],
        (_, Some(branch)) if !is_letter => way.of_branch(branch),
        _ => way.recorded(),
    };
    stops.iter().filter_map(|stop| way.told(stop)).collect()
}

/// The kind of the step at a position, as a hold names it.
pub(crate) fn name(branch: Option<&Branch>, at: Position) -> Option<&str> {
    match at.within(branch?.steps.len()) {
        Position::Step(step) => branch?.steps.get(step).map(|planned| planned.step.kind()),
        Position::Branching => None,
        Position::Original | Position::End | Position::Failed => Some("original"),
    }
}

/// The place where a branch puts files last.
pub(crate) fn target(branch: &Branch) -> Option<String> {
    let last = branch.main_steps().filter_map(Step::target).last();
    last.map(|target| target.place.to_string())
}
