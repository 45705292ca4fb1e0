//! Steps that give a file another name or take it away: move, rename, delete.

use wetbank_core::{FilePath, IfExists, RelPath};
use wetbank_journal::Intention;
use wetbank_places::{Collision, PlaceErrorKind};

use super::{
    names::{existing, free_name, taken_name},
    outcome::{Attempt, Effect, Hand, Intent, REMOVED, StepDone},
    send::{QUICKER, finish_intent, give_name, output, remove, renewed},
    step::AtStep,
};

/// What a file is once it has another path, if it was the one that came.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Then {
    /// Still the original, of which something is to become.
    Original,
    /// Delivered: there is no original any more, and nothing takes away what arrived.
    Delivered,
}

impl AtStep<'_> {
    /// Gives a file another path without moving a byte.
    pub async fn relocate(
        &self,
        here: &FilePath,
        mut to: FilePath,
        (folder, exists): (RelPath, IfExists),
        then: Then,
        attempt: &mut Attempt,
    ) -> Effect<StepDone> {
        let (source, place) = (self.place(&here.place)?, self.place(&to.place)?);
        let was_original = self.hand.original.as_ref().is_some_and(|(file, _)| file == here);
        if *here == to {
            let done = StepDone::nothing(self.hand, "it is there already");
            let original = done.hand.original.clone().filter(|_| then == Then::Original || !was_original);
            return Ok(StepDone { hand: Hand { original, ..done.hand.clone() }, ..done });
        }
        if !folder.is_root() && place.capabilities().folders_are_made {
            place.make_folder(&folder).await?;
        }
        let must_look = matches!(exists, IfExists::Refuse | IfExists::SkipSame);
        if must_look && let Some(taken) = existing(place.as_ref(), &to.path).await? {
            return Err(taken_name(&to, &taken).into());
        }
        let there = source.stat(&here.path).await?;
        // An attempt that has begun already goes on.
        let begun = attempt.id;
        let (id, wanted) = (begun.unwrap_or_else(|| self.effects.record.journal.next_attempt()), to.path.clone());
        let mut tries = 0;
        loop {
            let reserved = match exists {
                IfExists::KeepBoth => Some(free_name(&self.effects.slots.names, place.as_ref(), &wanted).await?),
                _ => None,
            };
            to.path = reserved.as_ref().map_or_else(|| wanted.clone(), |reserved| reserved.path().clone());
            let hand = self.hand_after(&to, &there.fingerprint, true);
            let original = match then {
                _ if !was_original => self.hand.original.clone(),
                Then::Original => Some((to.clone(), there.fingerprint.clone())),
                Then::Delivered => None,
            };
            let intent = Intent {
                from: here.clone(),
                to: to.clone(),
                fingerprint: there.fingerprint.clone(),
                replace: exists == IfExists::Replace,
                then_remove: None,
                hand: Hand { original, ..hand },
            };
            self.notes(output(self.work, &to, &there.fingerprint)).await?;
            if tries == 0 && begun.is_none() {
                self.start(self.began(id, Some(to.clone()), Some(&intent)), attempt).await?;
            } else {
                let intention = Intention {
                    attempt: id,
                    intent: serde_json::to_string(&intent).expect("plain values serialise"),
                    target: to.clone(),
                    size: there.fingerprint.size,
                    sha256: None,
                    blake3: None,
                    output: None,
                };
                self.intends(intention, attempt).await?;
            }
            let collision = if intent.replace { Collision::Replace } else { Collision::Refuse };
            match give_name(source.as_ref(), &here.path, place.as_ref(), &to.path, collision).await {
                Ok(now) => {
                    let intent = renewed(self.effects, self.work, intent, now).await?;
                    return finish_intent(self.effects, id, intent, self.work).await;
                }
                // Somebody else was quicker: the file gets the next name.
                Err(error) if error.kind == PlaceErrorKind::Exists && reserved.is_some() && tries < QUICKER => {
                    tries += 1;
                }
                Err(error) => return Err(error.into()),
            }
        }
    }

    /// Removes the original, if it is still what came.
    pub async fn remove_original(&self, attempt: &mut Attempt) -> Effect<StepDone> {
        let id = self.effects.record.journal.next_attempt();
        let target = self.hand.original.as_ref().map(|(file, _)| file.clone());
        self.start(self.began(id, target, None), attempt).await?;
        let note = match &self.hand.original {
            Some((file, fingerprint)) => remove(self.place(&file.place)?.as_ref(), file, fingerprint).await?,
            None => Some("it was gone already".to_owned()),
        };
        let hand = Hand { original: None, ..self.hand.clone() };
        let code = note.is_none().then_some(REMOVED);
        Ok(StepDone { attempt: Some(id), code, skipped: note.is_some(), note, freed: true, ..StepDone::with(hand) })
    }
}
