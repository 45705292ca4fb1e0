//! An item's way through its rule: where it is, and where it goes from there.
//!
//! The way is decided here and nowhere else, from the rule, the position and what came of it. Whoever
//! works on an item asks, writes the answer into the journal, and only then is the item there.

use serde::{Deserialize, Serialize};

use crate::{Branch, ItemState, Next, Rule};

/// Where an item is on its way.
///
/// ```text
/// branching ─► step ─► step ─► original ─► end
///                │               ▲
///                └─► step ───────┴─► failed        (what is arranged for when a step fails)
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Position {
    /// Nobody decided yet which branch takes it.
    Branching,
    /// At the step of its branch with this index.
    Step(usize),
    /// Every step is done; what becomes of the original comes next.
    Original,
    /// Behind everything.
    End,
    /// At the end of what is arranged for when a step fails.
    Failed,
}

/// Positions that are no step, as the journal counts them.
const ORIGINAL: i64 = -1;
const END: i64 = -2;
const FAILED: i64 = -3;

impl Position {
    /// The number that stands for it in the journal.
    pub fn code(self) -> i64 {
        match self {
            Self::Branching => 0,
            Self::Step(step) => i64::try_from(step).unwrap_or(i64::MAX),
            Self::Original => ORIGINAL,
            Self::End => END,
            Self::Failed => FAILED,
        }
    }

    /// Reads the number of the journal, with the branch beside it.
    pub fn from_code(branch: Option<usize>, code: i64) -> Self {
        match (branch, code) {
            (_, ORIGINAL) => Self::Original,
            (_, END) => Self::End,
            (_, FAILED) => Self::Failed,
            (None, 0) => Self::Branching,
            (_, step) => usize::try_from(step).map_or(Self::Branching, Self::Step),
        }
    }

    /// The index of the step, if it is at one.
    pub fn step(self) -> Option<usize> {
        match self {
            Self::Step(step) => Some(step),
            _ => None,
        }
    }

    /// The same position, told apart from the steps of its branch: journals once counted what comes behind
    /// the steps on from them.
    pub fn within(self, steps: usize) -> Self {
        match self {
            Self::Step(step) if step == steps => Self::Original,
            Self::Step(step) if step == steps + 1 => Self::End,
            Self::Step(step) if step > steps => Self::Failed,
            other => other,
        }
    }

    /// The state of an item that has come here and for which nothing else is to be done.
    pub fn state(self) -> ItemState {
        match self {
            Self::End => ItemState::Done,
            Self::Failed => ItemState::Skipped,
            Self::Branching | Self::Step(_) | Self::Original => ItemState::Working,
        }
    }
}

/// What came of a position.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Outcome {
    /// This branch takes the item.
    Taken(usize),
    /// What was to be done there is done, or did not have to be.
    Done,
    /// This branch goes on with the item instead.
    Continued(usize),
    /// It failed for good.
    Failed,
    /// Everything that was made of the item is at its end.
    Joined,
}

/// Where an item goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Advance {
    /// The branch.
    pub branch: usize,
    /// The position in it.
    pub position: Position,
}

/// Why an item cannot go on.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum Stuck {
    /// A step failed and nothing is arranged for that: a person decides.
    #[error("nothing is arranged for when this fails")]
    NoPath,
    /// The rule has no such branch.
    #[error("the rule has no branch {} any more", .0 + 1)]
    NoBranch(usize),
    /// The position does not have such an outcome.
    #[error("the item is not where this could have come of its position")]
    NotThere,
}

/// Where an item goes from a position, by its rule and what came of it. With `keeps` nothing is to be done
/// with the original: it stays, or there is none any more.
pub fn advance(
    rule: &Rule,
    (branch, position): (Option<usize>, Position),
    outcome: Outcome,
    keeps: bool,
) -> Result<Advance, Stuck> {
    let of = |index: usize| rule.branches.get(index).ok_or(Stuck::NoBranch(index));
    let behind_steps = if keeps { Position::End } else { Position::Original };
    let first = |branch: &Branch| if branch.main == 0 { behind_steps } else { Position::Step(0) };
    let (index, position) = match (position, outcome) {
        (Position::Branching, Outcome::Taken(taken)) => (taken, first(of(taken)?)),
        (Position::Step(_), Outcome::Continued(other)) => (other, first(of(other)?)),
        (Position::Step(step), Outcome::Done | Outcome::Failed) => {
            let index = branch.ok_or(Stuck::NotThere)?;
            let planned = of(index)?.steps.get(step).ok_or(Stuck::NotThere)?;
            let next = match outcome {
                Outcome::Failed => Position::Step(planned.on_failure.ok_or(Stuck::NoPath)?),
                _ => match planned.next {
                    Next::Step(next) => Position::Step(next),
                    Next::Original => behind_steps,
                    Next::Failed => Position::Failed,
                },
            };
            (index, next)
        }
        (Position::Step(_) | Position::Original, Outcome::Joined) => {
            let index = branch.ok_or(Stuck::NotThere)?;
            of(index).map(|_| (index, behind_steps))?
        }
        (Position::Original, Outcome::Done) => (branch.ok_or(Stuck::NotThere)?, Position::End),
        (Position::Original, Outcome::Failed) => return Err(Stuck::NoPath),
        _ => return Err(Stuck::NotThere),
    };
    Ok(Advance { branch: index, position })
}

#[cfg(test)]
mod tests;
