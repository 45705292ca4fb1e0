//! Making a folder.

use wetbank_core::{FilePath, step};

use super::{AtStep, Attempt, Does, Effect, StepDone};

impl Does for step::MakeFolder {
    async fn done_at(&self, at: &AtStep<'_>, attempt: &mut Attempt) -> Effect<StepDone> {
        let path = at.with_facts(|facts| self.folder.render_folder(facts))?;
        let there = at.place(&self.place)?;
        let id = at.effects.record.journal.next_attempt();
        let target = FilePath { place: self.place.clone(), path: path.clone() };
        at.start(at.began(id, Some(target), None), attempt).await?;
        // One that is there is as good as one that is made.
        there.make_folder(&path).await?;
        let done = StepDone::nothing(at.hand, "the folder is there");
        Ok(StepDone { attempt: Some(id), skipped: false, ..done })
    }
}
