//! What steps make of the file in hand, in the work folder.

use std::{
    io::{self, Write},
    path::PathBuf,
};

use wetbank_archive::{Limits, Meter};
use wetbank_core::{FilePath, Most, RelPath, Template};
use wetbank_crypt::Digests;
use wetbank_journal::Intention;
use wetbank_places::Place;

use super::{
    making::Making,
    outcome::{Attempt, Effect, FailureKind, Hand, StepDone, at},
    reading::Reading,
    step::AtStep,
    watched::Watched,
};

/// What comes of a file.
#[derive(Clone, Copy)]
pub(super) struct Coming {
    /// How much it may be, if it may be more than went in.
    most: Option<Most>,
    secrecy: Secrecy,
}

/// Who on this machine may read what is made.
#[derive(Clone, Copy)]
enum Secrecy {
    AsItWas,
    /// We alone: it was closed to others until now.
    Private,
    /// Everybody: it tells nothing.
    Public,
}

impl Coming {
    /// As large and as private as the file itself.
    pub fn alike() -> Self {
        Self { most: None, secrecy: Secrecy::AsItWas }
    }

    /// What tells nothing of the file to whoever has it: sealed, or a signature.
    pub fn public() -> Self {
        Self { most: None, secrecy: Secrecy::Public }
    }

    /// What was sealed: as large as is allowed, and for us alone.
    pub fn opened(most: Most) -> Self {
        Self { most: Some(most), secrecy: Secrecy::Private }
    }
}

/// A file that was made: what is said of it, its checksums, its size in bytes.
pub(super) struct Made {
    note: Option<String>,
    digests: Digests,
    size: u64,
}

impl AtStep<'_> {
    /// Where in the work folder this step's result lies: below its item's own folder, so that all of it goes at once.
    pub(super) fn work_path(&self) -> RelPath {
        let name = format!("{}/{}-{}", self.work.item, self.branch, at(self.position));
        RelPath::parse(&name).expect("a plain name")
    }

    /// What lies beside it, with this ending; the folder for it is there.
    pub(super) fn in_work(&self, ending: &str) -> io::Result<PathBuf> {
        let path = self.effects.work.folder.root().join(format!("{}{ending}", self.work_path()));
        std::fs::create_dir_all(path.parent().expect("the item's folder"))?;
        Ok(path)
    }

    /// The name that a result gets.
    pub(super) fn result_name(&self, name: &Template) -> Effect<RelPath> {
        Ok(self.with_facts(|facts| name.render_name(&RelPath::root(), facts))?)
    }

    /// Makes a file in the work folder, where what is not whole is worth nothing.
    pub(super) async fn make(
        &self,
        is_private: bool,
        make: impl FnOnce(&mut Making) -> Effect<Option<String>> + Send + 'static,
    ) -> Effect<Made> {
        let (part, last) = (self.in_work(".part")?, self.in_work("")?);
        let made = tokio::task::spawn_blocking(move || {
            let mut making = Making::begin(part, last, is_private)?;
            let note = make(&mut making)?;
            let (digests, size) = making.finish()?;
            Ok::<_, FailureKind>(Made { note, digests, size })
        });
        let made = made.await.map_err(FailureKind::fault)?;
        if made.is_err() && self.stop.is_cancelled() {
            return Err(FailureKind::Stopping);
        }
        made
    }

    /// The step made this in the work folder: it is in hand from now on.
    pub(super) async fn made(
        &self,
        (id, attempt): (i64, &mut Attempt),
        name: RelPath,
        Made { note, digests, size }: Made,
    ) -> Effect<StepDone> {
        let path = self.work_path();
        let fingerprint = self.effects.work.folder.stat(&path).await?.fingerprint;
        let hand = Hand { place: None, path, name: name.clone(), fingerprint, ..self.hand.clone() };
        let also_named = Some(name.to_string());
        let target = FilePath { place: self.effects.work.folder.name().clone(), path: name };
        let (sha256, blake3) = (digests.sha256, Some(digests.blake3));
        let intention = Intention { attempt: id, intent: String::new(), target, size, sha256, blake3, output: None };
        self.intends(intention, attempt).await?;
        Ok(StepDone { attempt: Some(id), note, size: Some(size), also_named, ..StepDone::with(hand) })
    }

    /// Turns the file in hand into another one in the work folder.
    pub(super) async fn through_work<E>(
        &self,
        name: &Template,
        coming: Coming,
        attempt: &mut Attempt,
        work: impl FnOnce(Reading, &mut dyn Write) -> Result<Option<String>, E> + Send + 'static,
    ) -> Effect<StepDone>
    where
        E: Into<FailureKind> + Send + 'static,
    {
        let name = self.result_name(name)?;
        let source = self.source()?;
        let id = self.effects.record.journal.next_attempt();
        self.start(self.began(id, None, None), attempt).await?;
        let _slot = self.effects.slots.crypt.acquire().await.expect("the semaphore is never closed");
        let before = source.place.stat(&source.path).await?;
        let done = self.moving(before.fingerprint.size);
        let is_private = match coming.secrecy {
            Secrecy::AsItWas => source.is_private().await?,
            Secrecy::Private => true,
            Secrecy::Public => false,
        };
        let reading = Reading::open(&source, done).await?.until(self.stop);
        let broken = reading.broken();
        let (stop, size) = (self.stop.clone(), before.fingerprint.size);
        let made = self
            .make(is_private, move |making| {
                let meter = coming.most.map(|most| Meter::new(Limits::of(most.bytes.0, most.is_said), size));
                let mut watched = Watched::new(making, stop, meter);
                let worked = work(reading, &mut watched);
                match watched.over {
                    Some(over) => Err(over.into()),
                    None => worked.map_err(Into::into),
                }
            })
            .await;
        // Why the source broke off says more than that it ended too soon.
        if !matches!(made, Err(FailureKind::Stopping)) {
            broken.check()?;
        }
        let made = made?;
        let after = source.place.stat(&source.path).await?;
        if after.fingerprint != before.fingerprint {
            return Err(FailureKind::Passing {
                code: "busy".to_owned(),
                why: format!("\"{}\" changed while it was read", source.path),
                remedy: "It is read again when its writer is done.".to_owned(),
            });
        }
        self.made((id, attempt), name, made).await
    }
}
