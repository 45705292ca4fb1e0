//! Steps that turn a file into another one: encrypt and decrypt.

use std::io::Write;

use wetbank_core::{RelPath, Step, Template};
use wetbank_crypt::{CryptError, Opening, PgpKey, Sealing};

use super::{AtStep, Effect, FailureKind, StepDone, making::Making};
use crate::{EngineError, clock, reading::Reading};

impl AtStep<'_> {
    pub(super) async fn encrypt(&self, step: &Step, attempt: &mut Option<i64>) -> Effect<StepDone> {
        let Step::Encrypt { to, passphrase, sign, armour, name } = step else {
            unreachable!("called for this step only")
        };
        if to.is_empty() && passphrase.is_none() {
            return Ok(StepDone::nothing(self.hand, "the partner wants it as it is"));
        }
        let keys = self.core.keys.all().await?;
        let find = |name: &String| {
            keys.iter().position(|key| key.name == *name).ok_or_else(|| EngineError::unknown("key", name))
        };
        let recipients = to.iter().map(find).collect::<Result<Vec<_>, _>>()?;
        let signer = sign.as_ref().map(find).transpose()?;
        let passphrase = match passphrase {
            Some(secret) => Some(self.core.keys.secret(secret.as_str()).await?),
            None => None,
        };
        let (armour, file_name) = (*armour, self.hand.name.name_text());
        self.through_work(name, attempt, move |input, output| {
            let sealing = Sealing {
                recipients: recipients.iter().map(|&at| &keys[at]).collect(),
                passphrase: passphrase.as_ref(),
                signer: signer.map(|at| &keys[at]),
                armour,
                file_name,
            };
            wetbank_crypt::encrypt(input, output, &sealing, clock::now()).map(|()| None)
        })
        .await
    }

    pub(super) async fn decrypt(&self, step: &Step, attempt: &mut Option<i64>) -> Effect<StepDone> {
        let Step::Decrypt { passphrase, signed_by, name } = step else { unreachable!("called for this step only") };
        let keys = self.core.keys.all().await?;
        for wanted in signed_by {
            if !keys.iter().any(|key| key.name == *wanted) {
                return Err(EngineError::unknown("key", wanted).into());
            }
        }
        let passphrase = match passphrase {
            Some(secret) => Some(self.core.keys.secret(secret.as_str()).await?),
            None => None,
        };
        let signed_by = signed_by.clone();
        self.through_work(name, attempt, move |input, output| {
            let opening = Opening {
                keys: keys.iter().collect::<Vec<&PgpKey>>(),
                passphrases: passphrase.iter().collect(),
                signed_by: keys.iter().filter(|key| signed_by.contains(&key.name)).collect(),
            };
            let opened = wetbank_crypt::decrypt(input, output, &opening, clock::now())?;
            Ok::<_, CryptError>(
                (!opened.signed_by.is_empty()).then(|| format!("signed by {}", opened.signed_by.join(", "))),
            )
        })
        .await
    }

    /// Turns the file in hand into another one in the work folder.
    pub(super) async fn through_work<E>(
        &self,
        name: &Template,
        attempt: &mut Option<i64>,
        work: impl FnOnce(Reading, &mut dyn Write) -> Result<Option<String>, E> + Send + 'static,
    ) -> Effect<StepDone>
    where
        E: Into<FailureKind> + From<std::io::Error> + Send + 'static,
    {
        let name = self.with_facts(|facts| name.render_name(&RelPath::root(), facts))?;
        let source = self.source()?;
        let id = self.core.journal.next_attempt();
        self.start(self.began(id, None, None), attempt).await?;
        let _slot = self.core.crypt_slots.acquire().await.expect("the semaphore is never closed");
        let before = source.place.stat(&source.path).await?;
        let done = self.moving(before.fingerprint.size);
        let path = self.work_path();
        let part = self.core.work_folder.root().join(format!("{path}.part"));
        let last = self.core.work_folder.root().join(path.to_string());
        let reading = Reading::open(&source, done).await?;
        let broken = reading.broken();
        let result = tokio::task::spawn_blocking(move || {
            let mut making = Making::begin(part, last)?;
            let note = work(reading, &mut making)?;
            let (digests, size) = making.finish()?;
            Ok::<_, E>((note, digests, size))
        })
        .await
        .map_err(|e| EngineError::NotNow(format!("the step broke off: {e}")))?;
        broken.check()?;
        let (note, digests, size) = result.map_err(Into::into)?;
        let after = source.place.stat(&source.path).await?;
        if after.fingerprint != before.fingerprint {
            return Err(FailureKind::Passing {
                code: "busy".to_owned(),
                why: format!("\"{}\" changed while it was read", source.path),
                remedy: "It is read again when its writer is done.".to_owned(),
            });
        }
        self.made(id, name, (digests, size), note).await
    }
}
