//! Secrets and OpenPGP keys.

use std::{collections::BTreeMap, sync::Arc};

use secrecy::SecretString;
use wetbank_core::{Name, SectionKind, secrets_named, section_value};
use wetbank_crypt::Vault;

use super::Engine;
use crate::{Declined, EngineError, KeyStatus};

impl Engine {
    /// What seals secrets on record.
    pub fn vault(&self) -> Arc<Vault> {
        self.core.keys.vault()
    }

    /// Keeps a secret; places that need it sign in anew.
    pub async fn set_secret(&self, name: &str, secret: &SecretString) -> Result<(), EngineError> {
        Name::new(name)?;
        self.core.keys.set_secret(name, secret).await?;
        self.rebuild_users_of(name).await
    }

    /// What needs which secret: the kind and name of each section that names it.
    pub async fn secrets_needed(&self) -> Result<BTreeMap<String, Vec<(String, String)>>, EngineError> {
        let sections = self.core.journal.sections().await?;
        let mut needed: BTreeMap<String, Vec<(String, String)>> = BTreeMap::new();
        // Most sections name none.
        for section in sections.into_iter().filter(|section| section.text.contains("secret")) {
            let kind = SectionKind::ALL.into_iter().find(|kind| kind.as_str() == section.kind);
            let value = kind.and_then(|kind| section_value(kind, &section.text).ok());
            for secret in value.map(|(_, value)| secrets_named(&value)).unwrap_or_default() {
                needed.entry(secret).or_default().push((section.kind.clone(), section.name.clone()));
            }
        }
        Ok(needed)
    }

    /// Removes a secret that nothing needs.
    pub async fn remove_secret(&self, name: &str) -> Result<(), EngineError> {
        let user = self.secrets_needed().await?.remove(name).and_then(|users| users.into_iter().next());
        if let Some((kind, user)) = user {
            return Err(Declined::SecretNeeded { secret: name.to_owned(), kind, name: user }.into());
        }
        if !self.core.journal.remove_secret(name).await? {
            return Err(EngineError::unknown("secret", name));
        }
        Ok(())
    }

    async fn rebuild_users_of(&self, secret: &str) -> Result<(), EngineError> {
        let turn = self.core.arranged.turn().await;
        let mut arrangement = (*self.core.arranged.now()).clone();
        for (name, spec) in arrangement.specs.clone() {
            if spec.secrets().iter().any(|s| s.as_str() == secret) {
                self.core.moorings.forget(&name);
                arrangement.places.insert(name.clone(), self.build(&name, &spec, arrangement.limits.get(&name)).await);
            }
        }
        turn.put(arrangement);
        self.core.queue.claims.hurry(|_, _| true);
        Ok(())
    }

    /// Keeps an OpenPGP key.
    pub async fn import_key(
        &self,
        name: &str,
        export: &[u8],
        passphrase: Option<&SecretString>,
    ) -> Result<KeyStatus, EngineError> {
        Name::new(name)?;
        let imported = self.core.keys.import(name, export, passphrase).await?;
        self.forget_warnings();
        Ok(imported)
    }

    /// Every OpenPGP key.
    pub async fn keys(&self) -> Result<Vec<KeyStatus>, EngineError> {
        self.core.keys.statuses().await
    }

    /// A key as armoured text.
    pub async fn export_key(&self, name: &str, with_secret: bool) -> Result<String, EngineError> {
        self.core.keys.export(name, with_secret).await
    }

    /// Removes a key.
    pub async fn remove_key(&self, name: &str) -> Result<(), EngineError> {
        if !self.core.keys.remove(name).await? {
            return Err(EngineError::unknown("key", name));
        }
        self.forget_warnings();
        Ok(())
    }
}
