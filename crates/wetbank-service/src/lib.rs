//! The service: the API, sign-in, live events and the built console, over one engine.

mod auth;
mod connections;
mod console;
mod day;
mod described;
mod error;
mod events;
mod extract;
mod handlers;
mod listings;
mod router;
mod seldom;
mod server;
mod shown;
mod state;
mod way;

pub use auth::{Token, TokenError};
pub use router::openapi;
pub use server::{Server, ServerError};
