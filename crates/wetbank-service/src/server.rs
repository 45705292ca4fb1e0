//! Bind, run, stop.

use std::{io, net::SocketAddr, time::Duration};

use tokio::net::TcpListener;
use tokio_util::sync::CancellationToken;
use wetbank_engine::Engine;

use crate::{Token, connections, router::router, state::Shared};

/// Open requests may take so long to end when the service stops.
const STOP_WITHIN: Duration = Duration::from_secs(5);

/// A service that listens.
#[derive(Debug)]
pub struct Server {
    listener: TcpListener,
    shared: Shared,
}

/// Why a service cannot listen.
#[derive(Debug, thiserror::Error)]
#[error("cannot listen on {address}: {cause}; choose another address with --listen")]
pub struct ServerError {
    address: SocketAddr,
    cause: io::Error,
}

impl Server {
    /// Takes the address. Port 0 takes a free one.
    pub async fn bind(engine: Engine, token: Token, address: SocketAddr) -> Result<Self, ServerError> {
        let failed = |cause| ServerError { address, cause };
        let listener = TcpListener::bind(address).await.map_err(failed)?;
        let listen = listener.local_addr().map_err(failed)?;
        let shared = Shared::new(engine, token, listen, CancellationToken::new());
        Ok(Self { listener, shared })
    }

    /// Where it listens.
    pub fn address(&self) -> SocketAddr {
        self.shared.listen
    }

    /// A link that signs a browser in. It is as good as the token until the service stops.
    pub fn sign_in_link(&self) -> String {
        format!("http://{}/sign-in?ticket={}", self.address(), self.shared.ticket())
    }

    /// Answers requests until told to stop.
    pub async fn run(self, stop: CancellationToken) {
        let stopping = self.shared.stopping.clone();
        let serve = connections::serve(self.listener, router(self.shared), stop.clone());
        let deadline = async {
            stop.cancelled().await;
            // Live streams end by themselves, so that they do not hold the stop up.
            stopping.cancel();
            tokio::time::sleep(STOP_WITHIN).await;
        };
        tokio::select! {
            () = serve => {}
            () = deadline => {}
        }
    }
}
