//! Secrets and OpenPGP keys.

use secrecy::SecretString;
use wetbank_core::Name;

use super::Engine;
use crate::{Declined, EngineError, KeyStatus};

impl Engine {
    /// Keeps a secret; places that need it sign in anew.
    pub async fn set_secret(&self, name: &str, secret: &SecretString) -> Result<(), EngineError> {
        Name::new(name)?;
        self.core.keys.set_secret(name, secret).await?;
        self.rebuild_users_of(name).await
    }

    /// Removes a secret that no place needs.
    pub async fn remove_secret(&self, name: &str) -> Result<(), EngineError> {
        let user = self
            .core
            .arranged
            .now()
            .specs
            .iter()
            .find_map(|(place, spec)| spec.secrets().iter().any(|s| s.as_str() == name).then(|| place.clone()));
        if let Some(place) = user {
            return Err(Declined::SecretNeeded { secret: name.to_owned(), place }.into());
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
