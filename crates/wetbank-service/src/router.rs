//! The one list of routes and layers.

use std::{net::SocketAddr, sync::Arc, time::Duration};

use axum::{
    Router,
    extract::DefaultBodyLimit,
    http::{Extensions, HeaderName, HeaderValue, header},
    middleware,
    routing::{get, post},
};
use rand::RngCore;
use tokio_util::sync::CancellationToken;
use tower_http::{
    compression::CompressionLayer, limit::RequestBodyLimitLayer, set_header::SetResponseHeaderLayer,
    timeout::RequestBodyTimeoutLayer,
};
use utoipa::OpenApi;
use utoipa_axum::{router::OpenApiRouter, routes};
use wetbank_engine::Engine;

use crate::{
    Token, auth,
    connections::Peer,
    console, described, events,
    handlers::{book, calendars, errands, keys, partners, places, rules, runs, sign_in, status},
    listings::Listings,
    seldom::Seldom,
};

/// The largest request: a book with thousands of rules fits many times.
const LARGEST_BODY: usize = 8 << 20;
/// A request's content may pause so long.
const BODY_SILENCE: Duration = Duration::from_secs(15);

/// What handlers share.
#[derive(Debug, Clone)]
pub(crate) struct Shared {
    pub engine: Engine,
    pub token: Token,
    pub listen: SocketAddr,
    pub stopping: CancellationToken,
    pub listings: Listings,
    ticket: Arc<str>,
    refusals: Arc<Seldom>,
}

impl Shared {
    pub fn new(engine: Engine, token: Token, listen: SocketAddr, stopping: CancellationToken) -> Self {
        let mut bytes = [0u8; 16];
        rand::rngs::OsRng.fill_bytes(&mut bytes);
        let ticket: String = hex::encode(bytes);
        Self {
            engine,
            token,
            listen,
            stopping,
            listings: Listings::default(),
            ticket: ticket.into(),
            refusals: Arc::default(),
        }
    }

    /// Somebody was not let in.
    pub fn note_refusal(&self, extensions: &Extensions, what: &str) {
        if let Some(times) = self.refusals.now() {
            let address = extensions.get::<Peer>().map(|peer| peer.0.to_string()).unwrap_or_default();
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

#[derive(OpenApi)]
#[openapi(info(
    title = "Wetbank",
    description = "The API of a Wetbank service. Times are RFC 3339 in UTC, sizes bytes. Errors are problem details (RFC 9457). Lists page by cursor."
))]
struct Document;

fn api() -> OpenApiRouter<Shared> {
    OpenApiRouter::with_openapi(Document::openapi()).nest(
        "/api/v1",
        OpenApiRouter::new()
            .routes(routes!(status::sign_in, status::sign_out))
            .routes(routes!(status::status))
            .routes(routes!(events::events))
            .routes(routes!(rules::rules))
            .routes(routes!(rules::rule))
            .routes(routes!(rules::switch))
            .routes(routes!(rules::run_now))
            .routes(routes!(rules::explain))
            .routes(routes!(runs::runs))
            .routes(routes!(runs::run))
            .routes(routes!(runs::stop))
            .routes(routes!(runs::retry))
            .routes(routes!(runs::holds))
            .routes(routes!(runs::release))
            .routes(routes!(runs::dismiss))
            .routes(routes!(runs::trace))
            .routes(routes!(places::places, places::add))
            .routes(routes!(places::try_new))
            .routes(routes!(places::test))
            .routes(routes!(places::day))
            .routes(routes!(sign_in::offer, sign_in::begin))
            .routes(routes!(places::browse))
            .routes(routes!(places::by_hand))
            .routes(routes!(partners::partners))
            .routes(routes!(calendars::calendars))
            .routes(routes!(calendars::import))
            .routes(routes!(errands::databases))
            .routes(routes!(errands::test_database))
            .routes(routes!(errands::notices))
            .routes(routes!(errands::retry_notice))
            .routes(routes!(book::export))
            .routes(routes!(book::schema))
            .routes(routes!(book::check))
            .routes(routes!(book::diff))
            .routes(routes!(book::test))
            .routes(routes!(book::apply))
            .routes(routes!(book::remove))
            .routes(routes!(keys::secrets))
            .routes(routes!(keys::set_secret, keys::remove_secret))
            .routes(routes!(keys::keys))
            .routes(routes!(keys::export_key, keys::import_key, keys::remove_key)),
    )
}

/// The API's description.
pub fn openapi() -> utoipa::openapi::OpenApi {
    let mut document = api().into_openapi();
    described::complete(&mut document);
    document
}

pub(crate) fn router(shared: Shared) -> Router {
    let routes = axum::Router::from(api());
    let document = Arc::new(openapi());
    let header = |name: HeaderName, value: &'static str| {
        SetResponseHeaderLayer::overriding(name, HeaderValue::from_static(value))
    };
    routes
        .route("/api/v1/openapi.json", get(move || async move { axum::Json((*document).clone()) }))
        .route("/api/{*rest}", get(|| async { crate::error::ApiError::not_found("API call", "of this name") }))
        .route("/sign-in", get(console::sign_in))
        .route(sign_in::BACK, get(sign_in::back))
        .route("/signal/{rule}", post(errands::signal).layer(DefaultBodyLimit::max(errands::LARGEST_SIGNAL)))
        .fallback(console::serve)
        .layer(RequestBodyLimitLayer::new(LARGEST_BODY))
        .layer(RequestBodyTimeoutLayer::new(BODY_SILENCE))
        .layer(DefaultBodyLimit::max(LARGEST_BODY))
        .layer(middleware::from_fn_with_state(shared.clone(), auth::check_host))
        // All but the stream of events, which is told as it comes.
        .layer(CompressionLayer::new())
        .layer(header(header::X_CONTENT_TYPE_OPTIONS, "nosniff"))
        .layer(header(header::X_FRAME_OPTIONS, "DENY"))
        .layer(header(header::REFERRER_POLICY, "no-referrer"))
        .layer(header(
            header::CONTENT_SECURITY_POLICY,
            "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; font-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'",
        ))
        // What is told of files is nobody's to keep; pages and pictures say themselves how long they last.
        .layer(SetResponseHeaderLayer::if_not_present(header::CACHE_CONTROL, HeaderValue::from_static("no-store")))
        .with_state(shared)
}
