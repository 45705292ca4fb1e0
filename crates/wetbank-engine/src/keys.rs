//! Keys and secrets, opened when they are needed.

use std::{
    sync::Arc,
    time::{Duration, Instant},
};

use jiff::Timestamp;
use parking_lot::{Mutex, MutexGuard};
use secrecy::SecretString;
use tokio_util::sync::CancellationToken;
use wetbank_crypt::{KeyError, PgpKey, Vault, policy::Use};
use wetbank_journal::{Journal, KeyRecord};

use crate::{Declined, EngineError, clock};

/// What people may know of a key.
#[derive(Debug, Clone)]
pub struct KeyStatus {
    /// Its name.
    pub name: String,
    /// Its fingerprint.
    pub fingerprint: String,
    /// Whom it names.
    pub users: Vec<String>,
    /// Whether we hold its secret part.
    pub has_secret: bool,
    /// Whether one can encrypt to it, until when, or why not.
    pub encrypts: Result<Option<Timestamp>, String>,
    /// The same for signing.
    pub signs: Result<Option<Timestamp>, String>,
    /// When it was imported.
    pub changed: Timestamp,
}

/// Opens secrets and keys of the journal with the vault.
#[derive(Debug, Clone)]
pub(crate) struct Keys {
    journal: Journal,
    vault: Arc<Vault>,
    /// The keys as they were read last; nothing once one was changed.
    read: Arc<Mutex<Option<Ring>>>,
}

/// Every key, by its name.
type Ring = Arc<Vec<Arc<PgpKey>>>;

/// How often it is looked whether an opened key is still in use.
const LOOK: Duration = Duration::from_secs(30);

fn label(name: &str) -> String {
    format!("key:{name}")
}

impl Keys {
    pub fn new(journal: Journal, vault: Vault) -> Self {
        Self { journal, vault: Arc::new(vault), read: Arc::default() }
    }

    pub fn vault(&self) -> Arc<Vault> {
        self.vault.clone()
    }

    pub async fn secret(&self, name: &str) -> Result<SecretString, EngineError> {
        self.secret_if_set(name).await?.ok_or_else(|| Declined::SecretNotSet(name.to_owned()).into())
    }

    pub async fn secret_if_set(&self, name: &str) -> Result<Option<SecretString>, EngineError> {
        match self.journal.secret(name).await? {
            Some(sealed) => Ok(Some(self.vault.open_sealed(name, &sealed)?)),
            None => Ok(None),
        }
    }

    pub async fn set_secret(&self, name: &str, secret: &SecretString) -> Result<(), EngineError> {
        Ok(self.journal.set_secret(name, self.vault.seal(name, secret), clock::now()).await?)
    }

    pub async fn import(
        &self,
        name: &str,
        export: &[u8],
        passphrase: Option<&SecretString>,
    ) -> Result<KeyStatus, EngineError> {
        let records = self.journal.keys().await?;
        let known = records.iter().find(|record| record.name == name);
        let (named, text, passphrase) = (name.to_owned(), export.to_vec(), passphrase.cloned());
        let imported = apart(move || PgpKey::import(&named, &text, passphrase.as_ref())).await?;
        let mut key = match (imported, known) {
            (Ok(key), _) => key,
            // It may be what revokes a key that is here.
            (Err(KeyError::NotAKey), Some(known)) => {
                let mut key = self.read(known)?;
                if !key.revoke_by(export)? {
                    return Err(KeyError::NotAKey.into());
                }
                key
            }
            (Err(error), _) => return Err(error.into()),
        };
        let fingerprint = key.fingerprint();
        if let Some(old) = known
            && old.fingerprint != fingerprint
        {
            let (name, fingerprint) = (name.to_owned(), old.fingerprint.clone());
            return Err(Declined::OtherKey { name, fingerprint }.into());
        }
        // All copies of one key know the same afterwards, whatever they are called: a revocation counts everywhere.
        let copies: Vec<_> = records.iter().filter(|record| record.fingerprint == fingerprint).collect();
        for record in &copies {
            key.learn(&self.read(record)?);
        }
        let (certificate, changed) = (key.certificate_text()?, clock::now());
        for record in copies.iter().filter(|record| record.name != name && record.certificate != certificate) {
            self.journal.set_key(KeyRecord { certificate: certificate.clone(), ..(*record).clone() }).await?;
        }
        // A copy without its secret part takes none away.
        let sealed = match key.to_keep() {
            Some(text) => Some(self.vault.seal(&label(name), text)),
            None => known.and_then(|known| known.sealed.clone()),
        };
        let record = KeyRecord { name: name.to_owned(), fingerprint, certificate, sealed, changed };
        self.journal.set_key(record.clone()).await?;
        self.forget();
        status(&self.read(&record)?, changed)
    }

