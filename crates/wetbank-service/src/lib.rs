//! The service: the API, sign-in, live events and the built console, over one engine.

mod acme;
mod audit;
mod auth;
mod certificate;
mod connections;
mod console;
mod day;
mod described;
mod error;
mod events;
mod extract;
mod groups;
mod handlers;
mod listening;
mod listings;
mod reception;
mod router;
mod seldom;
mod server;
mod shown;
mod state;
mod way;

pub use acme::Authority;
pub use auth::{Token, TokenError};
pub use certificate::{CertificateError, CertificateSource, Renewed};
pub use listening::Listening;
pub use reception::{Reception, Sftp};
pub use router::openapi;
pub use server::{Server, ServerError};
pub use wetbank_tls::Shown;
