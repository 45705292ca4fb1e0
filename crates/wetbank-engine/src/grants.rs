//! Where the lasting halves of agreements are kept: in the vault, under a name of the book.

use async_trait::async_trait;
use secrecy::SecretString;
use wetbank_core::SecretName;
use wetbank_places::GrantKeeper;

use crate::keys::Keys;

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
