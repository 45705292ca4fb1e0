//! Opening a network share.

use std::sync::Arc;

use async_trait::async_trait;
use wetbank_core::ShareSpec;

use super::Share;
use crate::{
    Place,
    open::{Opening, Opens},
    place::Result,
};

#[async_trait]
impl Opens for ShareSpec {
    async fn open(&self, opening: &Opening<'_>) -> Result<Arc<dyn Place>> {
        let password = opening.secret(&self.password).await?;
        Ok(Arc::new(Share::new(opening.name.clone(), self.clone(), password)))
    }
}
