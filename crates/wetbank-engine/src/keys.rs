//! Keys and secrets, opened when they are needed.

use std::sync::Arc;

use jiff::Timestamp;
use secrecy::SecretString;
use wetbank_crypt::{PgpKey, Vault, policy::Use};
use wetbank_journal::{Journal, KeyRecord};

use crate::{EngineError, clock};

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
}

fn label(name: &str) -> String {
    format!("key:{name}")
}

impl Keys {
    pub fn new(journal: Journal, vault: Vault) -> Self {
        Self { journal, vault: Arc::new(vault) }
    }

    pub async fn secret(&self, name: &str) -> Result<SecretString, EngineError> {
        self.secret_if_set(name).await?.ok_or_else(|| {
            EngineError::NotNow(format!("secret \"{name}\" is not set; set it with: wetbank secret set {name}"))
        })
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
        let key = PgpKey::import(name, export, passphrase)?;
        let sealed = key.to_keep().map(|text| self.vault.seal(&label(name), text));
        let record = KeyRecord {
            name: name.to_owned(),
            fingerprint: key.fingerprint(),
            certificate: key.certificate_text()?,
            sealed,
            changed: clock::now(),
        };
        if let Some(old) = self.journal.keys().await?.into_iter().find(|k| k.name == name)
            && old.fingerprint != record.fingerprint
        {
            return Err(EngineError::NotNow(format!(
                "the name \"{name}\" belongs to another key ({}); remove that one first, or choose another name",
                old.fingerprint
            )));
        }
        self.journal.set_key(record.clone()).await?;
        status(&key, record.changed)
    }

    fn open(&self, record: &KeyRecord) -> Result<PgpKey, EngineError> {
        let secret =
            record.sealed.as_ref().map(|sealed| self.vault.open_sealed(&label(&record.name), sealed)).transpose()?;
        Ok(PgpKey::from_kept(&record.name, &record.certificate, secret.as_ref())?)
    }

    /// Every key, opened.
    pub async fn all(&self) -> Result<Vec<PgpKey>, EngineError> {
        self.journal.keys().await?.iter().map(|record| self.open(record)).collect()
    }

    pub async fn statuses(&self) -> Result<Vec<KeyStatus>, EngineError> {
        let mut all = Vec::new();
        for record in self.journal.keys().await? {
            all.push(status(&self.open(&record)?, record.changed)?);
        }
        Ok(all)
    }

    /// A key's armoured text for a partner, or with its secret part.
    pub async fn export(&self, name: &str, with_secret: bool) -> Result<String, EngineError> {
        let records = self.journal.keys().await?;
        let record = records.iter().find(|k| k.name == name).ok_or_else(|| EngineError::unknown("key", name))?;
        if !with_secret {
            return Ok(record.certificate.clone());
        }
        self.open(record)?
            .secret_text()
            .ok_or_else(|| EngineError::NotNow(format!("the key \"{name}\" has no secret part here")))
    }
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
