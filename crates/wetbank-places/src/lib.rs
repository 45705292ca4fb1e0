//! Storage back ends: one trait, one enum of errors, one conformance suite.
//!
//! A [`Place`] is a named folder tree somewhere. All back ends keep the same promises, which
//! the trait's documentation states and the suite in `tests/places/conformance` proves on each.

mod agreement;
mod ahead;
mod blocking;
mod bounded;
mod bucket;
mod error;
mod exclusive;
mod folder;
mod ftp;
mod identity;
mod known;
mod limited;
mod mailbox;
mod open;
mod pieces;
mod place;
mod pool;
mod probe;
mod published;
mod sending;
mod sftp;
mod share;
mod tls;
mod web;
mod webdav;

pub use agreement::{Agreement, AgreementError, AskedByCode, AskedOnPage, GrantKeeper, Granted, right_words};
pub use ahead::Ahead;
pub use bucket::Bucket;
pub use error::{PlaceError, PlaceErrorKind};
pub use folder::{Copied, Folder, Held, Still, WriteBehind, Writers};
pub use ftp::Ftp;
pub use identity::Identity;
pub use limited::Limited;
pub use mailbox::{Mailbox, Post, host_name};
pub use open::{Vault, open, shown_identity};
pub use place::{
    Capabilities, Change, ChangeStream, Collision, Cut, Depth, Entry, EntryKind, EntryStream, Place, ReadStream,
    Staged, fingerprint_of,
};
pub use probe::{ProbeStep, probe, probe_server};
pub use published::Published;
pub use sftp::{HostKey, Sftp, SftpCredentials};
pub use share::Share;
pub use webdav::Webdav;
pub use wetbank_core::Names;
