//! The SSH File Transfer Protocol, version 3 (draft-ietf-secsh-filexfer-02), client and server,
//! over any byte stream.
//!
//! Names, handles and messages are bytes, as the protocol has them. Every length and count a
//! peer sends is checked against the bytes that came. Many requests are in flight at once, a
//! short read goes on at its true offset, and a caller that goes away leaks nothing.

mod attributes;
mod client;
mod codec;
mod server;
mod wire;

pub use attributes::{Attributes, FileType};
pub use client::{Client, ClientError, Directory, Limits, Name, OpenFlags, RemoteFile, SpaceLeft};
pub use codec::{Malformed, StatusCode};
pub use server::{Answer, Files, Listed, OpenFile, OpenFolder, Opening, Room, ServeError, Status, serve};
pub use wire::{Bytewise, Incoming, Outgoing};
