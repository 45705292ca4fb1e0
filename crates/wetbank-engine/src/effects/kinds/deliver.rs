//! Handing a copy to a partner.

use wetbank_core::step;

use super::{AtStep, Attempt, Does, Effect, StepDone};

impl Does for step::Deliver {
    async fn done_at(&self, at: &AtStep<'_>, attempt: &mut Attempt) -> Effect<StepDone> {
        at.put(&self.0, attempt).await
    }
}
