//! Steps: the things that can be done to a file. Each kind has a file of its own here, which tells
//! everything about it but how it is done.

mod call;
mod check_manifest;
mod compress;
mod convert_text;
mod copy;
mod decrypt;
mod delete;
mod deliver;
mod encrypt;
mod expand;
mod extract;
mod fetch;
mod go_on;
mod hold;
mod kind;
mod list;
mod load;
mod mail;
mod make_folder;
mod manifest;
mod move_on;
mod note;
mod pack;
mod program;
mod rename;
mod sign;
mod table;
mod target;
mod unpack;
mod verify;

pub use call::{Call, CallBody};
pub use check_manifest::CheckManifest;
pub use compress::{Compress, Compression};
pub use convert_text::{ConvertText, LineEnds};
pub use copy::Copy;
pub use decrypt::Decrypt;
pub use delete::Delete;
pub use deliver::Deliver;
pub use encrypt::Encrypt;
pub use expand::Expand;
pub use extract::{Asked, Extract};
pub use fetch::Fetch;
pub use go_on::Continue;
pub use hold::Hold;
pub(crate) use kind::Kind;
pub use kind::{Group, Shift, Telling};
pub use list::Step;
pub(crate) use list::{StepShape, Then};
pub use load::{BadRows, Load, Numbers, Twice};
pub use mail::Mail;
pub use make_folder::MakeFolder;
pub use manifest::Manifest;
pub use move_on::Move;
pub use note::Note;
pub use pack::{Pack, PackForm};
pub use program::Program;
pub use rename::Rename;
pub use sign::Sign;
pub use target::{IfExists, Most, Target};
pub use unpack::Unpack;
pub use verify::Verify;

#[cfg(test)]
mod tests;
