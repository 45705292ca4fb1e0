//! One line of a twin's plan, carried out. Nothing is done to another file than the plan was made for: what changed
//! meanwhile is left to the next pass.

use serde::{Deserialize, Serialize};
use wetbank_core::{
    FilePath, Fingerprint, IfExists, Name, RelPath, Target, Template,
    twin::{Action, FOLDER_REMOVED, Known, Line, Pair, Side, State, Was, Why},
};
use wetbank_journal::TwinNote;
use wetbank_places::{EntryKind, PlaceErrorKind};

use super::{
    names::{existing, same_content},
    outcome::{Attempt, Effect, FailureKind, Hand, StepDone},
    reading::Source,
    relocate::Then,
    step::AtStep,
};

/// A line of a plan with what it needs, as the journal keeps it with what is in hand.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Aligned {
    /// The twin.
    pub twin: Name,
    /// Both folders.
    pub folders: Pair<FilePath>,
    /// What is planned.
    pub line: Line,
    /// Where below its folder a side keeps what it loses.
    pub kept: RelPath,
    /// Both contents turned out to be the same: what would follow need not be done.
    #[serde(default)]
    pub is_over: bool,
}

impl Aligned {
    /// A path of one side.
    fn file(&self, side: Side, below: &RelPath) -> FilePath {
        let folder = self.folders.of(side);
        FilePath { place: folder.place.clone(), path: folder.path.join(below) }
    }

    /// Its own path on one side.
    fn at(&self, side: Side) -> FilePath {
        self.file(side, self.line.at.of(side))
    }

    /// The file as it was on one side when this was planned.
    fn had(&self, side: Side) -> Option<&Fingerprint> {
        self.line.had.of(side).as_ref().map(|state| &state.print)
    }
}

/// A text that is no template.
fn plain(text: &str) -> Effect<Template> {
    Ok(Template::new(&format!("{{{{ {} }}}}", serde_json::Value::from(text)))?)
}

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
            self.know(aligned, self.seen(aligned)).await?;
            let over = Aligned { is_over: true, ..aligned.clone() };
            let hand = Hand { aligned: Some(Box::new(over)), ..self.hand.clone() };
            return Ok(StepDone::nothing(&hand, "the same is on both sides"));
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

    /// Notes what both sides have at the line's path from now on.
    async fn know(&self, aligned: &Aligned, was: Was) -> Effect<()> {
        let at = &aligned.line.at;
        let name = Pair { near: at.near.name().to_vec(), far: at.far.name().to_vec() };
        let note = TwinNote::Known { folder: at.near.parent(), known: Box::new(Known { name, was }) };
        self.notes_of(aligned, vec![note]).await
    }

    async fn notes_of(&self, aligned: &Aligned, notes: Vec<TwinNote>) -> Effect<()> {
        let record = &self.effects.record;
        let noted = record.insist(|| record.journal.note_twin(&aligned.twin, notes.clone())).await;
        noted.ok_or(FailureKind::Stopping)
    }

    /// Puts the other side's file on this one, where its name must be free.
    async fn put_over(&self, aligned: &Aligned, on: Side, attempt: &mut Attempt) -> Effect<StepDone> {
        let (from, to) = (aligned.at(on.other()), aligned.at(on));
        if let Some(why) = self.is_other(aligned, on.other(), &from).await? {
            return Ok(self.left(why));
        }
        let Some(had) = aligned.had(on.other()) else { return Ok(self.left(format!("{from} was no file"))) };
        let name = RelPath::from_bytes(from.path.name()).expect("a name of a path");
        let hand = Hand {
            place: Some(from.place.clone()),
            path: from.path.clone(),
            fingerprint: had.clone(),
            original: None,
            aligned: self.hand.aligned.clone(),
            ..Hand::empty(name)
        };
        let target = Target {
            place: to.place.clone(),
            folder: plain(&to.path.parent().to_string())?,
            name: plain(&to.path.name_text())?,
            exists: IfExists::Refuse,
            quiet: None,
            partner: None,
            fit: false,
            sha256: false,
        };
        let sent = AtStep { hand: &hand, ..*self }.send(&target, None, attempt).await;
        let done = match sent {
            Err(FailureKind::Place(error)) if error.kind == PlaceErrorKind::Exists && error.place == to.place => {
                return Ok(self.left(format!("something came to {to} meanwhile")));
            }
            sent => sent?,
        };
        // What was edited while it was read is told by its state, and travels once more in the next pass.
        if let Some((_, arrived)) = &done.put {
            let (mut near, mut far) = (State::of(had), State::of(arrived));
            if on == Side::Near {
                std::mem::swap(&mut near, &mut far);
            }
            self.know(aligned, Was::File(Pair { near, far })).await?;
        }
        Ok(done)
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
        let folder = to.path.parent();
        let done = self.relocate(&here, to, (folder, IfExists::KeepBoth), Then::Delivered, attempt).await?;
        if is_gone {
            self.notes_of(aligned, vec![TwinNote::Gone(aligned.line.at.near.clone())]).await?;
        }
        Ok(StepDone { hand: self.hand.clone(), ..done })
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
        self.notes_of(aligned, vec![TwinNote::Gone(from.near.clone())]).await?;
        if let (Some((_, now)), Some(other)) = (&done.put, aligned.had(on.other())) {
            let (mut near, mut far) = (State::of(other), State::of(now));
            if on == Side::Near {
                std::mem::swap(&mut near, &mut far);
            }
            self.know(aligned, Was::File(Pair { near, far })).await?;
        }
        Ok(StepDone { hand: self.hand.clone(), ..done })
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
        let done = self.relocate(&here, to, (folder, IfExists::KeepBoth), Then::Delivered, attempt).await?;
        Ok(StepDone { hand: self.hand.clone(), ..done })
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
        self.know(aligned, Was::Folder).await?;
        Ok(StepDone { attempt: Some(id), ..StepDone::with(self.hand.clone()) })
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
        self.notes_of(aligned, vec![TwinNote::Gone(aligned.line.at.near.clone())]).await?;
        Ok(StepDone { attempt: Some(id), note: Some(FOLDER_REMOVED.to_owned()), ..StepDone::with(self.hand.clone()) })
    }
}
