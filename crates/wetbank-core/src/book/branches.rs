//! From the book's shape to branches: steps and their flow.

use std::ops::Range;

use toml::Spanned;

use super::{conditions::resolve_condition, limits::resolve_retry, raw};
use crate::{
    Branch, Condition, Next, Original, PlaceName, Planned, Step,
    shape::{Checked, Ends, Here, Mistake, folder_template, holds, template},
    step::{Note, StepShape, Then},
};

/// What a branch may know of its rule.
pub(super) struct Around<'a> {
    /// The place that files come from: where a step without "to" stays.
    pub source: Option<&'a PlaceName>,
    /// The titles that branches were given, in their order.
    pub titles: Vec<Option<&'a str>>,
    /// The index of this branch.
    pub index: usize,
    /// Whether its runs begin without a file.
    pub begins_bare: bool,
    pub ends: &'a Ends<'a>,
}

pub(super) fn resolve_branch(raw: &raw::Branch, span: Range<usize>, around: &Around<'_>) -> Checked<Branch> {
    let condition = raw.condition.as_ref().map(resolve_condition).transpose()?;
    if raw.steps.is_empty() {
        return Err(Mistake::missing(
            span,
            "a branch has no steps; to leave a file alone use hold, or no branch".to_owned(),
        ));
    }
    let mut flow = Flow { around, steps: Vec::new(), paths: Vec::new() };
    flow.lay(&raw.steps, Next::Original)?;
    let main = flow.steps.len();
    if let Some(mistake) = without_file(raw, around.begins_bare, &flow.steps) {
        return Err(mistake);
    }
    flow.lay_paths()?;
    let steps = flow.steps;
    let original = match &raw.original {
        None | Some(raw::Original::Stays) => Original::Stays,
        Some(raw::Original::Delete) => Original::Delete,
        Some(raw::Original::MoveTo(text)) => Original::MoveTo(folder_template(Some(text), "")?),
        Some(raw::Original::Mark(text)) => Original::Mark(folder_template(Some(text), "")?),
    };
    let consumed = steps[..main].iter().map(|planned| &planned.step).find(|step| step.ends_file());
    if let (Some(step), true) = (consumed, original != Original::Stays) {
        return Err(Mistake::new(
            raw.steps.last().map_or(span, Spanned::span),
            format!("\"{}\" already says what becomes of the original; leave out \"original\"", step.kind()),
        ));
    }
    Ok(Branch {
        title: raw
            .title
            .clone()
            .unwrap_or_else(|| condition.as_ref().map_or_else(|| "Anything else".to_owned(), Condition::words)),
        condition,
        steps,
        main,
        original,
    })
}

impl<'a> Around<'a> {
    fn here(&'a self, span: Range<usize>) -> Here<'a> {
        Here { span, source: self.source, titles: &self.titles, branch: self.index, ends: self.ends }
    }
}

/// A step that would have no file to do something with: the run began without one, or a mail about
/// all files stands where they were.
fn without_file(raw: &raw::Branch, begins_bare: bool, steps: &[Planned]) -> Option<Mistake> {
    let mut has_file = !begins_bare;
    for planned in steps {
        let step = &planned.step;
        if step.needs_file() && !has_file {
            let words = format!(
                "\"{}\" needs a file, and here is none: add finds = [ … ] to the rule, or let extract or a program make one before",
                step.kind()
            );
            return Some(Mistake::missing(span_of(raw), words));
        }
        has_file = !step.leaves_no_file() && (has_file || step.makes_file());
    }
    None
}

fn span_of(branch: &raw::Branch) -> Range<usize> {
    branch.steps.first().map_or(0..0, Spanned::span)
}

/// A failure path that is still to be laid: the steps whose it is, its own, and what follows it.
struct Path<'a> {
    of: Range<usize>,
    steps: &'a [Spanned<StepShape>],
    next: Next,
}

/// Steps laid out in one row: the way that is meant, then the failure paths.
struct Flow<'a> {
    around: &'a Around<'a>,
    steps: Vec<Planned>,
    paths: Vec<Path<'a>>,
}

impl<'a> Flow<'a> {
    fn lay(&mut self, list: &'a [Spanned<StepShape>], last: Next) -> Checked<()> {
        let mut gone: Option<&'static str> = None;
        for (at, spanned) in list.iter().enumerate() {
            let raw = spanned.as_ref();
            if let Some(earlier) = gone {
                return Err(Mistake::new(
                    spanned.span(),
                    format!("nothing can follow \"{earlier}\" in a branch, the file is gone then"),
                ));
            }
            let previous = self.steps.last().filter(|_| at > 0).map(|planned| &planned.step);
            let (before, step) = raw.resolve(&self.around.here(spanned.span()), previous)?;
            if step.ends_file() || step.hands_over_to().is_some() {
                gone = raw.condition.is_none().then(|| step.kind());
            }
            let condition = raw.condition.as_ref().map(resolve_condition).transpose()?;
            if step.joins() && (condition.is_some() || last == Next::Failed) {
                let words = format!(
                    "\"{}\" is about all files of a run: it has no \"if\" and is in no failure path",
                    step.kind()
                );
                return Err(Mistake::new(spanned.span(), words));
            }
            let retry = raw.retry.as_ref().map(resolve_retry).transpose()?;
            let first = self.steps.len();
            let mut push = |step: Step, is_wished: bool| {
                let next = Next::Step(self.steps.len() + 1);
                let (condition, retry) = (condition.clone(), retry.clone());
                self.steps.push(Planned { step, condition, retry, next, on_failure: None, is_wished });
            };
            before.into_iter().for_each(|before| push(before, true));
            push(step, false);
            if let Some(path) = &raw.on_failure {
                let end = self.steps.len();
                let next = match raw.then {
                    Some(Then::GoOn) if at + 1 == list.len() => last,
                    Some(Then::GoOn) => Next::Step(end),
                    None | Some(Then::End) => Next::Failed,
                };
                if path.is_empty() && next == Next::Failed {
                    let words = "on-failure has no steps; say then = \"go-on\" to go on as if nothing had happened";
                    return Err(Mistake::missing(spanned.span(), words.to_owned()));
                }
                self.paths.push(Path { of: first..end, steps: path, next });
            } else if raw.then.is_some() {
                return Err(Mistake::new(spanned.span(), "\"then\" says what follows on-failure = [ … ]".to_owned()));
            }
        }
        if let Some(planned) = self.steps.last_mut() {
            planned.next = last;
        }
        Ok(())
    }

    /// Lays failure paths behind the others, and those that their steps have in turn.
    fn lay_paths(&mut self) -> Checked<()> {
        while !self.paths.is_empty() {
            let Path { of, steps, next } = self.paths.remove(0);
            let begin = self.steps.len();
            if steps.is_empty() {
                // Nothing but going on: a note stands for it, so that the record tells.
                let text = template::<holds::Words>(None, "{{ fault.step }} failed, going on: {{ fault.why }}")?;
                let step = Step::Note(Box::new(Note { text }));
                self.steps.push(Planned {
                    step,
                    condition: None,
                    retry: None,
                    next,
                    on_failure: None,
                    is_wished: false,
                });
            } else {
                self.lay(steps, next)?;
            }
            self.steps[of].iter_mut().for_each(|planned| planned.on_failure = Some(begin));
        }
        Ok(())
    }
}
