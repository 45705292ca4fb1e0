//! Going on in another branch.

use wetbank_core::step;

use super::{AtStep, Attempt, Does, Effect, StepDone};

impl Does for step::Continue {
    async fn done_at(&self, at: &AtStep<'_>, attempt: &mut Attempt) -> Effect<StepDone> {
        let words = format!("branch {} goes on", self.branch + 1);
        let done = at.noted(words, false, attempt).await?;
        Ok(StepDone { branch: Some(self.branch), ..done })
    }
}
