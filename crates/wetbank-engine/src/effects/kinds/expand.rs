//! Making a compressed file large again.

use wetbank_archive::Limits;
use wetbank_core::step;

use super::{AtStep, Attempt, Does, Effect, StepDone};
use crate::effects::results::Coming;

impl Does for step::Expand {
    async fn done_at(&self, at: &AtStep<'_>, attempt: &mut Attempt) -> Effect<StepDone> {
        let (size, limits) = (at.hand.fingerprint.size, Limits::of(self.most.bytes.0, self.most.is_said));
        at.through_work(&self.name, Coming::alike(), attempt, move |input, output| {
            wetbank_archive::expand(input, output, size, limits).map(|_| None)
        })
        .await
    }
}
