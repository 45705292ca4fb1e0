//! Our own front door for partners: they sign in with an account, hand files in and collect them.
//!
//! `Desk` knows who may come and keeps the visits. `View` is what an account sees of its root, and what it may do there,
//! whatever it came by. `sftp` lets it be seen over SSH.
//!
//! A file that is handed in lies under a name of ours, which no listing shows, until it is whole; the engine puts it on
//! record with the work that it begins; only then is the partner told that it arrived.

mod collecting;
mod desk;
mod ground;
mod guest;
mod host_keys;
mod leftovers;
mod locking;
mod order;
mod refusal;
mod room;
mod sftp;
mod sum;
mod uploading;
mod view;

pub use collecting::Collecting;
pub use desk::{Desk, Proven, Way};
pub use guest::Guest;
pub use host_keys::{HostKey, HostKeys};
pub use refusal::Refusal;
pub use sftp::{SftpOptions, serve as serve_sftp};
pub use uploading::Uploading;
pub use view::{Listing, Seen, View};
