//! From what the book says of a place to a place that can be used.

use std::{fmt, sync::Arc};

use async_trait::async_trait;
use secrecy::SecretString;
use wetbank_core::{PlaceName, PlaceSpec, RelPath, SecretName, with_place_kinds};

use crate::{GrantKeeper, Identity, Place, PlaceError, PlaceErrorKind, place::Result};

/// What a place needs that does not stand in the book.
#[async_trait]
pub trait Vault: Send + Sync + fmt::Debug {
    /// The secret of a name.
    ///
    /// # Errors
    ///
    /// Why it cannot be told, in words: it is not set, or cannot be read.
    async fn secret(&self, name: &SecretName) -> std::result::Result<SecretString, String>;

    /// Where the lasting half of an agreement is kept under a name.
    fn keeper(&self, grant: &SecretName) -> Arc<dyn GrantKeeper>;

    /// Why a folder of this machine can be no place, if it cannot.
    async fn refuses_root(&self, root: &str) -> Option<String>;
}

/// How a kind of place is opened.
#[async_trait]
pub(crate) trait Opens {
    /// A place that can be used; nothing is asked of its server yet.
    async fn open(&self, opening: &Opening<'_>) -> Result<Arc<dyn Place>>;

    /// What its server shows of itself, without signing in or trusting it. Nothing for a kind without such a proof, or
    /// for a connection that is not secured.
    async fn shown_identity(&self, _place: &PlaceName) -> Result<Option<Identity>> {
        Ok(None)
    }
}

/// A place that is being opened.
pub(crate) struct Opening<'a> {
    pub name: PlaceName,
    pub vault: &'a dyn Vault,
}

impl Opening<'_> {
    /// The secret of a name.
    pub async fn secret(&self, name: &SecretName) -> Result<SecretString> {
        let opened = self.vault.secret(name).await;
        opened.map_err(|detail| PlaceError {
            kind: PlaceErrorKind::Refused,
            place: self.name.clone(),
            call: "sign in to",
            path: RelPath::root(),
            detail,
            secret: Some(name.clone()),
        })
    }

    /// The same where there is one.
    pub async fn perhaps(&self, name: Option<&SecretName>) -> Result<Option<SecretString>> {
        match name {
            Some(name) => self.secret(name).await.map(Some),
            None => Ok(None),
        }
    }
}

macro_rules! dispatch {
    ($($kind:ident $spec:ident $word:literal;)*) => {
        /// Opens a place of the book.
        ///
        /// # Errors
        ///
        /// Refused if a secret that it needs is not there; denied if it is a folder that can be no place.
        pub async fn open(name: &PlaceName, spec: &PlaceSpec, vault: &dyn Vault) -> Result<Arc<dyn Place>> {
            let opening = Opening { name: name.clone(), vault };
            match spec { $(PlaceSpec::$kind(spec) => spec.open(&opening).await,)* }
        }

        /// Asks a place's server what it shows, without signing in or trusting it. Nothing for a place
        /// without such a proof: a folder, or a connection that is not secured.
        ///
        /// # Errors
        ///
        /// Whatever keeps its server from being reached.
        pub async fn shown_identity(place: &PlaceName, spec: &PlaceSpec) -> Result<Option<Identity>> {
            match spec { $(PlaceSpec::$kind(spec) => spec.shown_identity(place).await,)* }
        }
    };
}

with_place_kinds!(dispatch);
