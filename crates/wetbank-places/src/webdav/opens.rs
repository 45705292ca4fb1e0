//! Opening a WebDAV server.

use std::sync::Arc;

use async_trait::async_trait;
use wetbank_core::{PlaceName, WebSignIn, WebdavSpec};

use super::Webdav;
use crate::{
    Identity, Place,
    open::{Opening, Opens},
    place::Result,
    web,
};

#[async_trait]
impl Opens for WebdavSpec {
    async fn open(&self, opening: &Opening<'_>) -> Result<Arc<dyn Place>> {
        let (name, spec) = (opening.name.clone(), self.clone());
        Ok(Arc::new(match &self.sign_in {
            WebSignIn::Open => Webdav::new(name, spec, None),
            WebSignIn::Password(_, secret) => Webdav::new(name, spec, Some(opening.secret(secret).await?)),
            WebSignIn::Agreed(agreed) => {
                let client_secret = opening.perhaps(agreed.client_secret.as_ref()).await?;
                Webdav::agreed(name, spec, agreed.clone(), client_secret, opening.vault.keeper(&agreed.grant))
            }
        }))
    }

    async fn shown_identity(&self, place: &PlaceName) -> Result<Option<Identity>> {
        Ok(web::shown_certificate(place, &self.url).await?.map(Identity::certificate))
    }
}
