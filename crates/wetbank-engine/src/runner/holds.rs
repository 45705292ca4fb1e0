//! The end of a hold: an item goes on, or is given up.

use wetbank_core::{ItemState, Position};
use wetbank_journal::{ItemChange, Work};

use super::means::Runner;
use crate::{Declined, EngineError, clock, events::Event};

impl Runner {
    /// Gives a held item up, for a stated reason.
    ///
    /// # Errors
    ///
    /// If it is not held any more.
    pub async fn dismiss(&self, work: &Work, why: String) -> Result<(), EngineError> {
        self.end_hold(work, (ItemState::Skipped, work.branch, work.position), work.version, Some(why)).await?;
        self.effects.clear_work(work).await;
        // It is given up all the same; the log names what stays.
        let _ = self.effects.clear_target(work).await;
        Ok(())
    }

    /// Ends a hold: the item is in another state from then on.
    ///
    /// # Errors
    ///
    /// If it is not held any more.
    pub async fn end_hold(
        &self,
        work: &Work,
        (state, branch, position): (ItemState, Option<usize>, Position),
        version: i64,
        why: Option<String>,
    ) -> Result<(), EngineError> {
        work.state.become_(state).map_err(|_| Declined::NotHeld { item: work.item, state: work.state.as_str() })?;
        let change = ItemChange {
            item: work.item,
            run: work.run,
            state,
            branch,
            position,
            hand: work.hand.clone(),
            failures: 0,
            due: None,
            why,
            at: clock::now(),
        };
        if !self.record.journal.end_hold(change, version).await? {
            return Err(Declined::NotHeld { item: work.item, state: "at work again" }.into());
        }
        let (run, item, rule) = (work.run, work.item, work.rule.clone());
        self.queue.events.tell(Event::Item { run, item, rule, state, branch, step: position.code() });
        self.queue.joins.news(run);
        Ok(())
    }
}
