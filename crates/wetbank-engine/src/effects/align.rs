//! One line of a twin's plan, carried out. Nothing is done to another file than the plan was made for: what changed
//! meanwhile is left to the next pass.

use wetbank_core::{
    FilePath, Fingerprint, IfExists, RelPath,
    twin::{Action, FOLDER_REMOVED, Pair, Side, State, Was, Why},
};
use wetbank_places::{EntryKind, PlaceErrorKind};

use super::{
    aligned::{Aligned, PUTS, lies_beside},
    names::{existing, same_content},
    outcome::{Attempt, Effect, FailureKind, Hand, StepDone},
    reading::Source,
    relocate::Then,
    send::Spot,
    step::AtStep,
};

/// Whether a file is still the one that was seen: as far as the place tells.
fn is_still(was: &Fingerprint, is: &Fingerprint) -> bool {
    was.size == is.size
        && match (&was.tag, &is.tag) {
            (Some(was), Some(is)) => was == is,
            _ => was.modified == is.modified && (was.inode == is.inode || was.inode.is_none() || is.inode.is_none()),
        }
}

impl AtStep<'_> {
    /// Carries out the line that is in hand.
    pub(super) async fn align(&self, attempt: &mut Attempt) -> Effect<StepDone> {
        let Some(aligned) = self.hand.aligned.as_deref() else {
            return Ok(StepDone::nothing(self.hand, "no plan is in hand"));
        };
        let (line, step) = (&aligned.line, self.position.step().unwrap_or_default());
        if aligned.is_over {
            return Ok(StepDone::nothing(self.hand, "the same is on both sides"));
        }
        if step == 0 && line.if_differs && self.is_same(aligned).await? {
            let noted = Some(aligned.known(self.seen(aligned)));
            let over = Aligned { is_over: true, ..aligned.clone() };
            let hand = Hand { aligned: Some(Box::new(over)), ..self.hand.clone() };
            return Ok(StepDone { noted, ..StepDone::nothing(&hand, "the same is on both sides") });
        }
        match (&line.action, step) {
            (Action::Make { on }, _) | (Action::Replace { on }, 1..) => self.put_over(aligned, *on, attempt).await,
            (Action::Replace { on }, 0) => self.set_aside(aligned, *on, false, attempt).await,
            (Action::Delete { on }, _) => self.set_aside(aligned, *on, true, attempt).await,
            (Action::Rename { on, from }, _) => self.rename_along(aligned, *on, from, attempt).await,
            (Action::KeepBoth { renamed, to }, 0) => self.rename_beside(aligned, *renamed, to, attempt).await,
            (Action::Restore { on, from }, 0) => self.bring_back(aligned, *on, from, attempt).await,
            (Action::Restore { on, .. }, _) => self.put_over(aligned, on.other(), attempt).await,
            (Action::KeepBoth { renamed, .. }, _) => self.put_over(aligned, *renamed, attempt).await,
            (Action::MakeFolder { on }, _) => self.make_over(aligned, *on, attempt).await,
            (Action::RemoveFolder { on }, _) => self.remove_over(aligned, *on, attempt).await,
            (Action::Ask { .. } | Action::Join | Action::Forget | Action::Leave, _) => {
                Ok(StepDone::nothing(self.hand, "nothing is to be done"))
            }
        }
    }

    /// The item ends without anything done.
    fn left(&self, why: String) -> StepDone {
        StepDone { left: Some(format!("{why}; the next pass plans it anew")), ..StepDone::nothing(self.hand, &why) }
    }

    /// Why a side's file is not what was planned for; nothing if it is.
    async fn is_other(&self, aligned: &Aligned, side: Side, file: &FilePath) -> Effect<Option<String>> {
        let place = self.place(&file.place)?;
        Ok(match (aligned.had(side), existing(place.as_ref(), &file.path).await?) {
            (None, None) => None,
            // That a folder is there is why the file goes.
            (None, Some(is)) if is.kind == EntryKind::Folder && matches!(aligned.line.why, Why::FileOn(_)) => None,
            (Some(had), Some(is)) if is.kind == EntryKind::File && is_still(had, &is.fingerprint) => None,
            (None, Some(_)) => Some(format!("something came to {file} meanwhile")),
            (Some(_), None) => Some(format!("{file} went away meanwhile")),
            (Some(_), Some(_)) => Some(format!("{file} changed meanwhile")),
        })
    }

    /// Whether both contents are the same, of which only the states were known.
    async fn is_same(&self, aligned: &Aligned) -> Effect<bool> {
        let (near, far) = (aligned.at(Side::Near), aligned.at(Side::Far));
        let (Some(had), Some(_)) = (aligned.had(Side::Near), aligned.had(Side::Far)) else { return Ok(false) };
        for (side, file) in [(Side::Near, &near), (Side::Far, &far)] {
            if self.is_other(aligned, side, file).await?.is_some() {
                return Ok(false);
            }
        }
        let there = self.place(&far.place)?;
        let Some(taken) = existing(there.as_ref(), &far.path).await? else { return Ok(false) };
        let source = Source { place: self.place(&near.place)?, path: near.path, fingerprint: had.clone() };
        same_content(&source, there.as_ref(), &far.path, &taken).await
    }

    fn seen(&self, aligned: &Aligned) -> Was {
        match (&aligned.line.had.near, &aligned.line.had.far) {
            (Some(near), Some(far)) => Was::File(Pair { near: near.clone(), far: far.clone() }),
            _ => Was::Folder,
        }
    }

    /// The same, with what was brought beside the name taken away.
    async fn left_alone(&self, aligned: &Aligned, on: Side, why: String, attempt: &Attempt) -> Effect<StepDone> {
        if aligned.brought.is_some() {
            let to = aligned.at(on);
            self.effects.remove_aside(&self.beside(&to)).await?;
        }
        Ok(StepDone { attempt: attempt.id, ..self.left(why) })
    }

    /// What travels to a side; nothing if the other side had no file.
    fn travels(&self, aligned: &Aligned, on: Side) -> Option<Hand> {
        let from = aligned.at(on.other());
        let name = RelPath::from_bytes(from.path.name()).expect("a name of a path");
        Some(Hand {
            place: Some(from.place),
            path: from.path,
            fingerprint: aligned.had(on.other())?.clone(),
            aligned: Some(Box::new(aligned.clone())),
            ..Hand::empty(name)
        })
    }

    /// Where the next step looks for what this one brought for it.
    fn beside(&self, to: &FilePath) -> FilePath {
        let next = AtStep { position: PUTS, ..*self };
        FilePath { place: to.place.clone(), path: next.temporary(&to.path.parent()) }
    }

    /// A side's file gives way to the other's, which lies beside it by then: its name is free for a moment only, however
    /// long the way of the other is, and stays its own if the other never comes.
    async fn give_way(
        &self,
        aligned: &Aligned,
        on: Side,
        (here, to): (&FilePath, FilePath),
        attempt: &mut Attempt,
    ) -> Effect<StepDone> {
        let place = self.place(&here.place)?;
        let mut aligned = aligned.clone();
        if let Some(hand) = self.travels(&aligned, on).filter(|_| lies_beside(place.as_ref())) {
            let id = self.effects.record.journal.next_attempt();
            self.start(self.began(id, Some(to.clone()), None), attempt).await?;
            let comes = AtStep { hand: &hand, position: PUTS, ..*self };
            let (source, beside) = (comes.source()?, self.beside(here));
            aligned.brought = Some(comes.bring(&source, &place, (&beside.path, here), false).await?);
            // That may have taken long.
            if let Some(why) = self.is_other(&aligned, on, here).await? {
                return self.left_alone(&aligned, on, why, attempt).await;
            }
        }
        let hand = Hand { aligned: Some(Box::new(aligned)), ..self.hand.clone() };
        let folder = to.path.parent();
        let moves = AtStep { hand: &hand, ..*self };
        let done = moves.relocate(here, to, (folder, IfExists::KeepBoth), Then::Delivered, attempt).await?;
        Ok(StepDone { hand, ..done })
    }

    /// Puts the other side's file on this one, where its name must be free.
    async fn put_over(&self, aligned: &Aligned, on: Side, attempt: &mut Attempt) -> Effect<StepDone> {
        let (from, to) = (aligned.at(on.other()), aligned.at(on));
        if let Some(why) = self.is_other(aligned, on.other(), &from).await? {
            return self.left_alone(aligned, on, why, attempt).await;
        }
        let Some(hand) = self.travels(aligned, on) else { return Ok(self.left(format!("{from} was no file"))) };
        let spot = Spot { to: to.clone(), exists: IfExists::Refuse, sha256: false };
        let sent = AtStep { hand: &hand, ..*self }.put_at(spot, None, attempt).await;
        let done = match sent {
            Err(FailureKind::Place(error)) if error.kind == PlaceErrorKind::Exists && error.place == to.place => {
                let why = format!("something came to {to} meanwhile");
                return self.left_alone(aligned, on, why, attempt).await;
            }
            sent => sent?,
        };
        // What was edited while it was read is told by its state, and travels once more in the next pass.
        let was = done.put.as_ref().and_then(|(_, arrived)| aligned.as_put(on, arrived));
        Ok(StepDone { noted: was.map(|was| aligned.known(was)), ..done })
    }

    /// Gives a side's file a place among what is kept there. With `is_gone` nothing takes its name.
    async fn set_aside(&self, aligned: &Aligned, on: Side, is_gone: bool, attempt: &mut Attempt) -> Effect<StepDone> {
        let here = aligned.at(on);
        if let Some(why) = self.is_other(aligned, on, &here).await? {
            return Ok(self.left(why));
        }
        // The other side is looked at once more, too: what is back there is not deleted here.
        if let Some(why) = self.is_other(aligned, on.other(), &aligned.at(on.other())).await? {
            return Ok(self.left(why));
        }
        let to = aligned.file(on, &aligned.kept.join(aligned.line.at.of(on)));
        if !is_gone {
            return self.give_way(aligned, on, (&here, to), attempt).await;
        }
        let folder = to.path.parent();
        let done = self.relocate(&here, to, (folder, IfExists::KeepBoth), Then::Delivered, attempt).await?;
        Ok(StepDone { hand: self.hand.clone(), noted: Some(aligned.gone(&aligned.line.at.near)), ..done })
    }

    /// Gives a file the path that it has on the other side by now.
    async fn rename_along(
        &self,
        aligned: &Aligned,
        on: Side,
        from: &Pair<RelPath>,
        attempt: &mut Attempt,
    ) -> Effect<StepDone> {
        let (here, to) = (aligned.file(on, from.of(on)), aligned.at(on));
        for (side, file) in [(on, &here), (on.other(), &aligned.at(on.other()))] {
            if let Some(why) = self.is_other(aligned, side, file).await? {
                return Ok(self.left(why));
            }
        }
        let folder = to.path.parent();
        let renamed = self.relocate(&here, to.clone(), (folder, IfExists::Refuse), Then::Delivered, attempt).await;
        let done = match renamed {
            Err(FailureKind::Place(error)) if error.kind == PlaceErrorKind::Exists && error.place == to.place => {
                return Ok(self.left(format!("something came to {to} meanwhile")));
            }
            renamed => renamed?,
        };
        let (twin, mut notes) = aligned.gone(&from.near);
        if let Some(was) = done.put.as_ref().and_then(|(_, now)| aligned.as_put(on, now)) {
            notes.extend(aligned.known(was).1);
        }
        Ok(StepDone { hand: self.hand.clone(), noted: Some((twin, notes)), ..done })
    }

    /// Gives a side's file another name, so that the other side's can have its own.
    async fn rename_beside(&self, aligned: &Aligned, on: Side, name: &[u8], attempt: &mut Attempt) -> Effect<StepDone> {
        let here = aligned.at(on);
        for (side, file) in [(on, &here), (on.other(), &aligned.at(on.other()))] {
            if let Some(why) = self.is_other(aligned, side, file).await? {
                return Ok(self.left(why));
            }
        }
        let folder = here.path.parent();
        let path = folder.join_name(name).map_err(|error| FailureKind::Lasting {
            code: "bad-name".to_owned(),
            why: format!("{here} cannot be named otherwise: {error}"),
            remedy: "Give one of both files another name, then dismiss this.".to_owned(),
        })?;
        let to = FilePath { place: here.place.clone(), path };
        self.give_way(aligned, on, (&here, to), attempt).await
    }

    /// Gives what a side kept its path again, or one beside it where that is taken.
    async fn bring_back(&self, aligned: &Aligned, on: Side, from: &RelPath, attempt: &mut Attempt) -> Effect<StepDone> {
        let (here, to) = (aligned.file(on, from), aligned.at(on));
        if let Some(why) = self.is_other(aligned, on, &here).await? {
            return Ok(self.left(why));
        }
        let folder = to.path.parent();
        let done = self.relocate(&here, to, (folder, IfExists::KeepBoth), Then::Delivered, attempt).await?;
        let Some((back, print)) = &done.put else { return Ok(done) };
        let mut line = aligned.line.clone();
        for side in Side::BOTH {
            let named = line.at.of(side).parent().join_name(back.path.name());
            *line.at.of_mut(side) = named.expect("a name that is there, in a folder that is there");
        }
        *line.had.of_mut(on) = Some(State::of(print));
        let aligned = Aligned { line, ..aligned.clone() };
        Ok(StepDone { hand: Hand { aligned: Some(Box::new(aligned)), ..self.hand.clone() }, ..done })
    }

    async fn make_over(&self, aligned: &Aligned, on: Side, attempt: &mut Attempt) -> Effect<StepDone> {
        let to = aligned.at(on);
        let id = self.effects.record.journal.next_attempt();
        self.start(self.began(id, Some(to.clone()), None), attempt).await?;
        self.place(&to.place)?.make_folder(&to.path).await?;
        let noted = Some(aligned.known(Was::Folder));
        Ok(StepDone { attempt: Some(id), noted, ..StepDone::with(self.hand.clone()) })
    }

    async fn remove_over(&self, aligned: &Aligned, on: Side, attempt: &mut Attempt) -> Effect<StepDone> {
        let at = aligned.at(on);
        let place = self.place(&at.place)?;
        let id = self.effects.record.journal.next_attempt();
        self.start(self.began(id, Some(at.clone()), None), attempt).await?;
        match place.remove_folder(&at.path).await {
            Ok(()) => {}
            Err(error) if error.kind == PlaceErrorKind::NotFound => {}
            Err(error) if error.kind == PlaceErrorKind::Exists => {
                let left = self.left(format!("something lies in {at}"));
                return Ok(StepDone { attempt: Some(id), ..left });
            }
            Err(error) => return Err(error.into()),
        }
        let (note, noted) = (Some(FOLDER_REMOVED.to_owned()), Some(aligned.gone(&aligned.line.at.near)));
        Ok(StepDone { attempt: Some(id), note, noted, ..StepDone::with(self.hand.clone()) })
    }
}
