//! Giving a file another name in its folder.

use wetbank_core::{FilePath, RelPath, step};
use wetbank_places::Place;

use super::{AtStep, Attempt, Does, Effect, Hand, StepDone};
use crate::effects::Then;

impl Does for step::Rename {
    async fn done_at(&self, at: &AtStep<'_>, attempt: &mut Attempt) -> Effect<StepDone> {
        let folder = at.hand.path.parent();
        let path = at.with_facts(|facts| self.name.render_name(&folder, facts))?;
        let Some(place) = at.hand.place.clone() else {
            // What lies in the work folder only changes the name it goes by.
            let name = RelPath::from_bytes(path.name()).expect("a name of a path");
            let hand = Hand { name: name.clone(), ..at.hand.clone() };
            let id = at.effects.record.journal.next_attempt();
            let target = FilePath { place: at.effects.work.folder.name().clone(), path: name };
            at.start(at.began(id, Some(target), None), attempt).await?;
            let also_named = Some(path.name_text());
            return Ok(StepDone { attempt: Some(id), also_named, ..StepDone::with(hand) });
        };
        let here = FilePath { place: place.clone(), path: at.hand.path.clone() };
        at.relocate(&here, FilePath { place, path }, (folder, self.exists), Then::Original, attempt).await
    }
}
