//! Waiting for a person.

use wetbank_core::step;

use super::{AtStep, Attempt, Does, Effect, FailureKind, StepDone};

impl Does for step::Hold {
    async fn done_at(&self, at: &AtStep<'_>, attempt: &mut Attempt) -> Effect<StepDone> {
        let _ = (at, attempt);
        Err(FailureKind::Lasting {
            code: "asked".to_owned(),
            why: self.why.clone(),
            remedy: "The rule asks a person: release to go on, or dismiss.".to_owned(),
        })
    }
}
