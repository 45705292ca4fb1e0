//! The life of runs and items.

use serde::{Deserialize, Serialize};

/// Where an item stands.
///
/// ```text
/// queued ─► working ─► done
///   ▲       ▲ │ ├────► skipped
///   │       │ │ └────► held ─► queued (released) │ skipped (dismissed)
///   │       │ │
///   │       └─┼► waiting (a pause before the next attempt; then it may be held as well)
///   └─────────┴► joining (until the others of its run, or what was made from it, are so far)
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ItemState {
    /// Taken in, not begun.
    Queued,
    /// A step is at work.
    Working,
    /// An attempt failed for a passing reason; another one is due.
    Waiting,
    /// It waits for the others of its run to be as far, or for what was made from it to end.
    Joining,
    /// Every step and the original's end are done.
    Done,
    /// Left alone for a stated reason.
    Skipped,
    /// Waits for a person.
    Held,
}

/// What an item of a run is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum ItemKind {
    /// A file that came or was found.
    File,
    /// The search for files, with which a run begins; its path is a folder.
    Find,
    /// A file made from several of the run.
    Made,
    /// A part of a file of the run.
    Part,
}

impl ItemKind {
    /// The word for it.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::File => "file",
            Self::Find => "find",
            Self::Made => "made",
            Self::Part => "part",
        }
    }

    /// Reads the word.
    pub fn parse(word: &str) -> Option<Self> {
        [Self::File, Self::Find, Self::Made, Self::Part].into_iter().find(|kind| kind.as_str() == word)
    }
}

/// What started a run.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Cause {
    /// A file arrived.
    Arrival,
    /// A person.
    Hand,
    /// The clock.
    Schedule,
    /// What another rule did with a file.
    Chain,
    /// Another system.
    Signal,
    /// A message in a mailbox.
    Mail,
    /// An account of our own server.
    Account,
}

impl Cause {
    /// Every cause.
    pub const ALL: [Self; 7] =
        [Self::Arrival, Self::Hand, Self::Schedule, Self::Chain, Self::Signal, Self::Mail, Self::Account];

    /// The word for it.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Arrival => "arrival",
            Self::Hand => "hand",
            Self::Schedule => "schedule",
            Self::Chain => "chain",
            Self::Signal => "signal",
            Self::Mail => "mail",
            Self::Account => "account",
        }
    }

    /// Reads the word.
    pub fn parse(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|cause| cause.as_str() == word)
    }
}

/// A change of state that the life of an item does not have.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("an item that is {from} cannot become {to}")]
pub struct InvalidMove {
    from: &'static str,
    to: &'static str,
}

impl ItemState {
    /// Every state, in the order of life.
    pub const ALL: [Self; 7] =
        [Self::Queued, Self::Working, Self::Waiting, Self::Joining, Self::Done, Self::Skipped, Self::Held];

    /// The word for it.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Queued => "queued",
            Self::Working => "working",
            Self::Waiting => "waiting",
            Self::Joining => "joining",
            Self::Done => "done",
            Self::Skipped => "skipped",
            Self::Held => "held",
        }
    }

    /// Reads the word.
    pub fn parse(word: &str) -> Option<Self> {
        Self::ALL.into_iter().find(|state| state.as_str() == word)
    }

    /// Whether nothing more will happen by itself.
    pub fn is_at_rest(self) -> bool {
        matches!(self, Self::Done | Self::Skipped | Self::Held)
    }

    /// Checks a change of state: every one that is written down goes through here.
    ///
    /// # Errors
    ///
    /// If the life of an item does not have it.
    pub fn become_(self, to: Self) -> Result<Self, InvalidMove> {
        use ItemState::{Done, Held, Joining, Queued, Skipped, Waiting, Working};
        let allowed = matches!(
            (self, to),
            (Queued, Working | Skipped | Held)
                | (Working, Working | Done | Skipped | Held | Waiting | Joining)
                | (Waiting, Working | Queued | Held | Skipped)
                | (Joining, Queued | Skipped)
                | (Held, Queued | Skipped)
        );
        if allowed { Ok(to) } else { Err(InvalidMove { from: self.as_str(), to: to.as_str() }) }
    }
}

/// Where a run stands, as its items say.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum RunState {
    /// Some item moves, or waits for others that do.
    Running,
    /// Every item is done or skipped, one at least is done.
    Done,
    /// Every item was skipped.
    Skipped,
    /// Some item waits for a person, none moves.
    Held,
}

impl RunState {
    /// The word for it.
    pub fn as_str(self) -> &'static str {
        match self {
            Self::Running => "running",
            Self::Done => "done",
            Self::Skipped => "skipped",
            Self::Held => "held",
        }
    }
}

/// The state of a run with these items. One that waits for others counts as they do: if none of them moves
/// and some is held, it waits for a person.
pub fn run_state(items: impl IntoIterator<Item = ItemState>) -> RunState {
    let (mut held, mut joining, mut done) = (false, false, false);
    for item in items {
        match item {
            ItemState::Queued | ItemState::Working | ItemState::Waiting => return RunState::Running,
            ItemState::Held => held = true,
            ItemState::Joining => joining = true,
            ItemState::Done => done = true,
            ItemState::Skipped => {}
        }
    }
    match (held, joining, done) {
        (true, ..) => RunState::Held,
        (_, true, _) => RunState::Running,
        (.., true) => RunState::Done,
        _ => RunState::Skipped,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_finished_item_never_moves_again() {
        for end in [ItemState::Done, ItemState::Skipped] {
            assert!(ItemState::ALL.iter().all(|&to| end.become_(to).is_err()));
        }
    }

    #[test]
    fn a_held_item_moves_only_by_release_or_dismissal() {
        let moves: Vec<_> = ItemState::ALL.into_iter().filter(|&to| ItemState::Held.become_(to).is_ok()).collect();
        assert_eq!(moves, [ItemState::Queued, ItemState::Skipped]);
    }

    #[test]
    fn one_held_item_makes_the_run_held_once_nothing_moves() {
        use ItemState::{Done, Held, Joining, Working};
        assert_eq!(run_state([Done, Held]), RunState::Held);
        assert_eq!(run_state([Held, Done]), RunState::Held);
        assert_eq!(run_state([Held, Working]), RunState::Running);
        assert_eq!(run_state([Done, ItemState::Skipped]), RunState::Done);
        assert_eq!(run_state([Joining, Held]), RunState::Held);
        assert_eq!(run_state([Joining, Done]), RunState::Running);
        assert_eq!(run_state([]), RunState::Skipped);
    }
}
