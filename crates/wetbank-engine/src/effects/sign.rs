//! Signatures that lie beside a file.

use futures_util::StreamExt;
use tokio::runtime::Handle;
use wetbank_core::{FilePath, Position, Template};
use wetbank_crypt::{CryptError, PgpKey};
use wetbank_journal::NewPart;
use wetbank_places::{PlaceError, PlaceErrorKind};

use super::{
    convert::Coming,
    outcome::{Attempt, Effect, FailureKind, Hand, StepDone},
    reading::{Broken, Reading},
    step::AtStep,
};
use crate::{EngineError, clock};

/// A longer file is no signature.
const LONGEST: usize = 1 << 20;

impl AtStep<'_> {
    /// Signs the file in hand; it and its signature both go on.
    pub(super) async fn sign(
        &self,
        by: &str,
        armour: bool,
        name: &Template,
        attempt: &mut Attempt,
    ) -> Effect<StepDone> {
        let keys = self.effects.keys.all().await?;
        let at = keys.iter().position(|key| key.name == by).ok_or_else(|| EngineError::unknown("key", by))?;
        let signed = self
            .through_work(name, Coming::public(), attempt, move |input, output| {
                let signature = wetbank_crypt::sign_detached(input, &keys[at], armour, clock::now())?;
                output.write_all(&signature)?;
                Ok::<_, CryptError>(None)
            })
            .await?;
        let part = |hand: &Hand| {
            let path = self.work.file.path.parent().join(&hand.name);
            // What becomes of the original is seen to when both are at their end.
            let hand = Hand { original: None, ..hand.clone() };
            NewPart {
                file: FilePath { place: self.work.file.place.clone(), path },
                fingerprint: hand.fingerprint.to_string(),
                size: hand.fingerprint.size,
                position: Position::Branching,
                hand: serde_json::to_string(&hand).expect("plain values serialise"),
            }
        };
        let parts = vec![part(self.hand), part(&signed.hand)];
        let note = format!("signed by {by}; the file and its signature go on");
        Ok(StepDone { hand: self.hand.clone(), note: Some(note), parts, ..signed })
    }

    /// Checks the file in hand against the signature that lies beside the original.
    pub(super) async fn verify(&self, by: &[String], name: &Template, attempt: &mut Attempt) -> Effect<StepDone> {
        let keys = self.effects.keys.all().await?;
        if let Some(missing) = by.iter().find(|wanted| !keys.iter().any(|key| key.name == **wanted)) {
            return Err(EngineError::unknown("key", missing).into());
        }
        let path = self.with_facts(|facts| name.render_name(&self.work.file.path.parent(), facts))?;
        let place = self.place(&self.work.file.place)?;
        let source = self.source()?;
        let id = self.effects.record.journal.next_attempt();
        let shown = FilePath { place: place.name().clone(), path: path.clone() };
        self.start(self.began(id, Some(shown.clone()), None), attempt).await?;
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
        let (handle, wanted) = (Handle::current(), by.to_vec());
        let done = self.moving(self.hand.fingerprint.size);
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
        Ok(StepDone { attempt: Some(id), skipped: false, ..StepDone::nothing(self.hand, &note) })
    }
}
