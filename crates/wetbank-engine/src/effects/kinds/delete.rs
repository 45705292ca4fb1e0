//! Removing the original.

use wetbank_core::step;

use super::{AtStep, Attempt, Does, Effect, StepDone};

impl Does for step::Delete {
    async fn done_at(&self, at: &AtStep<'_>, attempt: &mut Attempt) -> Effect<StepDone> {
        at.remove_original(attempt).await
    }
}
