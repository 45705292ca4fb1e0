//! Steps that put a file under a name: copy, deliver, and move where bytes travel.

use std::time::Duration;

use wetbank_core::{FilePath, Fingerprint, IfExists, Name, RelPath, Target, TemplateError};
use wetbank_journal::{Intention, Output, Work};
use wetbank_places::{Collision, Entry, Place, PlaceError, PlaceErrorKind, Still};

use super::{
    means::Effects,
    names::{existing, free_name, is_part_of, itself, name_lost, possible, same_content, taken_name},
    outcome::{Attempt, Effect, FailureKind, Hand, Intent, StepDone},
    reading::Source,
    step::AtStep,
};
use crate::clock;

/// A file that somebody writes is looked at again after this time.
const WRITTEN: Duration = Duration::from_secs(2);
/// Names that somebody else may take just before a file gets them, one after the other.
pub(super) const QUICKER: u32 = 32;
/// A larger file is not sent in the hope that its name is free: that is looked up before.
const SENT_IN_HOPE: u64 = 1 << 20;

/// Where a file is put.
pub(super) struct Spot {
    /// The name that it gets.
    pub to: FilePath,
    /// What if it is taken.
    pub exists: IfExists,
    /// Whether people compare its SHA-256.
    pub sha256: bool,
}

/// The wait for the end of a receiver's quiet hours.
fn quiet(target: &Target) -> Option<FailureKind> {
    let quiet = target.quiet.as_ref()?;
    let until = quiet.end(clock::now())?;
    let who = target.partner.as_ref().unwrap_or(&target.place);
    Some(FailureKind::Paused { until, why: format!("{who} wants nothing from {quiet}") })
}

