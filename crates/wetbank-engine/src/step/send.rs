//! Steps that put a file under a name: copy, deliver, and move where bytes travel.

use std::sync::Arc;

use wetbank_core::{FilePath, Fingerprint, IfExists, RelPath, Target, TemplateError};
use wetbank_journal::{Intention, Output, Work};
use wetbank_places::{Collision, Entry, Place, PlaceError, PlaceErrorKind};

use super::{
    AtStep, Effect, FailureKind, Hand, Intent, StepDone,
    names::{existing, free_name, itself, name_lost, same_content, taken_name},
};
use crate::{engine::Core, transfer::transfer};

/// A larger file is not sent in the hope that its name is free: that is looked up before.
const SENT_IN_HOPE: u64 = 1 << 20;

impl AtStep<'_> {
    /// Copies the file in hand to a target, or moves it there when `then_remove` is set.
    pub(super) async fn send(
        &self,
        target: &Target,
        then_remove: Option<(FilePath, Fingerprint)>,
        attempt: &mut Option<i64>,
    ) -> Effect<StepDone> {
        let place = self.place(&target.place)?;
        let (folder, wanted) = self.planned(target, place.as_ref())?;
        let source = self.source()?;
        let temporary = self.temporary(&folder);
        let mut to = FilePath { place: target.place.clone(), path: wanted };
        let id = self.core.journal.next_attempt();
        self.start(self.began(id, Some(to.clone()), None), attempt).await?;
        let refuses = target.exists == IfExists::Refuse && place.capabilities().refuses_atomically;
        let in_hope = refuses && self.hand.fingerprint.size <= SENT_IN_HOPE;
        let must_look = target.exists != IfExists::Replace && !in_hope;
        if must_look && let Some(taken) = existing(place.as_ref(), &to.path).await? {
            match target.exists {
                IfExists::Refuse => return Err(taken_name(&to, &taken).into()),
                IfExists::Replace => {}
                IfExists::KeepBoth => to.path = free_name(place.as_ref(), &to.path).await?,
                IfExists::SkipSame => {
                    if self.is_in_hand(&to, &taken) {
                        return Err(itself(&to));
                    }
                    if !same_content(&source, place.as_ref(), &to.path, &taken).await? {
                        return Err(taken_name(&to, &taken).into());
                    }
                    let done = StepDone::nothing(self.hand, "the same file is there already");
                    return Ok(StepDone { attempt: Some(id), size: Some(taken.fingerprint.size), ..done });
                }
            }
        }
        let _slot = self.core.large_slot(&to.place, self.hand.fingerprint.size).await;
        let done = self.moving(self.hand.fingerprint.size);
        let bring = || transfer(&source, &place, &temporary, &to.path, target.sha256, done.clone(), self.stop);
        let staging = match bring().await {
            // Folders below the root are made when they are needed; the root itself never is.
            Err(e) if e.kind == PlaceErrorKind::NotFound && e.place == to.place && !folder.is_root() => {
                place.make_folder(&folder).await?;
                bring().await
            }
            result => result,
        };
        let staging = match staging {
            Ok(staging) => staging,
            Err(_) if self.stop.is_cancelled() => return Err(FailureKind::Stopping),
            Err(e) => return Err(e.into()),
        };
        if self.core.health.well(&to.place) {
            self.core.place_well(&to.place);
        }
        let arrived = staging.entry.fingerprint.clone();
        let moved = then_remove.is_some();
        let hand = if moved {
            Hand {
                place: Some(to.place.clone()),
                path: to.path.clone(),
                name: RelPath::from_bytes(to.path.name()).expect("a name of a path"),
                fingerprint: arrived.clone(),
                original: None,
                fault: self.hand.fault.clone(),
                count: self.hand.count,
            }
        } else {
            self.hand.clone()
        };
        let intent = Intent {
            from: FilePath { place: to.place.clone(), path: temporary },
            to: to.clone(),
            fingerprint: arrived.clone(),
            replace: target.exists == IfExists::Replace,
            then_remove,
            hand,
        };
        self.core
            .journal
            .intend(Intention {
                attempt: id,
                intent: serde_json::to_string(&intent).expect("plain values serialise"),
                target: to.clone(),
                size: arrived.size,
                sha256: staging.digests.sha256,
                blake3: staging.digests.blake3,
                output: Some(output(self.work, &to, &arrived)),
            })
            .await?;
        self.commit(place.as_ref(), id, intent).await
    }

    /// Whether what lies at a target is the very file in hand or the one that came, perhaps reached in another
    /// way. It would count as arrived, and what becomes of the original would take away the only one.
    fn is_in_hand(&self, to: &FilePath, there: &Entry) -> bool {
        let original = self.hand.original.as_ref();
        let is_there = |fingerprint: &Fingerprint| {
            let (one, other) = (fingerprint, &there.fingerprint);
            one.inode.is_some() && (one.inode, one.size, one.modified) == (other.inode, other.size, other.modified)
        };
        original.is_some_and(|(file, fingerprint)| file == to || is_there(fingerprint))
            || self.hand.place.as_ref() == Some(&to.place) && self.hand.path == to.path
            || self.hand.place.is_some() && is_there(&self.hand.fingerprint)
    }

    /// The folder and the path that a target gives the file in hand.
    pub(super) fn planned(&self, target: &Target, place: &dyn Place) -> Effect<(RelPath, RelPath)> {
        let (folder, path) = self.with_facts(|facts| {
            let folder = target.folder.render_folder(facts)?;
            let path = target.name.render_name(&folder, facts)?;
            Ok::<_, TemplateError>((folder, path))
        })?;
        if !target.fit {
            return Ok((folder, path));
        }
        let fitted = place.capabilities().names.fit(path.name());
        let path = folder.join_name(&fitted).map_err(|error| FailureKind::Lasting {
            code: "bad-name".to_owned(),
            why: format!("no name like \"{}\" is possible in {} ({error})", path.name_text(), target.place),
            remedy: "Give the file another name with a template (as = …), then release.".to_owned(),
        })?;
        Ok((folder, path))
    }

    /// Puts an empty file beside the original that says that it was seen to.
    pub async fn mark(&self, file: &FilePath, name: &RelPath, attempt: &mut Option<i64>) -> Effect<StepDone> {
        let place = self.place(&file.place)?;
        let to = FilePath { place: file.place.clone(), path: name.clone() };
        let temporary = self.temporary(&name.parent());
        let id = self.core.journal.next_attempt();
        self.start(self.began(id, Some(to.clone()), None), attempt).await?;
        let entry = place.stage(&temporary, name, None).await?.finish().await?;
        let fingerprint = entry.fingerprint;
        let intent = Intent {
            from: FilePath { place: to.place.clone(), path: temporary },
            to: to.clone(),
            fingerprint: fingerprint.clone(),
            replace: true,
            then_remove: None,
            hand: self.hand.clone(),
        };
        let digests = wetbank_crypt::Hashing::for_ourselves().finish();
        let intention = Intention {
            attempt: id,
            intent: serde_json::to_string(&intent).expect("plain values serialise"),
            target: to.clone(),
            size: 0,
            sha256: None,
            blake3: digests.blake3,
            output: Some(output(self.work, &to, &fingerprint)),
        };
        self.core.journal.intend(intention).await?;
        self.commit(place.as_ref(), id, intent).await
    }

    /// Carries out an intent that is in the journal.
    async fn commit(&self, place: &dyn Place, attempt: i64, intent: Intent) -> Effect<StepDone> {
        let collision = if intent.replace { Collision::Replace } else { Collision::Refuse };
        match place.rename(&intent.from.path, &intent.to.path, collision).await {
            Ok(None) => {}
            Ok(now) => {
                let intent = renewed(self.core, self.work, intent, now).await?;
                return finish_intent(self.core, attempt, intent, self.work).await;
            }
            Err(error) => return Err(name_lost(place, &intent, error).await),
        }
        // A server may lie; on this machine the rename itself is the proof. The size of a small
        // file was just looked up, under its temporary name; another look would cost as much as
        // sending it.
        if place.as_folder().is_some() || intent.fingerprint.size <= SENT_IN_HOPE {
            return finish_intent(self.core, attempt, intent, self.work).await;
        }
        let there = place.stat(&intent.to.path).await?;
        if there.fingerprint.size != intent.fingerprint.size {
            return Err(FailureKind::Passing {
                code: "verify".to_owned(),
                why: format!(
                    "{} has {} bytes after the transfer, {} were sent",
                    intent.to, there.fingerprint.size, intent.fingerprint.size
                ),
                remedy: "It is sent again.".to_owned(),
            });
        }
        finish_intent(self.core, attempt, intent, self.work).await
    }
}

