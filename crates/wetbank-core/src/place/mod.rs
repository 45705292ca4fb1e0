//! Places as the book describes them. Each kind has a file of its own here, which tells everything
//! about it but how it is spoken to.

mod agreement;
mod bucket;
mod connection;
mod folder;
mod ftp;
mod kind;
mod list;
mod mailbox;
mod names;
mod sftp;
mod share;
mod web;
mod webdav;

pub use agreement::AgreedSpec;
pub use bucket::{BucketAddressing, BucketSpec};
pub use connection::SILENCE;
pub use folder::FolderSpec;
pub use ftp::{FtpSecurity, FtpSpec};
pub(crate) use kind::Kind;
pub use list::{PlaceKind, PlaceSpec, place_keys};
pub(crate) use list::{PlaceShape, place_keys_of, place_schema};
pub use mailbox::{MailSecurity, MailServer, MailboxSpec};
pub use names::{Names, is_share_name};
pub use sftp::{SftpSignIn, SftpSpec};
pub use share::ShareSpec;
pub use web::WebSpec;
pub use webdav::{WebSignIn, WebdavSpec};
