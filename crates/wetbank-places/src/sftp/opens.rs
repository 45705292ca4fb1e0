//! Opening an SFTP server.

use std::sync::Arc;

use async_trait::async_trait;
use wetbank_core::{PlaceName, SftpSignIn, SftpSpec};

use super::{HostKey, Sftp, SftpCredentials};
use crate::{
    Identity, Place,
    open::{Opening, Opens},
    place::Result,
};

#[async_trait]
impl Opens for SftpSpec {
    async fn open(&self, opening: &Opening<'_>) -> Result<Arc<dyn Place>> {
        let credentials = match &self.sign_in {
            SftpSignIn::Password(secret) => SftpCredentials::Password(opening.secret(secret).await?),
            SftpSignIn::Key { key, passphrase, password } => SftpCredentials::Key {
                key: opening.secret(key).await?,
                passphrase: opening.perhaps(passphrase.as_ref()).await?,
                password: opening.perhaps(password.as_ref()).await?,
            },
        };
        Ok(Arc::new(Sftp::new(opening.name.clone(), self.clone(), credentials)))
    }

    async fn shown_identity(&self, place: &PlaceName) -> Result<Option<Identity>> {
        let fingerprint = HostKey::fetch(place, self).await?.to_string();
        Ok(Some(Identity { what: "host key", fingerprint, key: "host-key" }))
    }
}
