//! Opening what a web server publishes.

use std::sync::Arc;

use async_trait::async_trait;
use wetbank_core::{PlaceName, WebSpec};

use super::Published;
use crate::{
    Identity, Place,
    open::{Opening, Opens},
    place::Result,
    web,
};

#[async_trait]
impl Opens for WebSpec {
    async fn open(&self, opening: &Opening<'_>) -> Result<Arc<dyn Place>> {
        let password = opening.perhaps(self.sign_in.as_ref().map(|(_, secret)| secret)).await?;
        Ok(Arc::new(Published::new(opening.name.clone(), self.clone(), password)))
    }

    async fn shown_identity(&self, place: &PlaceName) -> Result<Option<Identity>> {
        Ok(web::shown_certificate(place, &self.url).await?.map(Identity::certificate))
    }
}
