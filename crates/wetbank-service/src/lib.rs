//! The service: the API, sign-in, live events and the built console, over one engine.

mod auth;
mod connections;
mod console;
mod day;
mod described;
mod error;
mod events;
mod handlers;
mod listings;
mod map;
mod router;
mod seldom;
mod server;
mod way;

pub use auth::{Token, TokenError};
pub use router::openapi;
pub use server::{Server, ServerError};