impl AtStep<'_> {
    /// Copies the file in hand to a target, unless its receiver wants nothing now.
    pub(super) async fn put(&self, target: &Target, attempt: &mut Attempt) -> Effect<StepDone> {
        match quiet(target) {
            Some(paused) => Err(paused),
            None => self.send(target, None, attempt).await,
        }
    }

    /// Copies the file in hand to a target, or moves it there when `then_remove` is set.
    pub(super) async fn send(
        &self,
        target: &Target,
        then_remove: Option<(FilePath, Fingerprint)>,
        attempt: &mut Attempt,
    ) -> Effect<StepDone> {
        let (_, path) = self.planned(target, self.place(&target.place)?.as_ref())?;
        let to = FilePath { place: target.place.clone(), path };
        self.put_at(Spot { to, exists: target.exists, sha256: target.sha256 }, then_remove, attempt).await
    }

    /// Copies the file in hand to where its name is known, or moves it there when `then_remove` is set.
    pub(super) async fn put_at(
        &self,
        Spot { mut to, exists, sha256 }: Spot,
        then_remove: Option<(FilePath, Fingerprint)>,
        attempt: &mut Attempt,
    ) -> Effect<StepDone> {
        let place = self.place(&to.place)?;
        let (folder, wanted) = (to.path.parent(), to.path.clone());
        let source = self.source()?;
        let is_staged = place.capabilities().stages;
        let id = self.effects.record.journal.next_attempt();
        self.start(self.began(id, Some(to.clone()), None), attempt).await?;
        let earlier = if is_staged { Vec::new() } else { self.begun_at(&to.place, id).await? };
        let refuses = exists == IfExists::Refuse && place.capabilities().refuses_atomically && is_staged;
        let in_hope = refuses && self.hand.fingerprint.size <= SENT_IN_HOPE;
        let must_look = matches!(exists, IfExists::Refuse | IfExists::SkipSame) && !in_hope;
        if must_look
            && let Some(taken) = existing(place.as_ref(), &to.path).await?
            && !(earlier.contains(&to.path) && is_part_of(&source, place.as_ref(), &taken).await?)
        {
            if exists != IfExists::SkipSame {
                return Err(taken_name(&to, &taken).into());
            }
            if self.is_in_hand(&to, &taken) {
                return Err(itself(&to));
            }
            if !same_content(&source, place.as_ref(), &to.path, &taken).await? {
                return Err(taken_name(&to, &taken).into());
            }
            let done = StepDone::nothing(self.hand, "the same file is there already");
            return Ok(StepDone { attempt: Some(id), size: Some(taken.fingerprint.size), ..done });
        }
        let mut tries = 0;
        loop {
            let begun = match exists {
                IfExists::KeepBoth => self.own_part(&source, place.as_ref(), &earlier).await?,
                _ => None,
            };
            let reserved = match exists {
                IfExists::KeepBoth if begun.is_none() => {
                    Some(free_name(&self.effects.slots.names, place.as_ref(), &wanted).await?)
                }
                _ => None,
            };
            let named = begun.or_else(|| reserved.as_ref().map(|reserved| reserved.path().clone()));
            to.path = named.unwrap_or_else(|| wanted.clone());
            let temporary = if is_staged {
                self.temporary(&folder)
            } else {
                // Under its own name it is found again only by what is on record.
                self.intends(begins_at(id, &to, self.hand.fingerprint.size), attempt).await?;
                to.path.clone()
            };
            let brought = match self.brought(place.as_ref(), &temporary).await? {
                Some(brought) => brought,
                None => self.bring(&source, &place, (&temporary, &to), sha256).await?,
            };
            let arrived = brought.fingerprint;
            let intent = Intent {
                from: FilePath { place: to.place.clone(), path: temporary.clone() },
                to: to.clone(),
                fingerprint: arrived.clone(),
                replace: exists == IfExists::Replace,
                then_remove: then_remove.clone(),
                hand: self.hand_after(&to, &arrived, then_remove.is_some()),
            };
            let intention = Intention {
                attempt: id,
                intent: serde_json::to_string(&intent).expect("plain values serialise"),
                target: to.clone(),
                size: arrived.size,
                sha256: brought.sha256,
                blake3: Some(brought.blake3),
                output: Some(output(self.work, &to, &arrived)),
            };
            self.intends(intention, attempt).await?;
            match self.commit(place.as_ref(), id, intent).await {
                // Somebody else was quicker: the file gets the next name.
                Err(FailureKind::Place(error))
                    if error.kind == PlaceErrorKind::Exists && reserved.is_some() && tries < QUICKER =>
                {
                    tries += 1;
                }
                result => return result,
            }
        }
    }

    /// Where attempts at this step before this one began to write: what they intended is on record, its end is not.
    async fn begun_at(&self, place: &Name, id: i64) -> Effect<Vec<RelPath>> {
        let attempts = self.effects.record.journal.attempts(self.work.item).await?;
        let begun = attempts.into_iter().filter(|attempt| {
            let is_over = matches!(attempt.outcome.as_str(), "done" | "skipped");
            attempt.id != id && attempt.position == self.position && attempt.size.is_some() && !is_over
        });
        Ok(begun
            .filter_map(|attempt| attempt.target.filter(|file| file.place == *place))
            .map(|file| file.path)
            .collect())
    }

    /// The last file that an earlier attempt at this step began and that is still a part of what is in hand.
    async fn own_part(&self, source: &Source, place: &dyn Place, earlier: &[RelPath]) -> Effect<Option<RelPath>> {
        for path in earlier.iter().rev() {
            if let Some(there) = existing(place, path).await?
                && is_part_of(source, place, &there).await?
            {
                return Ok(Some(path.clone()));
            }
        }
        Ok(None)
    }

    /// What is in hand once the file is at its target, if it is moved there.
    pub(super) fn hand_after(&self, to: &FilePath, arrived: &Fingerprint, moved: bool) -> Hand {
        if !moved {
            return self.hand.clone();
        }
        Hand {
            place: Some(to.place.clone()),
            path: to.path.clone(),
            name: RelPath::from_bytes(to.path.name()).expect("a name of a path"),
            fingerprint: arrived.clone(),
            original: None,
            fault: self.hand.fault.clone(),
            count: self.hand.count,
            asked: self.hand.asked.clone(),
            told: self.hand.told.clone(),
            aligned: self.hand.aligned.clone(),
        }
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
            possible(target, place, &path)?;
            return Ok((folder, path));
        }
        let fitted = place.capabilities().names.fit(path.name());
        let path = folder.join_name(&fitted).map_err(|error| FailureKind::Lasting {
            code: "bad-name".to_owned(),
            why: format!("no name like \"{}\" is possible in {} ({error})", path.name_text(), target.place),
            remedy: "Give the file another name with a template (as = …), then release.".to_owned(),
        })?;
        possible(target, place, &path)?;
        Ok((folder, path))
    }

    /// Puts an empty file beside the original that says that it was seen to.
    pub async fn mark(&self, file: &FilePath, name: &RelPath, attempt: &mut Attempt) -> Effect<StepDone> {
        let place = self.place(&file.place)?;
        let to = FilePath { place: file.place.clone(), path: name.clone() };
        let temporary = if place.capabilities().stages { self.temporary(&name.parent()) } else { name.clone() };
        let id = self.effects.record.journal.next_attempt();
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
            blake3: Some(digests.blake3),
            output: Some(output(self.work, &to, &fingerprint)),
        };
        self.intends(intention, attempt).await?;
        self.commit(place.as_ref(), id, intent).await
    }

    /// Carries out an intent that is in the journal.
    async fn commit(&self, place: &dyn Place, attempt: i64, intent: Intent) -> Effect<StepDone> {
        if intent.from == intent.to {
            return self.seen_whole(place, attempt, intent).await;
        }
        let collision = if intent.replace { Collision::Replace } else { Collision::Refuse };
        match place.rename(&intent.from.path, &intent.to.path, collision).await {
            Ok(None) => {}
            Ok(now) => {
                let intent = renewed(self.effects, self.work, intent, now).await?;
                return finish_intent(self.effects, attempt, intent, self.work).await;
            }
            Err(error) => {
                if error.kind == PlaceErrorKind::Exists {
                    // It did not happen. That is on record before what lies aside goes: else a stop in between
                    // would leave neither to be found.
                    let nothing = begins_at(attempt, &intent.to, intent.fingerprint.size);
                    let effects = self.effects;
                    let cleared = effects.record.insist(|| effects.record.journal.intend(nothing.clone())).await;
                    cleared.ok_or(FailureKind::Stopping)?;
                }
                return Err(name_lost(place, &intent, error).await);
            }
        }
        // A server may lie; on this machine the rename itself is the proof. The size of a small
        // file was just looked up, under its temporary name; another look would cost as much as
        // sending it.
        if place.as_folder().is_some() || intent.fingerprint.size <= SENT_IN_HOPE {
            return finish_intent(self.effects, attempt, intent, self.work).await;
        }
        self.seen_whole(place, attempt, intent).await
    }

    /// The end of a commit, once the file is seen at its target with all its bytes.
    async fn seen_whole(&self, place: &dyn Place, attempt: i64, intent: Intent) -> Effect<StepDone> {
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
        finish_intent(self.effects, attempt, intent, self.work).await
    }
}

