//! What a person does with items that stopped.

use std::collections::HashSet;

use futures_util::{StreamExt, stream};
use wetbank_core::{BY_HAND, ItemKind, ItemState, Outcome, Position, Rule, advance};
use wetbank_journal::Work;

use super::Engine;
use crate::{Declined, EngineError, arranged::RuleOf, queue::Stopped};

/// Items of a run read at once.
const PAGE: u32 = 500;
/// Items changed at once: the journal writes them together.
const TOGETHER: usize = 128;

/// What became of what was not at its end in a run that was stopped.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct StoppedRun {
    /// So many items are held.
    pub held: usize,
    /// So many were at work and came to their end.
    pub ended: usize,
    /// So many are still at work: they are held at the next safe point, unless they end before.
    pub stopping: usize,
}

impl Engine {
    /// Lets a held item go on, with the rule as it is today.
    ///
    /// # Errors
    ///
    /// If it is not held, or what it is held for is still so and is not for the item to mend: its rule is not
    /// in the book, or the version that it began with cannot be read.
    pub async fn release(&self, item: i64) -> Result<(), EngineError> {
        let work = self.held(item).await?;
        let hold = self.core.journal.hold(item).await?;
        let arrangement = self.core.arranged.now();
        let (mut branch, mut position, mut version) = (work.branch, work.position, work.version);
        let old = match self.core.arranged.rule_of(&work).await? {
            RuleOf::Rule(rule) => Some(rule),
            RuleOf::Gone => None,
            RuleOf::Unreadable(problem) => {
                let problem = problem.to_string();
                return Err(Declined::OldRule { item, version, rule: work.rule, problem }.into());
            }
        };
        match arrangement.rule(&work.rule) {
            Some(live) => {
                let step = position.step().unwrap_or(usize::MAX);
                let kinds = |rule: &Rule| -> Option<Vec<&'static str>> {
                    Some(rule.branches.get(branch?)?.steps.iter().take(step).map(|s| s.step.kind()).collect())
                };
                let at_first = matches!(position, Position::Branching | Position::Step(0));
                // What was done is not done again: the item goes on where it stopped, as long as
                // today's rule did the same until there.
                if at_first || old.as_deref().and_then(kinds) == kinds(&live.rule) {
                    version = live.version;
                    // Which branch takes the file is asked anew, unless somebody has to look first what became
                    // of its attempt. What is no file that came stays where it is.
                    if at_first && work.kind == ItemKind::File && !work.unclear {
                        (branch, position) = (None, Position::Branching);
                    }
                }
            }
            None if work.rule.as_str() == BY_HAND || arrangement.twin_of(&work.rule).is_some() => {}
            None => {
                return Err(Declined::RuleGone { rule: work.rule, item }.into());
            }
        }
        // A person answered the question that the hold step asked.
        if hold.as_deref() == Some("asked")
            && let (Some(rule), Some(_)) = (&old, work.branch)
        {
            let next = advance(rule, (work.branch, work.position), Outcome::Done, false);
            let next = next.map_err(Declined::from)?;
            (branch, position) = (Some(next.branch), next.position);
        }
        self.core.runner.end_hold(&work, (ItemState::Queued, branch, position), version, None).await?;
        if let Some(work) = self.core.journal.work(item).await? {
            self.core.queue.claims.go_on(work);
        }
        Ok(())
    }

    /// Gives a held item up, for a stated reason.
    pub async fn dismiss(&self, item: i64, why: &str) -> Result<(), EngineError> {
        let work = self.held(item).await?;
        self.core.runner.dismiss(&work, format!("dismissed: {why}")).await
    }

    /// Stops a run: what is not at its end is held, so that nothing is lost and a person decides.
    /// Steps at work come to a safe point or to their end first, and are waited for a few seconds.
    pub async fn stop_run(&self, run: i64) -> Result<StoppedRun, EngineError> {
        self.run_is_there(run).await?;
        let runner = &self.core.runner;
        match runner.what_stopped(runner.stop_run(run, Stopped::default()).await?).await? {
            StoppedRun { held: 0, ended: 0, stopping: 0 } => Err(Declined::NothingGoing(run).into()),
            stopped => Ok(stopped),
        }
    }

    /// Goes on with what is held in a run, and no longer waits with what is to be tried again;
    /// all of it or one item. Answers how many.
    pub async fn retry_run(&self, run: i64, item: Option<i64>) -> Result<usize, EngineError> {
        self.run_is_there(run).await?;
        let mut going_on = 0;
        let mut after = 0;
        loop {
            let page = self.core.journal.items(run, after, PAGE).await?;
            let Some(last) = page.last() else { break };
            after = last.id;
            let wanted = page.into_iter().filter(|record| item.is_none_or(|item| item == record.id));
            let (mut held, mut waiting) = (Vec::new(), HashSet::new());
            for record in wanted {
                match record.state {
                    ItemState::Held => held.push(record.id),
                    ItemState::Waiting => drop(waiting.insert(record.id)),
                    _ => {}
                }
            }
            self.core.queue.claims.hurry(|_, item| waiting.contains(&item));
            going_on += waiting.len();
            let mut released = stream::iter(held).map(|item| self.release(item)).buffer_unordered(TOGETHER);
            while let Some(released) = released.next().await {
                match released {
                    Ok(()) => going_on += 1,
                    // Somebody else was quicker.
                    Err(EngineError::Declined(_)) => {}
                    Err(error) => return Err(error),
                }
            }
        }
        if going_on == 0 {
            let what = item.map_or_else(|| format!("nothing of run {run}"), |item| format!("item {item} of run {run}"));
            return Err(Declined::NothingWaits(what).into());
        }
        Ok(going_on)
    }

    async fn run_is_there(&self, run: i64) -> Result<(), EngineError> {
        match self.core.journal.run(run).await? {
            Some(_) => Ok(()),
            None => Err(EngineError::unknown("run", run)),
        }
    }

    async fn held(&self, item: i64) -> Result<Work, EngineError> {
        let work = self.core.journal.work(item).await?.ok_or_else(|| EngineError::unknown("item", item))?;
        if work.state != ItemState::Held {
            return Err(Declined::NotHeld { item, state: work.state.as_str() }.into());
        }
        Ok(work)
    }
}
