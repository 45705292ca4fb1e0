//! Taking the files of an archive out.

use secrecy::ExposeSecret;
use wetbank_archive::{ArchiveError, Limits, Taking};
use wetbank_core::{FilePath, Position, RelPath, step};
use wetbank_journal::NewPart;
use wetbank_places::Place;

use super::{AtStep, Attempt, Does, Effect, FailureKind, Hand, StepDone};
use crate::effects::{
    making::{create_private, mode},
    reading::Reading,
    sources::files,
};

impl Does for step::Unpack {
    async fn done_at(&self, at: &AtStep<'_>, attempt: &mut Attempt) -> Effect<StepDone> {
        let passphrase = at.secret(self.passphrase.as_ref()).await?;
        let limits = Limits { files: self.files, ..Limits::of(self.most.bytes.0, self.most.is_said) };
        let source = at.source()?;
        let id = at.effects.record.journal.next_attempt();
        at.start(at.began(id, None, None), attempt).await?;
        let _slot = at.effects.slots.crypt.acquire().await.expect("the semaphore is never closed");
        let before = source.place.stat(&source.path).await?;
        let done = at.moving(before.fingerprint.size);
        let path = at.work_path();
        let whole = at.in_work(".part").map_err(ArchiveError::from)?;
        let folder = at.in_work(".d").map_err(ArchiveError::from)?;
        let mode = mode(source.is_private().await?);
        let mut reading = Reading::open(&source, done).await?.until(at.stop);
        let (broken, stop) = (reading.broken(), at.stop.clone());
        let taken = tokio::task::spawn_blocking(move || {
            // An archive's directory stands at its end, so all of it must be here.
            let mut file = create_private(&whole)?;
            std::io::copy(&mut reading, &mut file)?;
            drop(file);
            let _ = std::fs::remove_dir_all(&folder);
            std::fs::create_dir(&folder)?;
            let passphrase = passphrase.as_ref().map(|secret| secret.expose_secret());
            let taking = Taking { passphrase, limits, mode, stop: &|| stop.is_cancelled() };
            let taken = wetbank_archive::unpack(std::fs::File::open(&whole)?, &folder, taking);
            if taken.is_err() {
                let _ = std::fs::remove_dir_all(&folder);
            }
            std::fs::remove_file(&whole)?;
            taken
        })
        .await
        .map_err(FailureKind::fault)?;
        if taken.is_err() && at.stop.is_cancelled() {
            return Err(FailureKind::Stopping);
        }
        broken.check()?;
        let taken = taken?;
        if taken.is_empty() {
            return Err(ArchiveError::Damaged("there is no file in it".to_owned()).into());
        }
        let mut parts = Vec::with_capacity(taken.len());
        for (number, one) in taken.iter().enumerate() {
            let path = RelPath::parse(&format!("{path}.d/{number}")).expect("a plain path");
            let entry = at.effects.work.folder.stat(&path).await?;
            let name = RelPath::from_bytes(one.name.name()).expect("a name of a path");
            let fingerprint = entry.fingerprint;
            let (shown, size) = (fingerprint.to_string(), fingerprint.size);
            let hand = Hand { place: None, path, fingerprint, ..Hand::empty(name) };
            parts.push(NewPart {
                file: FilePath { place: at.work.file.place.clone(), path: at.work.file.path.join(&one.name) },
                fingerprint: shown,
                size,
                position: Position::Branching,
                hand: serde_json::to_string(&hand).expect("plain values serialise"),
            });
        }
        let note = files(parts.len());
        Ok(StepDone { attempt: Some(id), skipped: false, parts, ..StepDone::nothing(at.hand, &note) })
    }
}
