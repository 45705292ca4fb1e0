//! Bind, run, stop.

use std::{io, net::SocketAddr, sync::Arc, time::Duration};

use axum::{
    Router,
    extract::{Path, Request, State},
    http::{StatusCode, Uri, header, uri::PathAndQuery},
    response::{IntoResponse, Response},
    routing::get,
};
use tokio::net::TcpListener;
use tokio_util::sync::CancellationToken;
use wetbank_engine::Engine;
use wetbank_people::{People, Secret};
use wetbank_tls::Shown;

use crate::{
    Listening, Reception, Token,
    connections::{self, Answers},
    listening::{host, without_port},
    router::router,
    state::Shared,
};

/// Open requests may take so long to end when the service stops.
const STOP_WITHIN: Duration = Duration::from_secs(5);

/// A service that listens.
#[derive(Debug)]
pub struct Server {
    listener: TcpListener,
    redirecting: Option<TcpListener>,
    shared: Shared,
}

/// Why a service cannot listen.
#[derive(Debug, thiserror::Error)]
pub enum ServerError {
    /// The address cannot be taken.
    #[error("cannot listen on {address}: {cause}; choose another address with {option}")]
    Taken {
        /// The address.
        address: SocketAddr,
        /// Why.
        cause: io::Error,
        /// What chooses it.
        option: &'static str,
    },
    /// Others could read along.
    #[error(
        "will not listen on {0} in clear: whoever is on the way there could read passwords and files. Show a certificate \
         (--certificate FILE --certificate-key FILE, or --own-certificate for a trial), or listen on 127.0.0.1 behind a \
         proxy that does; --others-may-read-along allows it all the same"
    )]
    InClear(SocketAddr),
}

async fn bind(address: SocketAddr, option: &'static str) -> Result<TcpListener, ServerError> {
    TcpListener::bind(address).await.map_err(|cause| ServerError::Taken { address, cause, option })
}

impl Server {
    /// Takes the address; port 0 takes a free one. Without a certificate that is one of this machine, unless others may
    /// read along.
    ///
    /// # Errors
    ///
    /// If it cannot be taken, or others could read along.
    pub async fn bind(
        engine: Engine,
        people: People,
        token: Token,
        mut listening: Listening,
        reception: Reception,
    ) -> Result<Self, ServerError> {
        let (address, option) = (listening.address, "--listen");
        if listening.certificate.is_none() && !address.ip().is_loopback() && !listening.others_may_read_along {
            return Err(ServerError::InClear(address));
        }
        let listener = bind(address, option).await?;
        listening.address = listener.local_addr().map_err(|cause| ServerError::Taken { address, cause, option })?;
        let redirecting = match listening.redirect {
            Some(from) => Some(bind(from, "--redirect").await?),
            None => None,
        };
        Ok(Self { listener, redirecting, shared: Shared::new(engine, people, token, listening, reception) })
    }

    /// How it is reached.
    pub fn listening(&self) -> &Listening {
        &self.shared.listening
    }

    /// Where a link leads that opens once.
    pub fn link(&self, link: &Secret) -> String {
        self.shared.link(link)
    }

    /// Answers requests until told to stop; tells which certificates it may show, whenever that changes.
    pub async fn run(self, tell: impl Fn(&[&Shown]) + Send + 'static, stop: CancellationToken) {
        let stopping = self.shared.stopping.clone();
        let listening = self.shared.listening.clone();
        let renewed = listening.certificate.clone().map(|renewed| tokio::spawn(renewed.follow(tell, stop.clone())));
        let unaware = Router::new()
            .route("/.well-known/acme-challenge/{token}", get(prove))
            .fallback(redirect)
            .with_state(listening.clone());
        let private = listening.served().map(|served| (served.clone(), unaware.clone()));
        let people = self.shared.people.clone();
        let tended = {
            let stop = stop.clone();
            tokio::spawn(async move { people.tend(stop).await })
        };
        let answers = Answers { router: router(self.shared), private };
        let serve = connections::serve(self.listener, answers, stop.clone());
        let redirecting = async {
            match self.redirecting {
                Some(listener) => {
                    connections::serve(listener, Answers { router: unaware, private: None }, stop.clone()).await;
                }
                None => stop.cancelled().await,
            }
        };
        let deadline = async {
            stop.cancelled().await;
            // Live streams end by themselves, so that they do not hold the stop up.
            stopping.cancel();
            tokio::time::sleep(STOP_WITHIN).await;
        };
        tokio::select! {
            _ = async { tokio::join!(serve, redirecting) } => {}
            () = deadline => {}
        }
        if let Some(renewed) = renewed {
            let _ = renewed.await;
        }
        let _ = tended.await;
    }
}

/// What an authority finds that asks whether a name is ours (RFC 8555, section 8.3).
async fn prove(State(listening): State<Arc<Listening>>, Path(token): Path<String>) -> Response {
    match listening.certificate.as_ref().and_then(|renewed| renewed.proof(&token)) {
        Some(proof) => ([(header::CONTENT_TYPE, "application/octet-stream")], proof).into_response(),
        None => StatusCode::NOT_FOUND.into_response(),
    }
}

/// Sends whoever asks in clear to the same page in private.
async fn redirect(State(listening): State<Arc<Listening>>, request: Request) -> Response {
    let host = host(request.headers());
    if !listening.answers_to(host) {
        return (StatusCode::FORBIDDEN, "the service does not answer under this host name\n").into_response();
    }
    let (name, port) = (without_port(host), listening.address.port());
    let port = match port {
        443 => String::new(),
        port => format!(":{port}"),
    };
    let page = request.uri().path_and_query().map_or("/", PathAndQuery::as_str);
    match Uri::try_from(format!("https://{name}{port}{page}")) {
        Ok(to) => (StatusCode::PERMANENT_REDIRECT, [(header::LOCATION, to.to_string())]).into_response(),
        Err(_) => StatusCode::BAD_REQUEST.into_response(),
    }
}
