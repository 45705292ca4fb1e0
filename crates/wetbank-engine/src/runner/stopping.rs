//! Holding what is not at its end in a run.
//!
//! What waits is held at once. What is at work comes to a safe point first, or to its end: what became of it is read
//! from the record afterwards, not foretold.

use std::{sync::Arc, time::Duration};

use futures_util::{StreamExt, stream};
use tokio::time::{Instant, sleep};
use wetbank_core::{ItemKind, ItemState};
use wetbank_journal::Work;

use super::{means::Runner, record};
use crate::{
    EngineError, StoppedRun,
    queue::{Stopped, Told},
};

/// Items of a run read at once.
const PAGE: u32 = 500;
/// Items changed at once: the journal writes them together.
const TOGETHER: usize = 128;
/// How long those who stop a run wait for what is at work. Most of it hears within a second.
const PATIENCE: Duration = Duration::from_secs(3);
/// How often they look.
const LOOK: Duration = Duration::from_millis(50);

/// What a run had that was not at its end when it was told to stop.
#[derive(Debug, Default)]
pub(crate) struct Stop {
    /// So many items are held.
    pub held: usize,
    /// These were at work, and come to a safe point.
    pub at_work: Vec<i64>,
}

impl Runner {
    /// Holds what waits in a run, and tells what is at work to stop.
    pub async fn stop_run(self: &Arc<Self>, run: i64, reason: Stopped) -> Result<Stop, EngineError> {
        self.queue.stopping.begin(run, reason);
        let (mut told, mut after) = (Stop::default(), 0);
        loop {
            let (waiting, at_work) = self.queue.claims.stop_run(run);
            for Told { item, before } in at_work {
                // Of what was told before and is held or over by now, only what is left aside is being cleared.
                let is_over = before && self.is_at_rest(item).await?;
                if !is_over && !told.at_work.contains(&item) {
                    told.at_work.push(item);
                }
            }
            told.held += self.hold_stopped(waiting).await;
            // What does not fit into memory waits in the journal.
            let page = self.record.journal.open_items_of(run, after, i64::from(PAGE)).await?;
            let Some(last) = page.last() else { break };
            after = last.item;
            told.held += self.hold_stopped(self.queue.claims.reserve(page)).await;
        }
        if told.held == 0 && told.at_work.is_empty() {
            self.queue.stopping.forget(run);
        }
        Ok(told)
    }

    async fn is_at_rest(&self, item: i64) -> Result<bool, EngineError> {
        Ok(self.record.journal.work(item).await?.is_none_or(|work| work.state.is_at_rest()))
    }

    /// What became of a run that was told to stop, as the record has it once what was at work has come to a safe
    /// point, or after a few seconds.
    pub async fn what_stopped(&self, told: Stop) -> Result<StoppedRun, EngineError> {
        let until = Instant::now() + PATIENCE;
        let mut stopped = StoppedRun { held: told.held, ..StoppedRun::default() };
        let mut at_work = told.at_work;
        loop {
            let mut still = Vec::new();
            for item in at_work {
                let Some(work) = self.record.journal.work(item).await? else { continue };
                match work.state {
                    ItemState::Held => stopped.held += 1,
                    // A search is no file.
                    ItemState::Done | ItemState::Skipped if work.kind == ItemKind::Find => {}
                    ItemState::Done | ItemState::Skipped => stopped.ended += 1,
                    _ => still.push(item),
                }
            }
            stopped.stopping = still.len();
            if still.is_empty() || Instant::now() > until {
                return Ok(stopped);
            }
            at_work = still;
            sleep(LOOK).await;
        }
    }

    /// Holds items that were taken out, many in one transaction; answers how many.
    async fn hold_stopped(&self, works: Vec<Work>) -> usize {
        let mut stopped = 0;
        let mut holding = stream::iter(works)
            .map(|work| async move {
                let held = record::stopped(self, work.clone()).await;
                if held {
                    self.queue.claims.forget(&work);
                }
                held
            })
            .buffer_unordered(TOGETHER);
        while let Some(held) = holding.next().await {
            stopped += usize::from(held);
        }
        stopped
    }
}
