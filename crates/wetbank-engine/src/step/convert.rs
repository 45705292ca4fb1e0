//! Steps that turn a file into another one: encrypt and decrypt.

use std::{
    io::{BufReader, BufWriter, Write},
    sync::Arc,
};

use wetbank_core::{FilePath, RelPath, Step, Template};
use wetbank_crypt::{CryptError, Opening, PgpKey, Sealing};
use wetbank_journal::Intention;
use wetbank_places::{Place, PlaceError};

use super::{AtStep, Effect, FailureKind, Hand, StepDone};
use crate::{EngineError, clock, transfer::Source};

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

    /// Turns the file in hand into another one in the work folder. That folder is ours alone,
    /// so a broken attempt is simply done again.
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
        let broken = reading.broken.clone();
        let result = tokio::task::spawn_blocking(move || {
            // Whatever ends this early, what was written so far is worth nothing to anybody.
            let part = RemovedOnDrop(part);
            let file = create_private(&part.0)?;
            let mut output = Hashed {
                inner: BufWriter::with_capacity(256 << 10, file),
                hashing: wetbank_crypt::Hashing::for_ourselves(),
                size: 0,
            };
            let note = work(reading, &mut output)?;
            output.inner.flush()?;
            output.inner.get_ref().sync_data()?;
            std::fs::rename(&part.0, &last)?;
            Ok::<_, E>((note, output.hashing.finish(), output.size))
        })
        .await
        .map_err(|e| EngineError::NotNow(format!("the step broke off: {e}")))?;
        if let Some(error) = broken.lock().unwrap_or_else(std::sync::PoisonError::into_inner).take() {
            return Err(error.into());
        }
        let (note, digests, size) = result.map_err(Into::into)?;
        let after = source.place.stat(&source.path).await?;
        if after.fingerprint != before.fingerprint {
            return Err(FailureKind::Passing {
                code: "busy".to_owned(),
                why: format!("\"{}\" changed while it was read", source.path),
                remedy: "It is read again when its writer is done.".to_owned(),
            });
        }
        let entry = self.core.work_folder.stat(&path).await?;
        let hand = Hand {
            place: None,
            path: path.clone(),
            name: name.clone(),
            fingerprint: entry.fingerprint,
            original: self.hand.original.clone(),
            fault: self.hand.fault.clone(),
            count: self.hand.count,
        };
        let shown = FilePath { place: self.core.work_folder.name().clone(), path: name.clone() };
        self.core
            .journal
            .intend(Intention {
                attempt: id,
                intent: String::new(),
                target: shown,
                size,
                sha256: digests.sha256,
                blake3: digests.blake3,
                output: None,
            })
            .await?;
        Ok(StepDone {
            attempt: Some(id),
            hand,
            note,
            skipped: false,
            size: Some(size),
            also_named: Some(name.to_string()),
            freed: false,
            branch: None,
            parts: Vec::new(),
            put: None,
            chained: Vec::new(),
            mail: None,
        })
    }
}

pub(super) fn create_private(path: &std::path::Path) -> std::io::Result<std::fs::File> {
    use std::os::unix::fs::OpenOptionsExt;
    std::fs::OpenOptions::new().write(true).create(true).truncate(true).mode(0o600).open(path)
}

/// A file that is removed when this goes, unless it was renamed by then.
pub(super) struct RemovedOnDrop(pub std::path::PathBuf);

impl Drop for RemovedOnDrop {
    fn drop(&mut self) {
        let _ = std::fs::remove_file(&self.0);
    }
}

/// Output that is hashed on its way.
pub(super) struct Hashed<W> {
    pub inner: W,
    pub hashing: wetbank_crypt::Hashing,
    pub size: u64,
}

impl<W: Write> Write for Hashed<W> {
    fn write(&mut self, buffer: &[u8]) -> std::io::Result<usize> {
        let written = self.inner.write(buffer)?;
        self.hashing.update_slice(&buffer[..written]);
        self.size += written as u64;
        Ok(written)
    }

    fn flush(&mut self) -> std::io::Result<()> {
        self.inner.flush()
    }
}

/// A place's file as a blocking reader, counted as it is read. A failure of the place is kept,
/// because the reader's user can only pass on that reading failed.
pub(crate) struct Reading {
    from: BufReader<Box<dyn std::io::Read + Send>>,
    done: Arc<std::sync::atomic::AtomicU64>,
    pub(super) broken: Arc<std::sync::Mutex<Option<PlaceError>>>,
}

impl Reading {
    /// Where a failure of the place is told, once reading has failed.
    pub fn broken(&self) -> Arc<std::sync::Mutex<Option<PlaceError>>> {
        self.broken.clone()
    }

    pub async fn open(source: &Source, done: Arc<std::sync::atomic::AtomicU64>) -> Result<Self, PlaceError> {
        use futures_util::StreamExt;
        let broken: Arc<std::sync::Mutex<Option<PlaceError>>> = Arc::default();
        let noted = broken.clone();
        let stream = source.place.read(&source.path, 0).await?.map(move |chunk| {
            chunk.map_err(|error| {
                *noted.lock().unwrap_or_else(std::sync::PoisonError::into_inner) = Some(error);
                std::io::Error::from(std::io::ErrorKind::Interrupted)
            })
        });
        let reader = tokio_util::io::SyncIoBridge::new(tokio_util::io::StreamReader::new(stream));
        Ok(Self { from: BufReader::with_capacity(256 << 10, Box::new(reader)), done, broken })
    }
}

impl std::io::Read for Reading {
    fn read(&mut self, buffer: &mut [u8]) -> std::io::Result<usize> {
        let read = self.from.read(buffer)?;
        self.done.fetch_add(read as u64, std::sync::atomic::Ordering::Relaxed);
        Ok(read)
    }
}
