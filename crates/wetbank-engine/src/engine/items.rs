//! What a person does with items that stopped.

use std::{
    collections::{HashMap, HashSet},
    sync::{Arc, MutexGuard, PoisonError},
};

use futures_util::{StreamExt, stream};
use wetbank_core::{ItemKind, ItemState, Rule};
use wetbank_journal::{ItemChange, Work};
use wetbank_places::PlaceErrorKind;

use super::{Core, Engine};
use crate::{EngineError, Event, clock, runner};

/// Items of a run read at once.
const PAGE: u32 = 500;
/// Items changed at once: the journal writes them together.
const TOGETHER: usize = 128;

/// Why a run was stopped.
#[derive(Debug, Clone)]
pub(crate) struct Stopped {
    /// For programs.
    pub code: &'static str,
    /// For people.
    pub why: String,
}

impl Default for Stopped {
    fn default() -> Self {
        Self { code: "stopped", why: "its run was stopped by a person".to_owned() }
    }
}

impl Core {
    /// Holds what is not at its end in a run. Answers how many items.
    pub async fn stop_run(self: &Arc<Self>, run: i64, reason: Stopped) -> Result<usize, EngineError> {
        self.stopping().insert(run, reason);
        let (mut stopped, mut after) = (0, 0);
        loop {
            let (waiting, at_work) = self.claims.stop_run(run);
            stopped += at_work + self.hold_stopped(waiting).await?;
            // What does not fit into memory waits in the journal.
            let page = self.journal.open_items_of(run, after, i64::from(PAGE)).await?;
            let Some(last) = page.last() else { break };
            after = last.item;
            stopped += self.hold_stopped(self.claims.reserve(page)).await?;
        }
        if stopped == 0 {
            self.stopping().remove(&run);
        }
        Ok(stopped)
    }

    /// Holds items that were taken out, many in one transaction; answers how many.
    async fn hold_stopped(&self, works: Vec<Work>) -> Result<usize, EngineError> {
        let mut stopped = 0;
        let mut holding = stream::iter(works)
            .map(|mut work| async move {
                let held = runner::stopped(self, &mut work).await;
                match &held {
                    Ok(()) => self.claims.forget(&work),
                    // The journal refused: it goes on as if nobody had asked.
                    Err(_) => self.claims.put_back([work]),
                }
                held
            })
            .buffer_unordered(TOGETHER);
        let mut refused = None;
        while let Some(held) = holding.next().await {
            match held {
                Ok(()) => stopped += 1,
                Err(error) => refused = Some(error),
            }
        }
        refused.map_or(Ok(stopped), Err)
    }

    /// Why a run is being stopped.
    pub fn why_stopped(&self, run: i64) -> Stopped {
        self.stopping().get(&run).cloned().unwrap_or_default()
    }

    fn stopping(&self) -> MutexGuard<'_, HashMap<i64, Stopped>> {
        self.stopping.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Engine {
    /// Lets a held item go on, with the rule as it is today.
    pub async fn release(&self, item: i64) -> Result<(), EngineError> {
        let work = self.held(item).await?;
        let hold = self.core.journal.hold(item).await?;
        let arrangement = self.core.arrangement();
        let mut step = work.step;
        let mut version = work.version;
        let mut branch = work.branch;
        if let Some(live) = arrangement.rule(&work.rule) {
            let old = self.core.rule_of(&work).await?;
            let kinds = |rule: &Rule| -> Option<Vec<&'static str>> {
                Some(rule.branches.get(branch?)?.steps.iter().take(step).map(|s| s.step.kind()).collect())
            };
            // What was done is not done again: the item goes on where it stopped, as long as
            // today's rule did the same until there.
            if step == 0 || old.as_deref().and_then(kinds) == kinds(&live.rule) {
                version = live.version;
                // Which branch takes the file is asked anew; what is no file that came stays where it is.
                if step == 0 && work.kind == ItemKind::File {
                    branch = None;
                }
            }
        }
        // A person answered the question that the hold step asked.
        if hold.as_deref() == Some("asked") {
            step += 1;
            branch = work.branch;
        }
        self.end_hold(&work, ItemState::Queued, branch, step, version, None).await?;
        if let Some(work) = self.core.journal.work(item).await? {
            self.core.claims.go_on(work);
        }
        Ok(())
    }

    /// Gives a held item up, for a stated reason.
    pub async fn dismiss(&self, item: i64, why: &str) -> Result<(), EngineError> {
        let work = self.held(item).await?;
        let why = Some(format!("dismissed: {why}"));
        self.end_hold(&work, ItemState::Skipped, work.branch, work.step, work.version, why).await?;
        self.core.clear_work(&work).await;
        self.remove_leftover(&work).await;
        Ok(())
    }

    /// Stops a run: what is not at its end is held, so that nothing is lost and a person decides.
    /// Steps at work come to a safe point first. Answers how many files were stopped.
    pub async fn stop_run(&self, run: i64) -> Result<usize, EngineError> {
        self.run_is_there(run).await?;
        match self.core.stop_run(run, Stopped::default()).await? {
            0 => Err(EngineError::NotNow(format!("nothing of run {run} is going on"))),
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
            self.core.claims.hurry(|_, item| waiting.contains(&item));
            going_on += waiting.len();
            let mut released = stream::iter(held).map(|item| self.release(item)).buffer_unordered(TOGETHER);
            while let Some(released) = released.next().await {
                match released {
                    Ok(()) => going_on += 1,
                    // Somebody else was quicker.
                    Err(EngineError::NotNow(_)) => {}
                    Err(error) => return Err(error),
                }
            }
        }
        if going_on == 0 {
            let what = item.map_or_else(|| format!("nothing of run {run}"), |item| format!("item {item} of run {run}"));
            return Err(EngineError::NotNow(format!(
                "{what} is held or waits; to work on a file once more: wetbank rule run RULE --file PLACE:/PATH"
            )));
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
            return Err(EngineError::NotNow(format!("item {item} is not held, it is {}", work.state.as_str())));
        }
        Ok(work)
    }

    async fn end_hold(
        &self,
        work: &Work,
        state: ItemState,
        branch: Option<usize>,
        step: usize,
        version: i64,
        why: Option<String>,
    ) -> Result<(), EngineError> {
        let change = ItemChange {
            item: work.item,
            run: work.run,
            state,
            branch,
            step,
            hand: work.hand.clone(),
            failures: 0,
            due: None,
            why,
            at: clock::now(),
        };
        if !self.core.journal.end_hold(change, version).await? {
            return Err(EngineError::NotNow(format!("item {} is no longer held", work.item)));
        }
        let (run, item, rule) = (work.run, work.item, work.rule.clone());
        self.core.events.tell(Event::Item { run, item, rule, state, branch, step });
        self.core.joins.news(run);
        Ok(())
    }

    /// A partial file that a dismissed item left at its target.
    async fn remove_leftover(&self, work: &Work) {
        let Ok(attempts) = self.core.journal.attempts(work.item).await else { return };
        let Some(target) = attempts.into_iter().rev().find_map(|attempt| attempt.target) else { return };
        let name = format!("{}{}-{}-{}", wetbank_core::TEMPORARY_PREFIX, self.core.instance, work.item, work.step);
        if let (Ok(place), Ok(path)) =
            (self.core.arrangement().place(&target.place), target.path.parent().join_name(name.as_bytes()))
        {
            match place.delete(&path).await {
                Err(error) if error.kind != PlaceErrorKind::NotFound => {
                    tracing::warn!(%error, "a partial file could not be removed");
                }
                _ => {}
            }
        }
    }
}
