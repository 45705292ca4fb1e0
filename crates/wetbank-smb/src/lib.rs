//! The SMB protocol, versions 2.1 to 3.1.1 ([MS-SMB2]): a client for one share, over any byte
//! stream.
//!
//! It signs in with NTLM version 2 ([MS-NLMP]) and refuses to be let in as a guest. Everything
//! is signed, and encrypted where the caller says so or the server demands it; an answer that is
//! not is never believed. Many requests are in flight at once, within the credits that the server
//! grants. Every length and offset a peer sends is checked against the bytes that came.

mod accounts;
mod client;
mod error;
mod message;
mod ntlm;
mod protect;
mod session;
mod wire;

pub use accounts::AccountId;
pub use client::{Attributes, Client, Directory, Found, Open, RemoteFile};
pub use error::{Error, Malformed, Status};
pub use session::{Account, Protection, Secured};

/// How long a message of a peer may be, without what wraps it: a read or write and its header.
const LONGEST: usize = (8 << 20) + (64 << 10);
