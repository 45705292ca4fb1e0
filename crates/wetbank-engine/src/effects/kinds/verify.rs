//! Checking a signature that lies beside a file.

use futures_util::StreamExt;
use tokio::runtime::Handle;
use wetbank_core::{FilePath, step};
use wetbank_crypt::{CryptError, PgpKey};
use wetbank_places::{PlaceError, PlaceErrorKind};

use super::{AtStep, Attempt, Does, Effect, FailureKind, StepDone};
use crate::{
    EngineError, clock,
    effects::reading::{Broken, Reading},
};

/// A longer file is no signature.
const LONGEST: usize = 1 << 20;

impl Does for step::Verify {
    async fn done_at(&self, at: &AtStep<'_>, attempt: &mut Attempt) -> Effect<StepDone> {
        let keys = at.effects.keys.all().await?;
        if let Some(missing) = self.by.iter().find(|wanted| !keys.iter().any(|key| key.name == **wanted)) {
            return Err(EngineError::unknown("key", missing).into());
        }
        let path = at.with_facts(|facts| self.name.render_name(&at.work.file.path.parent(), facts))?;
        let place = at.place(&at.work.file.place)?;
        let source = at.source()?;
        let id = at.effects.record.journal.next_attempt();
        let shown = FilePath { place: place.name().clone(), path: path.clone() };
        at.start(at.began(id, Some(shown.clone()), None), attempt).await?;
        let mut signature = Vec::new();
        let missing = |error: PlaceError| match error.kind {
            // It may be on its way, behind the file.
            PlaceErrorKind::NotFound => FailureKind::Passing {
                code: "no-signature".to_owned(),
                why: format!("its signature {shown} is not there"),
                remedy: "Ask the sender for the signature, or correct its name in the rule; then release.".to_owned(),
            },
            _ => error.into(),
        };
        let mut chunks = place.read(&path, 0).await.map_err(missing)?;
        while let Some(chunk) = chunks.next().await.transpose()? {
            signature.extend_from_slice(&chunk);
            if signature.len() > LONGEST {
                return Err(CryptError::Signature(format!("{shown} is too long for a signature")).into());
            }
        }
        let (handle, wanted) = (Handle::current(), self.by.clone());
        let done = at.moving(at.hand.fingerprint.size);
        let verified = tokio::task::spawn_blocking(move || {
            let (mut failure, mut opened) = (None, Vec::new());
            let wanted: Vec<_> =
                keys.iter().map(AsRef::as_ref).filter(|key: &&PgpKey| wanted.contains(&key.name)).collect();
            let open = || match handle.block_on(Reading::open(&source, done.clone())) {
                Ok(reading) => {
                    opened.push(reading.broken());
                    Ok(reading)
                }
                Err(error) => {
                    failure = Some(error);
                    Err(std::io::Error::from(std::io::ErrorKind::Interrupted))
                }
            };
            let verified = wetbank_crypt::verify_detached(open, &signature, &wanted, clock::now());
            opened.iter().try_for_each(Broken::check)?;
            match (failure, verified) {
                (Some(error), _) => Err(FailureKind::from(error)),
                (None, verified) => verified.map_err(FailureKind::from),
            }
        });
        let by = verified.await.map_err(FailureKind::fault)??;
        let note = format!("its signature {shown} is by {}", by.join(", "));
        Ok(StepDone { attempt: Some(id), skipped: false, ..StepDone::nothing(at.hand, &note) })
    }
}
