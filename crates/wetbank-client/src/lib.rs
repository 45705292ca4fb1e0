//! The API's types, and a client for it.
//!
//! Times are RFC 3339 texts in UTC, sizes are bytes, paths are the text form of the book.

mod api;
mod http;

pub use api::*;
pub use http::{Client, ClientError, segment};
