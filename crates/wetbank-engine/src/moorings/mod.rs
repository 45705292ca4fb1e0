//! Places with what is known of them: how they do, when they are tried again, what they have room for. Every
//! call of a place passes through here, and its outcome is noted; nobody reports by hand.

mod dock;
mod harbour;
mod health;
mod moored;
mod probe;
mod troubles;

pub(crate) use harbour::{Away, Moorings};
pub(crate) use probe::run as probe;
pub(crate) use troubles::Misnamed;
