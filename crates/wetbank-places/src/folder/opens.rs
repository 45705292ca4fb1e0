//! Opening a folder of this machine.

use std::sync::Arc;

use async_trait::async_trait;
use wetbank_core::{FolderSpec, RelPath};

use super::Folder;
use crate::{
    Place, PlaceError, PlaceErrorKind,
    open::{Opening, Opens},
    place::Result,
};

#[async_trait]
impl Opens for FolderSpec {
    async fn open(&self, opening: &Opening<'_>) -> Result<Arc<dyn Place>> {
        let name = opening.name.clone();
        if let Some(why) = opening.vault.refuses_root(&self.root).await {
            let (kind, path) = (PlaceErrorKind::Denied, RelPath::root());
            return Err(PlaceError { kind, place: name, call: "open", path, detail: why, secret: None });
        }
        Ok(Arc::new(Folder::mounted(name, &self.root, self.mount.as_ref())))
    }
}
