//! What a person decided about a plan: answers to its questions, and what is left out this time.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use super::{
    Action, Line, Question, Side, Stop, Terms, Way,
    beside::{Taken, beside},
};
use crate::RelPath;

/// Which file stays where another one lies on each side.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Answer {
    /// As it is on the near side.
    Near,
    /// As it is on the far side.
    Far,
    /// Both.
    Both,
}

/// What a person decided about a plan.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(default, rename_all = "kebab-case")]
pub struct Choices {
    /// Answers, by path on the near side.
    pub answers: BTreeMap<RelPath, Answer>,
    /// Paths on the near side that are left out this time, with all below them.
    pub without: Vec<RelPath>,
    /// Nothing is done but what is answered.
    pub only_answered: bool,
    /// This stop was seen, and what it stops is meant.
    pub allowed: Option<Stop>,
}

impl Line {
    /// What can be answered, if a person is asked.
    pub fn answers(&self, way: Way) -> &'static [Answer] {
        match (&self.action, way) {
            (Action::Ask { question: Question::Differ }, Way::Both) => &[Answer::Near, Answer::Both, Answer::Far],
            (Action::Ask { question: Question::Differ | Question::OnlyThere }, Way::Update | Way::Exact) => {
                &[Answer::Near]
            }
            _ => &[],
        }
    }
}

impl Choices {
    /// The line as it is answered.
    pub fn answered(&self, terms: &Terms, line: Line) -> Line {
        let Some(answer) = self.answers.get(&line.at.near).filter(|answer| line.answers(terms.way).contains(answer))
        else {
            return line;
        };
        let action = match (&line.action, answer) {
            (Action::Ask { question: Question::OnlyThere }, _) if line.is_folder => {
                Action::RemoveFolder { on: Side::Far }
            }
            (Action::Ask { question: Question::OnlyThere }, _) => Action::Delete { on: Side::Far },
            (_, Answer::Near) => Action::Replace { on: Side::Far },
            (_, Answer::Far) => Action::Replace { on: Side::Near },
            // Whoever carries it out looks for a name that is free.
            (_, Answer::Both) => {
                Action::KeepBoth { renamed: Side::Far, to: beside(terms, &line, Side::Far, &mut Taken::default()) }
            }
        };
        Line { action, ..line }
    }

    /// Whether nothing is done about the line this time.
    pub fn leaves_out(&self, line: &Line) -> bool {
        let from = match &line.action {
            Action::Rename { from, .. } => Some(&from.near),
            _ => None,
        };
        let mut at = [Some(&line.at.near), from].into_iter().flatten();
        if self.only_answered {
            return !at.any(|at| self.answers.contains_key(at));
        }
        at.any(|at| self.without.iter().any(|without| at.below(without).is_some()))
    }

    /// Whether what stops a plan was seen before, and is not more by now.
    pub fn allows(&self, stop: &Stop) -> bool {
        match (&self.allowed, stop) {
            (
                Some(Stop::TooMuch { on: seen_on, deleted: seen_deleted, replaced: seen_replaced, .. }),
                Stop::TooMuch { on, deleted, replaced, .. },
            ) => seen_on == on && deleted <= seen_deleted && replaced <= seen_replaced,
            (Some(Stop::Other { side: seen }), Stop::Other { side })
            | (Some(Stop::Empty { side: seen, .. }), Stop::Empty { side, .. }) => seen == side,
            _ => false,
        }
    }
}
