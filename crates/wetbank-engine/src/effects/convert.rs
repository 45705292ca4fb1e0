//! Steps that turn a file into another one: encrypt and decrypt.

use std::io::Write;

use wetbank_archive::{Limits, Meter};
use wetbank_core::{Most, RelPath, Step, Template};
use wetbank_crypt::{CryptError, Opening, PgpKey, Sealing};

use super::{
    making::Making,
    outcome::{Attempt, Effect, FailureKind, StepDone},
    reading::Reading,
    step::AtStep,
    watched::Watched,
};
use crate::{EngineError, clock};

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

    fn opened(most: Most) -> Self {
        Self { most: Some(most), secrecy: Secrecy::Private }
    }
}

impl AtStep<'_> {
    pub(super) async fn encrypt(&self, step: &Step, attempt: &mut Attempt) -> Effect<StepDone> {
        let Step::Encrypt { to, passphrase, sign, armour, name } = step else {
            unreachable!("called for this step only")
        };
        if to.is_empty() && passphrase.is_none() {
            return Ok(StepDone::nothing(self.hand, "the partner wants it as it is"));
        }
        let keys = self.effects.keys.all().await?;
        let find = |name: &String| {
            keys.iter().position(|key| key.name == *name).ok_or_else(|| EngineError::unknown("key", name))
        };
        let recipients = to.iter().map(find).collect::<Result<Vec<_>, _>>()?;
        let signer = sign.as_ref().map(find).transpose()?;
        let passphrase = match passphrase {
            Some(secret) => Some(self.effects.keys.secret(secret.as_str()).await?),
            None => None,
        };
        let (armour, file_name) = (*armour, self.hand.name.name_text());
        self.through_work(name, Coming::public(), attempt, move |input, output| {
            let sealing = Sealing {
                recipients: recipients.iter().map(|&at| keys[at].as_ref()).collect(),
                passphrase: passphrase.as_ref(),
                signer: signer.map(|at| keys[at].as_ref()),
                armour,
                file_name,
            };
            wetbank_crypt::encrypt(input, output, &sealing, clock::now()).map(|()| None)
        })
        .await
    }

    pub(super) async fn decrypt(&self, step: &Step, attempt: &mut Attempt) -> Effect<StepDone> {
        let Step::Decrypt { most, passphrase, signed_by, name } = step else {
            unreachable!("called for this step only")
        };
        let keys = self.effects.keys.all().await?;
        for wanted in signed_by {
            if !keys.iter().any(|key| key.name == *wanted) {
                return Err(EngineError::unknown("key", wanted).into());
            }
        }
        let passphrase = match passphrase {
            Some(secret) => Some(self.effects.keys.secret(secret.as_str()).await?),
            None => None,
        };
        let signed_by = signed_by.clone();
        self.through_work(name, Coming::opened(*most), attempt, move |input, output| {
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

    /// Turns the file in hand into another one in the work folder.
    pub(super) async fn through_work<E>(
        &self,
        name: &Template,
        coming: Coming,
        attempt: &mut Attempt,
        work: impl FnOnce(Reading, &mut dyn Write) -> Result<Option<String>, E> + Send + 'static,
    ) -> Effect<StepDone>
    where
        E: Into<FailureKind> + From<std::io::Error> + Send + 'static,
    {
        let name = self.with_facts(|facts| name.render_name(&RelPath::root(), facts))?;
        let source = self.source()?;
        let id = self.effects.record.journal.next_attempt();
        self.start(self.began(id, None, None), attempt).await?;
        let _slot = self.effects.slots.crypt.acquire().await.expect("the semaphore is never closed");
        let before = source.place.stat(&source.path).await?;
        let done = self.moving(before.fingerprint.size);
        let refused = |error| E::from(error).into();
        let (part, last) = (self.in_work(".part").map_err(refused)?, self.in_work("").map_err(refused)?);
        let is_private = match coming.secrecy {
            Secrecy::AsItWas => source.is_private().await?,
            Secrecy::Private => true,
            Secrecy::Public => false,
        };
        let reading = Reading::open(&source, done).await?.until(self.stop);
        let broken = reading.broken();
        let (stop, size) = (self.stop.clone(), before.fingerprint.size);
        let result = tokio::task::spawn_blocking(move || {
            let mut making = Making::begin(part, last, is_private).map_err(|error| E::from(error).into())?;
            let meter = coming.most.map(|most| Meter::new(Limits::of(most.bytes.0, most.is_said), size));
            let mut watched = Watched::new(&mut making, stop, meter);
            let worked = work(reading, &mut watched);
            if let Some(over) = watched.over {
                return Err(over.into());
            }
            let note = worked.map_err(Into::into)?;
            let (digests, size) = making.finish().map_err(|error| E::from(error).into())?;
            Ok::<_, FailureKind>((note, digests, size))
        })
        .await
        .map_err(FailureKind::fault)?;
        if result.is_err() && self.stop.is_cancelled() {
            return Err(FailureKind::Stopping);
        }
        broken.check()?;
        let (note, digests, size) = result?;
        let after = source.place.stat(&source.path).await?;
        if after.fingerprint != before.fingerprint {
            return Err(FailureKind::Passing {
                code: "busy".to_owned(),
                why: format!("\"{}\" changed while it was read", source.path),
                remedy: "It is read again when its writer is done.".to_owned(),
            });
        }
        self.made((id, attempt), name, (digests, size), note).await
    }
}
