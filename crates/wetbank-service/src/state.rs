//! What handlers share.

use std::sync::Arc;

use axum::http::Extensions;
use tokio_util::sync::CancellationToken;
use wetbank_engine::Engine;
use wetbank_people::{People, Secret};

use crate::{
    Reception, Token,
    listening::{Listening, Peer},
    listings::Listings,
    seldom::Seldom,
};

/// What handlers share.
#[derive(Debug, Clone)]
pub(crate) struct Shared {
    pub engine: Engine,
    pub people: People,
    pub token: Token,
    pub reception: Reception,
    pub listening: Arc<Listening>,
    pub stopping: CancellationToken,
    pub listings: Listings,
    refusals: Arc<Seldom>,
}

impl Shared {
    pub fn new(engine: Engine, people: People, token: Token, listening: Listening, reception: Reception) -> Self {
        Self {
            engine,
            people,
            token,
            reception,
            listening: Arc::new(listening),
            stopping: CancellationToken::new(),
            listings: Listings::default(),
            refusals: Arc::default(),
        }
    }

    /// Where a link leads that opens once. What opens stands behind the mark that no browser sends on.
    pub fn link(&self, link: &Secret) -> String {
        self.listening.link(&format!("/sign-in#{}", link.reveal()))
    }

    /// Somebody was not let in.
    pub fn note_refusal(&self, extensions: &Extensions, what: &str) {
        if let Some(times) = self.refusals.now() {
            let address = extensions.get::<Peer>().map(|peer| peer.address.to_string()).unwrap_or_default();
            tracing::warn!(address, times, "a sign-in was refused: {what}");
        }
    }
}
