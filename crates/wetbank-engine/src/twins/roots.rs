//! Which folders of this machine a twin keeps alike, by whatever way one comes to them: a mount can put one of them below
//! itself or the other one, and each pass would find one folder more.

use std::{collections::HashMap, ffi::OsStr, os::unix::ffi::OsStrExt, os::unix::fs::MetadataExt, sync::Arc};

use wetbank_core::{
    FilePath, RelPath,
    twin::{Pair, Side, Twin},
};
use wetbank_places::Place;

use crate::{Declined, EngineError};

/// What a folder is to the kernel, whatever it is called: its file system and its number there.
type Identity = (u64, u64);

/// Both folders of a twin, as far as they are of this machine.
#[derive(Debug)]
pub(super) struct Roots(HashMap<Identity, FilePath>);

async fn identity(place: &dyn Place, path: &RelPath) -> Option<Identity> {
    let at = place.as_folder()?.root().join(OsStr::from_bytes(path.as_bytes()));
    let found = tokio::fs::symlink_metadata(at).await.ok()?;
    Some((found.dev(), found.ino()))
}

impl Roots {
    pub async fn of(twin: &Twin, places: &Pair<Arc<dyn Place>>) -> Self {
        let mut roots = HashMap::new();
        for side in Side::BOTH {
            let folder = twin.folders.of(side);
            if let Some(identity) = identity(places.of(side).as_ref(), &folder.path).await {
                roots.insert(identity, folder.clone());
            }
        }
        Self(roots)
    }

    /// Refuses a folder below one of them that is one of them.
    pub async fn check(&self, place: &dyn Place, path: &RelPath) -> Result<(), EngineError> {
        let Some(root) = identity(place, path).await.and_then(|identity| self.0.get(&identity)) else { return Ok(()) };
        let here = FilePath { place: place.name().clone(), path: path.clone() };
        if here == *root {
            return Ok(());
        }
        Err(Declined::Looped { here, root: root.clone() }.into())
    }
}
