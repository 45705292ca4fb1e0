//! From the book's words to a place that can be used.

use std::sync::Arc;

use secrecy::SecretString;
use wetbank_core::{Limits, Name, PlaceSpec};
use wetbank_places::{Limited, Place, PlaceError};

use super::Engine;
use crate::grants::VaultWith;

impl Engine {
    pub(super) async fn build(
        &self,
        name: &Name,
        spec: &PlaceSpec,
        limits: Option<&Limits>,
    ) -> Result<Arc<dyn Place>, PlaceError> {
        let place = self.build_with(name, spec, &[]).await?;
        let place = match limits {
            Some(limits) => Limited::around(place, limits),
            None => place,
        };
        Ok(self.core.moorings.moor(place))
    }

    /// A place without limits, with these secrets where they have the names that it needs, and
    /// those of the vault.
    pub(super) async fn build_with(
        &self,
        name: &Name,
        spec: &PlaceSpec,
        typed: &[(String, SecretString)],
    ) -> Result<Arc<dyn Place>, PlaceError> {
        let (keys, guarded) = (self.core.keys.clone(), self.core.effects.guarded.clone());
        wetbank_places::open(name, spec, &VaultWith { keys, guarded, typed }).await
    }
}
