//! Sealing with OpenPGP.

use wetbank_core::step;
use wetbank_crypt::Sealing;

use super::{AtStep, Attempt, Does, Effect, StepDone};
use crate::{EngineError, clock, effects::results::Coming};

impl Does for step::Encrypt {
    async fn done_at(&self, at: &AtStep<'_>, attempt: &mut Attempt) -> Effect<StepDone> {
        if self.to.is_empty() && self.passphrase.is_none() {
            return Ok(StepDone::nothing(at.hand, "the partner wants it as it is"));
        }
        let keys = at.effects.keys.all().await?;
        let find = |name: &String| {
            keys.iter().position(|key| key.name == *name).ok_or_else(|| EngineError::unknown("key", name))
        };
        let recipients = self.to.iter().map(find).collect::<Result<Vec<_>, _>>()?;
        let signer = self.sign.as_ref().map(find).transpose()?;
        let passphrase = at.secret(self.passphrase.as_ref()).await?;
        let (armour, file_name) = (self.armour, at.hand.name.name_text());
        at.through_work(&self.name, Coming::public(), attempt, move |input, output| {
            let sealing = Sealing {
                recipients: recipients.iter().map(|&key| keys[key].as_ref()).collect(),
                passphrase: passphrase.as_ref(),
                signer: signer.map(|key| keys[key].as_ref()),
                armour,
                file_name,
            };
            wetbank_crypt::encrypt(input, output, &sealing, clock::now()).map(|()| None)
        })
        .await
    }
}
