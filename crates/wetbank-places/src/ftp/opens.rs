//! Opening an FTP server.

use std::sync::Arc;

use async_trait::async_trait;
use wetbank_core::{FtpSpec, PlaceName};

use super::{Ftp, connection};
use crate::{
    Identity, Place,
    open::{Opening, Opens},
    place::Result,
};

#[async_trait]
impl Opens for FtpSpec {
    async fn open(&self, opening: &Opening<'_>) -> Result<Arc<dyn Place>> {
        let password = opening.secret(&self.password).await?;
        Ok(Arc::new(Ftp::new(opening.name.clone(), self.clone(), password)))
    }

    async fn shown_identity(&self, place: &PlaceName) -> Result<Option<Identity>> {
        Ok(connection::shown_certificate(place, self).await?.map(Identity::certificate))
    }
}
