//! Signatures that lie beside a file.

use wetbank_core::{FilePath, Position, step};
use wetbank_crypt::CryptError;
use wetbank_journal::NewPart;

use super::{AtStep, Attempt, Does, Effect, Hand, StepDone};
use crate::{EngineError, clock, effects::results::Coming};

impl Does for step::Sign {
    async fn done_at(&self, at: &AtStep<'_>, attempt: &mut Attempt) -> Effect<StepDone> {
        let keys = at.effects.keys.all().await?;
        let by = self.by.as_str();
        let own = keys.iter().position(|key| key.name == by).ok_or_else(|| EngineError::unknown("key", by))?;
        let armour = self.armour;
        let signed = at
            .through_work(&self.name, Coming::public(), attempt, move |input, output| {
                let signature = wetbank_crypt::sign_detached(input, &keys[own], armour, clock::now())?;
                output.write_all(&signature)?;
                Ok::<_, CryptError>(None)
            })
            .await?;
        let part = |hand: &Hand| {
            let path = at.work.file.path.parent().join(&hand.name);
            // What becomes of the original is seen to when both are at their end.
            let hand = Hand { original: None, ..hand.clone() };
            NewPart {
                file: FilePath { place: at.work.file.place.clone(), path },
                fingerprint: hand.fingerprint.to_string(),
                size: hand.fingerprint.size,
                position: Position::Branching,
                hand: serde_json::to_string(&hand).expect("plain values serialise"),
            }
        };
        let parts = vec![part(at.hand), part(&signed.hand)];
        let note = format!("signed by {by}; the file and its signature go on");
        Ok(StepDone { hand: at.hand.clone(), note: Some(note), parts, ..signed })
    }
}
