//! Opening a bucket.

use std::sync::Arc;

use async_trait::async_trait;
use wetbank_core::{BucketSpec, PlaceName};

use super::Bucket;
use crate::{
    Identity, Place,
    open::{Opening, Opens},
    place::Result,
    web,
};

#[async_trait]
impl Opens for BucketSpec {
    async fn open(&self, opening: &Opening<'_>) -> Result<Arc<dyn Place>> {
        let secret = opening.perhaps(self.sign_in.as_ref().map(|(_, secret)| secret)).await?;
        Ok(Arc::new(Bucket::new(opening.name.clone(), self.clone(), secret)?))
    }

    async fn shown_identity(&self, place: &PlaceName) -> Result<Option<Identity>> {
        Ok(web::shown_certificate(place, &self.server()).await?.map(Identity::certificate))
    }
}
