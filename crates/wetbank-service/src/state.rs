//! What handlers share.

use std::sync::Arc;

use axum::http::Extensions;
use rand::RngCore;
use tokio_util::sync::CancellationToken;
use wetbank_engine::Engine;

use crate::{
    Token,
    listening::{Listening, Peer},
    listings::Listings,
    seldom::Seldom,
};

/// What handlers share.
#[derive(Debug, Clone)]
pub(crate) struct Shared {
    pub engine: Engine,
    pub token: Token,
    pub listening: Arc<Listening>,
    pub stopping: CancellationToken,
    pub listings: Listings,
    ticket: Arc<str>,
    refusals: Arc<Seldom>,
}

impl Shared {
    pub fn new(engine: Engine, token: Token, listening: Listening) -> Self {
        let mut bytes = [0u8; 16];
        rand::rngs::OsRng.fill_bytes(&mut bytes);
        let ticket: String = hex::encode(bytes);
        Self {
            engine,
            token,
            listening: Arc::new(listening),
            stopping: CancellationToken::new(),
            listings: Listings::default(),
            ticket: ticket.into(),
            refusals: Arc::default(),
        }
    }

    /// Somebody was not let in.
    pub fn note_refusal(&self, extensions: &Extensions, what: &str) {
        if let Some(times) = self.refusals.now() {
            let address = extensions.get::<Peer>().map(|peer| peer.address.to_string()).unwrap_or_default();
            tracing::warn!(address, times, "a sign-in was refused: {what}");
        }
    }

    /// Good for signing a browser in until the service stops.
    pub fn ticket(&self) -> &str {
        &self.ticket
    }

    pub fn ticket_fits(&self, ticket: &str) -> bool {
        ticket.len() == self.ticket.len() && ticket == &*self.ticket
    }
}
