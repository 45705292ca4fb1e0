//! Listing the checksums of files.

use std::io::{BufWriter, Write};

use wetbank_archive::ArchiveError;
use wetbank_core::step;

use super::{AtStep, Attempt, Does, Effect, StepDone};
use crate::effects::{
    checksums::{listed, sum},
    sources::files,
};

impl Does for step::Manifest {
    async fn done_at(&self, at: &AtStep<'_>, attempt: &mut Attempt) -> Effect<StepDone> {
        at.make_of_sources(&self.name, attempt, move |mut sources, output| {
            let mut output = BufWriter::new(output);
            let mut count = 0;
            while let Some(source) = sources.next() {
                let (_, hand, source) = source?;
                let sum = sum(sources.open(&source)?)?;
                writeln!(output, "{}", listed(&sum, &hand.name.name_text())).map_err(ArchiveError::from)?;
                count += 1;
            }
            output.flush().map_err(ArchiveError::from)?;
            Ok(Some(files(count)))
        })
        .await
    }
}
