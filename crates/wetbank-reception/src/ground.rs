//! Where an account's files lie.

use std::sync::Arc;

use wetbank_core::{Account, RelPath, TEMPORARY_PREFIX};
use wetbank_engine::Engine;
use wetbank_places::{Folder, Place};

use crate::Refusal;

/// The root of an account, as its place has it. In a folder of this machine the root is one of its own, which no link leads
/// out of.
#[derive(Debug, Clone)]
pub(crate) struct Ground {
    pub place: Arc<dyn Place>,
    pub base: RelPath,
    /// Set where files can be read and written at offsets.
    pub folder: Option<Folder>,
}

impl Ground {
    pub fn of(engine: &Engine, account: &Account) -> Result<Self, Refusal> {
        let place = engine.place_of(account)?;
        Ok(match place.as_folder().map(|folder| folder.below(&account.root.path)) {
            Some(folder) => Self { place: Arc::new(folder.clone()), base: RelPath::root(), folder: Some(folder) },
            None => Self { place, base: account.root.path.clone(), folder: None },
        })
    }

    /// A path of the account as the place has it.
    pub fn path(&self, seen: &RelPath) -> RelPath {
        self.base.join(seen)
    }

    /// The other way round.
    pub fn seen(&self, path: &RelPath) -> Option<RelPath> {
        path.below(&self.base)
    }
}

/// What the name of a file begins with that an account is handing in.
pub(crate) fn staged_prefix() -> String {
    format!("{TEMPORARY_PREFIX}in-")
}

/// Where a file of an account lies until it is whole: beside its name, and always the same, so that it is found again.
pub(crate) fn staged(account: &str, seen: &RelPath) -> RelPath {
    let mut hasher = blake3::Hasher::new();
    hasher.update(account.as_bytes()).update(&[0]).update(seen.as_bytes());
    let name = format!("{}{}", staged_prefix(), &hasher.finalize().to_hex()[..32]);
    seen.parent().join_name(name.as_bytes()).expect("a plain name")
}
