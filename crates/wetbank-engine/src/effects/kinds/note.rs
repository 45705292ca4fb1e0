//! A line in the record.

use wetbank_core::step;

use super::{AtStep, Attempt, Does, Effect, StepDone};

impl Does for step::Note {
    async fn done_at(&self, at: &AtStep<'_>, attempt: &mut Attempt) -> Effect<StepDone> {
        let text = at.with_facts(|facts| self.text.render(facts))?;
        at.noted(text, false, attempt).await
    }
}
