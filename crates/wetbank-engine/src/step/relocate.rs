//! Steps that give a file another name or take it away: move, rename, delete.

use wetbank_core::{FilePath, IfExists, RelPath, Target, Template};
use wetbank_places::{Collision, PlaceErrorKind};

use super::{
    AtStep, Effect, FailureKind, Hand, Intent, StepDone,
    names::{existing, free_name, taken_name},
    send::{finish_intent, give_name, output, remove, renewed},
};

impl AtStep<'_> {
    pub(super) async fn move_on(&self, target: &Target, attempt: &mut Option<i64>) -> Effect<StepDone> {
        let here = self.hand.place.clone().map(|place| FilePath { place, path: self.hand.path.clone() });
        let Some(here) = here else { return self.send(target, None, attempt).await };
        let (source, place) = (self.place(&here.place)?, self.place(&target.place)?);
        let (folder, wanted) = self.planned(target, place.as_ref())?;
        let to = FilePath { place: target.place.clone(), path: wanted };
        let same_place = here.place == target.place;
        let folders = source.as_folder().zip(place.as_folder()).is_some();
        if !same_place && !folders {
            return self.send(target, Some((here, self.hand.fingerprint.clone())), attempt).await;
        }
        // SkipSame must compare contents, and a copy does that.
        if target.exists == IfExists::SkipSame {
            return self.send(target, Some((here, self.hand.fingerprint.clone())), attempt).await;
        }
        match self.relocate(&here, to, folder, target.exists, attempt).await {
            Err(FailureKind::Place(e)) if e.kind == PlaceErrorKind::Unsupported => {
                self.send(target, Some((here, self.hand.fingerprint.clone())), attempt).await
            }
            result => result,
        }
    }

    pub(super) async fn rename(
        &self,
        name: &Template,
        exists: IfExists,
        attempt: &mut Option<i64>,
    ) -> Effect<StepDone> {
        let folder = self.hand.path.parent();
        let path = self.with_facts(|facts| name.render_name(&folder, facts))?;
        let Some(place) = self.hand.place.clone() else {
            // What lies in the work folder only changes the name it goes by.
            let name = RelPath::from_bytes(path.name()).expect("a name of a path");
            let hand = Hand { name, ..self.hand.clone() };
            return Ok(StepDone { also_named: Some(path.name_text()), ..StepDone::with(hand) });
        };
        let here = FilePath { place: place.clone(), path: self.hand.path.clone() };
        self.relocate(&here, FilePath { place, path }, folder, exists, attempt).await
    }

    /// Gives a file another path without moving a byte.
    pub async fn relocate(
        &self,
        here: &FilePath,
        mut to: FilePath,
        folder: RelPath,
        exists: IfExists,
        attempt: &mut Option<i64>,
    ) -> Effect<StepDone> {
        let (source, place) = (self.place(&here.place)?, self.place(&to.place)?);
        if *here == to {
            return Ok(StepDone::nothing(self.hand, "it is there already"));
        }
        if !folder.is_root() && place.capabilities().folders_are_made {
            place.make_folder(&folder).await?;
        }
        if let Some(taken) = existing(place.as_ref(), &to.path).await? {
            match exists {
                IfExists::Replace => {}
                IfExists::KeepBoth => to.path = free_name(place.as_ref(), &to.path).await?,
                IfExists::Refuse | IfExists::SkipSame => return Err(taken_name(&to, &taken).into()),
            }
        }
        let there = source.stat(&here.path).await?;
        let was_original = self.hand.original.as_ref().is_some_and(|(file, _)| file == here);
        let intent = Intent {
            from: here.clone(),
            to: to.clone(),
            fingerprint: there.fingerprint.clone(),
            replace: exists == IfExists::Replace,
            then_remove: None,
            hand: Hand {
                place: Some(to.place.clone()),
                path: to.path.clone(),
                name: RelPath::from_bytes(to.path.name()).expect("a name of a path"),
                fingerprint: there.fingerprint.clone(),
                original: if was_original {
                    Some((to.clone(), there.fingerprint.clone()))
                } else {
                    self.hand.original.clone()
                },
                fault: self.hand.fault.clone(),
                count: self.hand.count,
            },
        };
        let id = self.core.journal.next_attempt();
        self.core.journal.note_output(output(self.work, &to, &there.fingerprint)).await?;
        self.start(self.began(id, Some(to.clone()), Some(&intent)), attempt).await?;
        let collision = if intent.replace { Collision::Replace } else { Collision::Refuse };
        let now = give_name(source.as_ref(), &here.path, place.as_ref(), &to.path, collision).await?;
        let intent = renewed(self.core, self.work, intent, now).await?;
        finish_intent(self.core, id, intent, self.work).await
    }

    pub(super) async fn delete(&self, attempt: &mut Option<i64>) -> Effect<StepDone> {
        let id = self.core.journal.next_attempt();
        let target = self.hand.original.as_ref().map(|(file, _)| file.clone());
        self.start(self.began(id, target, None), attempt).await?;
        let note = match &self.hand.original {
            Some((file, fingerprint)) => remove(self.place(&file.place)?.as_ref(), file, fingerprint).await?,
            None => Some("it was gone already".to_owned()),
        };
        let hand = Hand { original: None, ..self.hand.clone() };
        Ok(StepDone { attempt: Some(id), skipped: note.is_some(), note, freed: true, ..StepDone::with(hand) })
    }

    /// Removes the original at the end of its item.
    pub async fn remove_original(&self, attempt: &mut Option<i64>) -> Effect<StepDone> {
        self.delete(attempt).await
    }
}
