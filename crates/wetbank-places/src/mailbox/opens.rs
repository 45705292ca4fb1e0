//! Opening a mailbox.

use std::sync::Arc;

use async_trait::async_trait;
use wetbank_core::{MailboxSpec, PlaceName};

use super::{Mailbox, shown_certificate};
use crate::{
    Identity, Place,
    open::{Opening, Opens},
    place::Result,
};

#[async_trait]
impl Opens for MailboxSpec {
    async fn open(&self, opening: &Opening<'_>) -> Result<Arc<dyn Place>> {
        let password = opening.perhaps(self.sign_in.as_ref().map(|(_, secret)| secret)).await?;
        Ok(Arc::new(Mailbox::new(opening.name.clone(), self.clone(), password)))
    }

    async fn shown_identity(&self, place: &PlaceName) -> Result<Option<Identity>> {
        let shown = shown_certificate(place, self).await?;
        Ok(shown.map(|(fingerprint, key)| Identity { what: "certificate", fingerprint, key }))
    }
}