/// What is on record of an attempt that has nothing to be brought to its end: where it writes.
fn begins_at(attempt: i64, target: &FilePath, size: u64) -> Intention {
    let (intent, target) = (String::new(), target.clone());
    Intention { attempt, intent, target, size, sha256: None, blake3: None, output: None }
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
    effects: &Effects,
    work: &Work,
    mut intent: Intent,
    now: Option<Fingerprint>,
) -> Effect<Intent> {
    let Some(now) = now else { return Ok(intent) };
    let output = output(work, &intent.to, &now);
    effects.record.insist(|| effects.record.journal.note_output(output.clone())).await.ok_or(FailureKind::Stopping)?;
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
pub(crate) async fn finish_intent(effects: &Effects, attempt: i64, intent: Intent, work: &Work) -> Effect<StepDone> {
    let mut note = None;
    if let Some((file, fingerprint)) = &intent.then_remove {
        let place = effects.moorings.get(&file.place)?;
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
    let gone = || Ok(Some(format!("{file} was gone already")));
    let replaced = || Ok(Some(format!("{file} was replaced in the meantime and stays")));
    if let Some(folder) = place.as_folder() {
        return match folder.remove_if_still(&file.path, fingerprint).await {
            Ok(Still::Same) => Ok(None),
            Ok(Still::Changed) => replaced(),
            Ok(Still::Gone) => gone(),
            Ok(Still::Written) => Err(written(file)),
            Err(e) if e.kind == PlaceErrorKind::NotFound => gone(),
            Err(e) => Err(e.into()),
        };
    }
    match place.stat(&file.path).await {
        Ok(entry) if entry.fingerprint == *fingerprint => {}
        Ok(_) => return replaced(),
        Err(e) if e.kind == PlaceErrorKind::NotFound => return gone(),
        Err(e) => return Err(e.into()),
    }
    match place.delete(&file.path).await {
        Err(e) if e.kind != PlaceErrorKind::NotFound => Err(e.into()),
        _ => Ok(None),
    }
}

/// Somebody has the file open for writing: until it is closed nobody knows what it will be.
pub(crate) fn written(file: &FilePath) -> FailureKind {
    FailureKind::Paused {
        until: clock::after(clock::now(), WRITTEN),
        why: format!("somebody has {file} open for writing; it goes on when it is closed"),
    }
}