pub(super) fn output(work: &Work, file: &FilePath, fingerprint: &Fingerprint) -> Output {
    Output {
        file: file.clone(),
        fingerprint: fingerprint.to_string(),
        rule: work.rule.clone(),
        item: work.item,
        depth: work.depth,
    }
}

/// Gives a file another path without moving a byte: within a place, or between two folders of
/// one file system. Answers its new state where it does not keep the old one.
pub(crate) async fn give_name(
    source: &dyn Place,
    from: &RelPath,
    target: &dyn Place,
    to: &RelPath,
    collision: Collision,
) -> Result<Option<Fingerprint>, PlaceError> {
    match (source.as_folder(), target.as_folder()) {
        (Some(source), Some(target)) => target.move_in(source, from, to, collision).await.map(|()| None),
        _ => target.rename(from, to, collision).await,
    }
}

/// What was intended, with the state that a place gave the file when it got its name, if it gave
/// it a new one. That state is recorded as ours, so that no rule takes the file for a new one.
pub(crate) async fn renewed(
    core: &Arc<Core>,
    work: &Work,
    mut intent: Intent,
    now: Option<Fingerprint>,
) -> Effect<Intent> {
    let Some(now) = now else { return Ok(intent) };
    core.journal.note_output(output(work, &intent.to, &now)).await?;
    if intent.hand.place.as_ref() == Some(&intent.to.place) && intent.hand.path == intent.to.path {
        intent.hand.fingerprint = now.clone();
    }
    if let Some((file, state)) = &mut intent.hand.original
        && *file == intent.to
    {
        *state = now.clone();
    }
    intent.fingerprint = now;
    Ok(intent)
}

