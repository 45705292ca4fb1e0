//! Bringing the file in hand beside the name that it is to have.

use std::sync::Arc;

use serde::{Deserialize, Serialize};
use wetbank_core::{FilePath, Fingerprint, RelPath};
use wetbank_crypt::Digests;
use wetbank_places::{Place, PlaceErrorKind};

use super::{
    outcome::{Effect, FailureKind},
    reading::Source,
    step::AtStep,
    transfer::transfer,
};

/// A file that lies whole beside its name.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Brought {
    /// Its state there, which a rename keeps.
    pub fingerprint: Fingerprint,
    /// Its checksums.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub sha256: Option<String>,
    pub blake3: String,
}

impl Brought {
    fn new(fingerprint: Fingerprint, Digests { sha256, blake3 }: Digests) -> Self {
        Self { fingerprint, sha256, blake3 }
    }
}

impl AtStep<'_> {
    /// Brings the file in hand under a temporary name at a place; it is to become `to`.
    pub(super) async fn bring(
        &self,
        source: &Source,
        place: &Arc<dyn Place>,
        (temporary, to): (&RelPath, &FilePath),
        sha256: bool,
    ) -> Effect<Brought> {
        let size = self.hand.fingerprint.size;
        let _slot = self.effects.moorings.large_slot(&to.place, size).await;
        let (done, folder) = (self.moving(size), to.path.parent());
        let bring = || transfer(source, place, temporary, &to.path, sha256, done.clone(), self.stop);
        let staging = match bring().await {
            // Folders below the root are made when they are needed; the root itself never is.
            Err(e) if e.kind == PlaceErrorKind::NotFound && e.place == to.place && !folder.is_root() => {
                place.make_folder(&folder).await?;
                bring().await
            }
            result => result,
        };
        let staging = match staging {
            Ok(staging) => staging,
            Err(_) if self.stop.is_cancelled() => return Err(FailureKind::Stopping),
            Err(e) => return Err(e.into()),
        };
        self.effects.moorings.has_room(&to.place);
        let can = place.capabilities();
        let fingerprint = match &self.hand.aligned {
            // Before it has its name: whoever waits for it there sees one state only.
            Some(_) if can.stages && can.sets_times => {
                place.set_modified(temporary, self.hand.fingerprint.modified).await?.fingerprint
            }
            _ => staging.entry.fingerprint,
        };
        Ok(Brought::new(fingerprint, staging.digests))
    }

    /// What an earlier step brought under a temporary name, if it lies there as it was.
    pub(super) async fn brought(&self, place: &dyn Place, temporary: &RelPath) -> Effect<Option<Brought>> {
        let Some(brought) = self.hand.aligned.as_ref().and_then(|aligned| aligned.brought.as_ref()) else {
            return Ok(None);
        };
        match place.stat(temporary).await {
            Ok(entry) => Ok(Some(brought.clone()).filter(|brought| brought.fingerprint == entry.fingerprint)),
            Err(error) if error.kind == PlaceErrorKind::NotFound => Ok(None),
            Err(error) => Err(error.into()),
        }
    }
}
