//! Opening what is sealed with OpenPGP.

use wetbank_core::step;
use wetbank_crypt::{CryptError, Opening, PgpKey};

use super::{AtStep, Attempt, Does, Effect, StepDone};
use crate::{EngineError, clock, effects::results::Coming};

impl Does for step::Decrypt {
    async fn done_at(&self, at: &AtStep<'_>, attempt: &mut Attempt) -> Effect<StepDone> {
        let keys = at.effects.keys.all().await?;
        for wanted in &self.signed_by {
            if !keys.iter().any(|key| key.name == *wanted) {
                return Err(EngineError::unknown("key", wanted).into());
            }
        }
        let passphrase = at.secret(self.passphrase.as_ref()).await?;
        let signed_by = self.signed_by.clone();
        at.through_work(&self.name, Coming::opened(self.most), attempt, move |input, output| {
            let opening = Opening {
                keys: keys.iter().map(AsRef::as_ref).collect::<Vec<&PgpKey>>(),
                passphrases: passphrase.iter().collect(),
                signed_by: keys
                    .iter()
                    .map(AsRef::as_ref)
                    .filter(|key: &&PgpKey| signed_by.contains(&key.name))
                    .collect(),
            };
            let opened = wetbank_crypt::decrypt(input, output, &opening, clock::now())?;
            Ok::<_, CryptError>(
                (!opened.signed_by.is_empty()).then(|| format!("signed by {}", opened.signed_by.join(", "))),
            )
        })
        .await
    }
}
