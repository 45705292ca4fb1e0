//! Making a smaller file.

use wetbank_core::{Compression, step};

use super::{AtStep, Attempt, Does, Effect, StepDone};
use crate::effects::results::Coming;

impl Does for step::Compress {
    async fn done_at(&self, at: &AtStep<'_>, attempt: &mut Attempt) -> Effect<StepDone> {
        let with = match self.with {
            Compression::Gzip => wetbank_archive::Compression::Gzip,
            Compression::Zstd => wetbank_archive::Compression::Zstd,
        };
        at.through_work(&self.name, Coming::alike(), attempt, move |input, output| {
            wetbank_archive::compress(input, output, with).map(|()| None)
        })
        .await
    }
}
