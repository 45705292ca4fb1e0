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
use crate::{EngineError, StoppedRun, queue::Stopped};

/// Items of a run read at once.
const PAGE: u32 = 500;
/// Items changed at once: the journal writes them together.
const TOGETHER: usize = 128;
/// How long those who stop a run wait for what is at work. Most of it hears within a second.
const PATIENCE: Duration = Duration::from_secs(3);
/// How often they look.
const LOOK: Duration = Duration::from_millis(20);

/// What a run had that was not at its end when it was told to stop.
#[derive(Debug, Default)]
pub(crate) struct Told {
    /// So many items are held.
    pub held: usize,
    /// These were at work, and come to a safe point.
    pub at_work: Vec<i64>,
}

impl Runner {
    /// Holds what waits in a run, and tells what is at work to stop.
    pub async fn stop_run(self: &Arc<Self>, run: i64, reason: Stopped) -> Result<Told, EngineError> {
        self.queue.stopping.begin(run, reason);
        let (mut told, mut after) = (Told::default(), 0);
        loop {
            let (waiting, at_work) = self.queue.claims.stop_run(run);
            told.at_work.extend(at_work.into_iter().filter(|item| !told.at_work.contains(item)).collect::<Vec<_>>());
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

    /// What became of a run that was told to stop, as the record has it once what was at work has come to a safe
    /// point, or after a few seconds.
    pub async fn what_stopped(&self, told: Told) -> Result<StoppedRun, EngineError> {
        let until = Instant::now() + PATIENCE;
        while told.at_work.iter().any(|item| self.queue.claims.is_in_hand(*item)) && Instant::now() < until {
            sleep(LOOK).await;
        }
        let mut stopped = StoppedRun { held: told.held, ..StoppedRun::default() };
        for item in told.at_work {
            let Some(work) = self.record.journal.work(item).await? else { continue };
            match work.state {
                ItemState::Held => stopped.held += 1,
                // A search is no file.
                ItemState::Done | ItemState::Skipped if work.kind == ItemKind::Find => {}
                ItemState::Done | ItemState::Skipped => stopped.ended += 1,
                _ => stopped.stopping += 1,
            }
        }
        Ok(stopped)
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