/// What follows a commit: the source of a move is removed, if it is still what was sent.
pub(crate) async fn finish_intent(core: &Arc<Core>, attempt: i64, intent: Intent, work: &Work) -> Effect<StepDone> {
    let mut note = None;
    if let Some((file, fingerprint)) = &intent.then_remove {
        let place = core.arrangement().place(&file.place)?;
        note = remove(place.as_ref(), file, fingerprint).await?;
    }
    let gone = intent.hand.original.as_ref().is_none_or(|(file, _)| *file != work.file);
    Ok(StepDone {
        attempt: Some(attempt),
        also_named: (intent.to.path.name() != work.file.path.name()).then(|| intent.to.path.to_string()),
        note,
        size: Some(intent.fingerprint.size),
        freed: gone,
        put: Some((intent.to, intent.fingerprint)),
        ..StepDone::with(intent.hand)
    })
}

/// Removes a file that is still in the state that was worked on. A file that was replaced in
/// the meantime is a new one and stays. Answers what is to be said if nothing was removed.
pub(super) async fn remove(place: &dyn Place, file: &FilePath, fingerprint: &Fingerprint) -> Effect<Option<String>> {
    match place.stat(&file.path).await {
        Ok(entry) if entry.fingerprint == *fingerprint => {}
        Ok(_) => return Ok(Some(format!("{file} was replaced in the meantime and stays"))),
        Err(e) if e.kind == PlaceErrorKind::NotFound => return Ok(Some(format!("{file} was gone already"))),
        Err(e) => return Err(e.into()),
    }
    match place.delete(&file.path).await {
        Err(e) if e.kind != PlaceErrorKind::NotFound => Err(e.into()),
        _ => Ok(None),
    }
}