    /// Removes a key; answers whether there was one.
    pub async fn remove(&self, name: &str) -> Result<bool, EngineError> {
        let was_there = self.journal.remove_key(name).await?;
        self.forget();
        Ok(was_there)
    }

    fn forget(&self) {
        *self.ring() = None;
    }

    fn ring(&self) -> MutexGuard<'_, Option<Ring>> {
        self.read.lock()
    }

    fn read(&self, record: &KeyRecord) -> Result<PgpKey, EngineError> {
        let secret =
            record.sealed.as_ref().map(|sealed| self.vault.open_sealed(&label(&record.name), sealed)).transpose()?;
        Ok(PgpKey::from_kept(&record.name, &record.certificate, secret.as_ref())?)
    }

    /// Every key. Secret parts are not opened here: whoever needs one does that, on a thread for hard work.
    pub async fn all(&self) -> Result<Ring, EngineError> {
        if let Some(ring) = self.ring().clone() {
            return Ok(ring);
        }
        let (records, this) = (self.journal.keys().await?, self.clone());
        let read = move || records.iter().map(|record| this.read(record).map(Arc::new)).collect::<Result<Vec<_>, _>>();
        let ring = Arc::new(apart(read).await??);
        *self.ring() = Some(ring.clone());
        Ok(ring)
    }

    /// Closes secret parts that nobody uses any more, until the service stops.
    pub async fn close_unused(self, cancel: CancellationToken) {
        loop {
            tokio::select! {
                () = tokio::time::sleep(LOOK) => {}
                () = cancel.cancelled() => return,
            }
            let ring = self.ring().clone();
            ring.iter().flat_map(|ring| ring.iter()).for_each(|key| key.close_unused(Instant::now()));
        }
    }

    pub async fn statuses(&self) -> Result<Vec<KeyStatus>, EngineError> {
        let (records, ring) = (self.journal.keys().await?, self.all().await?);
        let status_of = move || {
            let changed = |key: &PgpKey| records.iter().find(|r| r.name == key.name).map(|record| record.changed);
            ring.iter().filter_map(|key| Some(status(key, changed(key)?))).collect::<Result<Vec<_>, _>>()
        };
        apart(status_of).await?
    }

    /// A key's armoured text for a partner, or with its secret part.
    pub async fn export(&self, name: &str, with_secret: bool) -> Result<String, EngineError> {
        let records = self.journal.keys().await?;
        let record = records.iter().find(|k| k.name == name).ok_or_else(|| EngineError::unknown("key", name))?;
        if !with_secret {
            return Ok(record.certificate.clone());
        }
        self.read(record)?.secret_text().ok_or_else(|| Declined::NoSecretPart(name.to_owned()).into())
    }
}

/// Does hard work where nobody waits for the thread.
async fn apart<T: Send + 'static>(work: impl FnOnce() -> T + Send + 'static) -> Result<T, EngineError> {
    tokio::task::spawn_blocking(work).await.map_err(|error| EngineError::Broken(format!("it broke off: {error}")))
}

fn status(key: &PgpKey, changed: Timestamp) -> Result<KeyStatus, EngineError> {
    let now = clock::now();
    Ok(KeyStatus {
        name: key.name.clone(),
        fingerprint: key.fingerprint(),
        users: key.users(),
        has_secret: key.secret.is_some(),
        encrypts: key.fitness(Use::Encrypt, now).map_err(|why| why.to_string()),
        signs: key.fitness(Use::Sign, now).map_err(|why| why.to_string()),
        changed,
    })
}
