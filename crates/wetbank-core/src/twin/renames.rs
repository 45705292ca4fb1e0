//! The second look at what is on one side only: a file that is gone at one path and new at another, on the same side,
//! was given another path there.

use std::collections::HashMap;

use super::{Action, Line, Pair, Side, State, Sum, Why};

/// Lines that are remembered for it: beyond them a file is deleted and sent anew.
const MOST: usize = 100_000;

/// What tells that it is the very same file. Size and time alone do not: two files can have the same.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
enum Mark {
    Inode(u64, u64, i64),
    Tag(String, u64),
    Sum(Sum),
}

impl Mark {
    fn of(state: &State) -> Option<Self> {
        let print = &state.print;
        match (print.inode, &print.tag, &state.sum) {
            _ if print.size == 0 => None,
            (Some(inode), _, _) => Some(Self::Inode(inode, print.size, print.modified)),
            (None, Some(tag), _) => Some(Self::Tag(tag.clone(), print.size)),
            (None, None, Some(sum)) => Some(Self::Sum(*sum)),
            (None, None, None) => None,
        }
    }
}

/// What has a mark: one line, or several, of which nobody knows which is which.
#[derive(Debug, Clone, Copy)]
enum Which {
    One(usize),
    Several,
}

/// Lines of a plan, of which some are two halves of a rename.
#[derive(Debug, Default)]
pub struct Renames {
    gone: HashMap<(Side, Mark), Which>,
    new: HashMap<(Side, Mark), Which>,
}

impl Renames {
    /// Looks at a line, which has this number.
    pub fn see(&mut self, number: usize, line: &Line) {
        let (of, side, state) = match (&line.action, line.why) {
            (Action::Delete { on }, Why::Deleted(side)) if *on == side.other() => {
                // What was changed over there is not what was given another path here.
                let is_as_it_was =
                    |was: &&Pair<State>| line.had.of(*on).as_ref().is_some_and(|had| had.print == was.of(*on).print);
                (&mut self.gone, side, line.was.as_ref().filter(is_as_it_was).map(|was| was.of(side)))
            }
            (Action::Make { on }, Why::New(side)) if *on == side.other() => {
                (&mut self.new, side, line.had.of(side).as_ref())
            }
            _ => return,
        };
        let Some(mark) = state.and_then(Mark::of) else { return };
        if of.len() < MOST {
            of.entry((side, mark)).and_modify(|which| *which = Which::Several).or_insert(Which::One(number));
        }
    }

    /// The numbers of lines that belong together: what is deleted, and what is made instead.
    pub fn pairs(self) -> Vec<(usize, usize)> {
        let Self { gone, mut new } = self;
        let mut pairs: Vec<_> = gone
            .into_iter()
            .filter_map(|(mark, which)| match (which, new.remove(&mark)) {
                (Which::One(gone), Some(Which::One(new))) => Some((gone, new)),
                _ => None,
            })
            .collect();
        pairs.sort_unstable();
        pairs
    }
}

/// One line instead of two that belong together.
pub fn renamed(deleted: &Line, made: &Line) -> Option<Line> {
    let (Action::Delete { on }, Action::Make { on: new_on }) = (&deleted.action, &made.action) else { return None };
    if on != new_on {
        return None;
    }
    let mut had = made.had.clone();
    had.of_mut(*on).clone_from(deleted.had.of(*on));
    Some(Line {
        action: Action::Rename { on: *on, from: deleted.at.clone() },
        why: Why::Renamed(on.other()),
        had,
        was: deleted.was.clone(),
        ..made.clone()
    })
}
