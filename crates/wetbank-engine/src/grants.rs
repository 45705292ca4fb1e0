//! What places need that does not stand in the book: secrets, and where agreements are kept.

use std::{path::PathBuf, sync::Arc};

use async_trait::async_trait;
use secrecy::SecretString;
use wetbank_core::SecretName;
use wetbank_places::{GrantKeeper, Vault};

use crate::{guarded::Guarded, keys::Keys};

/// The vault, with secrets besides that were typed and are not kept yet.
#[derive(Debug)]
pub(crate) struct VaultWith<'a> {
    pub keys: Keys,
    pub guarded: Guarded,
    pub typed: &'a [(String, SecretString)],
}

#[async_trait]
impl Vault for VaultWith<'_> {
    async fn secret(&self, name: &SecretName) -> Result<SecretString, String> {
        match self.typed.iter().find(|(known, _)| known == name.as_str()) {
            Some((_, secret)) => Ok(secret.clone()),
            None => self.keys.secret(name.as_str()).await.map_err(|error| error.to_string()),
        }
    }

    fn keeper(&self, grant: &SecretName) -> Arc<dyn GrantKeeper> {
        Arc::new(VaultKeeper { keys: self.keys.clone(), name: grant.clone() })
    }

    async fn refuses_root(&self, root: &str) -> Option<String> {
        let (guarded, root) = (self.guarded.clone(), PathBuf::from(root));
        tokio::task::spawn_blocking(move || guarded.refuses_root(&root)).await.unwrap_or_default()
    }
}

/// Where the lasting half of an agreement is kept: in the vault, under a name of the book.
#[derive(Debug)]
pub(crate) struct VaultKeeper {
    pub keys: Keys,
    pub name: SecretName,
}

#[async_trait]
impl GrantKeeper for VaultKeeper {
    async fn load(&self) -> Result<Option<SecretString>, String> {
        self.keys.secret_if_set(self.name.as_str()).await.map_err(|e| e.to_string())
    }

    async fn keep(&self, lasting: &SecretString) -> Result<(), String> {
        self.keys.set_secret(self.name.as_str(), lasting).await.map_err(|e| e.to_string())
    }
}
