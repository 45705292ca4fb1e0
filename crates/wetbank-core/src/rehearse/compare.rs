//! Two versions of a rule over the same file.

use serde::Serialize;

use super::{End, Foreseen, Rehearsal};
use crate::Verdict;

/// In which way a file would go otherwise.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Kind {
    /// It stays lying today, and would be taken.
    NewlyTaken,
    /// It is taken today, and would stay lying.
    NoLongerTaken,
    /// It would wait for a person.
    ToAPerson,
    /// It would come to lie somewhere else, or under another name.
    Elsewhere,
    /// It comes to the same place, but other things are done with it.
    Otherwise,
}

impl Kind {
    /// Every kind, in the order they are told.
    pub const ALL: [Self; 5] =
        [Self::ToAPerson, Self::Elsewhere, Self::Otherwise, Self::NewlyTaken, Self::NoLongerTaken];

    /// It in words behind a number of files: `4 would be taken that stay lying today`.
    pub fn words(self, files: usize) -> String {
        let one = files == 1;
        let words = match self {
            Self::NewlyTaken if one => "that stays lying today would be taken",
            Self::NewlyTaken => "that stay lying today would be taken",
            Self::NoLongerTaken => "would no longer be taken",
            Self::ToAPerson => "would wait for a person",
            Self::Elsewhere => "would go elsewhere",
            Self::Otherwise => "would be handled otherwise",
        };
        format!("{files} {words}")
    }
}

/// How a file would go otherwise.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Elsewise {
    /// In which way.
    pub kind: Kind,
    /// What decides it, in words.
    pub why: String,
}

/// Compares what a rule does with a file with what it would do. Nothing if that is the same.
pub fn elsewise(before: &Rehearsal, after: &Rehearsal) -> Option<Elsewise> {
    let was_taken = before.explanation.taken_by.is_some();
    let is_taken = after.explanation.taken_by.is_some();
    match (was_taken, is_taken) {
        (false, false) => return None,
        (false, true) => {
            let why = before.explanation.outcome.replacen("not taken: ", "", 1);
            return Some(Elsewise { kind: Kind::NewlyTaken, why: format!("today {why}") });
        }
        (true, false) => {
            let why = after.explanation.outcome.replacen("not taken: ", "", 1);
            return Some(Elsewise { kind: Kind::NoLongerTaken, why });
        }
        (true, true) => {}
    }
    let done = |rehearsal: &Rehearsal| {
        let done = rehearsal.steps.iter().filter(|step| step.left_out.is_none());
        done.map(|step| step.words.clone()).collect::<Vec<_>>()
    };
    let (was, is) = (done(before), done(after));
    if was == is && before.end == after.end {
        return None;
    }
    let is_held = |end: &End| matches!(end, End::Held { .. });
    let kind = if is_held(&after.end) && !is_held(&before.end) {
        Kind::ToAPerson
    } else if places(&before.steps) != places(&after.steps) || before.end != after.end {
        Kind::Elsewhere
    } else {
        Kind::Otherwise
    };
    let why = if before.branch == after.branch { first_difference(&was, &is, after) } else { decisive(after) };
    Some(Elsewise { kind, why })
}

/// Everything that would lie somewhere.
fn places(steps: &[Foreseen]) -> Vec<String> {
    let done = steps.iter().filter(|step| step.left_out.is_none());
    done.filter_map(|step| Some(step.comes.as_ref()?.at.to_string())).collect()
}

/// The first step that is another one.
fn first_difference(was: &[String], is: &[String], after: &Rehearsal) -> String {
    let at = was.iter().zip(is).position(|(was, is)| was != is).unwrap_or(was.len().min(is.len()));
    match (was.get(at), is.get(at)) {
        (Some(was), Some(is)) => format!("{is}, instead of: {was}"),
        (None, Some(is)) => format!("it would also {is}").replacen("also it ", "also ", 1),
        (Some(was), None) => format!("no longer: {was}"),
        (None, None) => after.end.words(),
    }
}

/// The comparison by which the branch takes the file.
fn decisive(after: &Rehearsal) -> String {
    fn leaf(verdict: &Verdict) -> &Verdict {
        let wanted = verdict.parts.iter().find(|part| part.holds).or(verdict.parts.first());
        wanted.map_or(verdict, leaf)
    }
    let taken = after.explanation.taken_by.and_then(|taken| after.explanation.branches.get(taken));
    taken.map_or_else(String::new, |verdict| {
        let Verdict { asked, found, holds, .. } = leaf(verdict);
        match (holds, found.is_empty()) {
            (true, true) => asked.clone(),
            (true, false) => format!("{asked}, and it is {found}"),
            (false, true) => format!("not {asked}"),
            (false, false) => format!("it is not so that {asked}; it is {found}"),
        }
    })
}
