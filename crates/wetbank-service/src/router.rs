//! The one list of routes and layers.

use std::{sync::Arc, time::Duration};

use axum::{
    Router,
    extract::DefaultBodyLimit,
    http::{HeaderName, HeaderValue, header},
    middleware,
    routing::{any, get},
};
use tower_http::{
    compression::CompressionLayer, csrf::CsrfLayer, limit::RequestBodyLimitLayer, set_header::SetResponseHeaderLayer,
    timeout::RequestBodyTimeoutLayer,
};
use utoipa::OpenApi;
use utoipa_axum::router::OpenApiRouter;

use crate::{
    audit, auth, console, described,
    error::ApiError,
    events,
    handlers::{
        accounts, audit as audits, book, calendars, databases, drafts, keys, me, notices, partners, passkeys, places,
        provider, rehearsals, rules, runs, secrets, sections, session, sign_in, signals, starters, status, tokens,
        twins, users,
    },
    state::Shared,
};

/// The largest request: a book with thousands of rules fits many times.
const LARGEST_BODY: usize = 8 << 20;
/// A request's content may pause so long.
const BODY_SILENCE: Duration = Duration::from_secs(15);

#[derive(OpenApi)]
#[openapi(info(
    title = "Wetbank",
    description = "The API of a Wetbank service. Times are RFC 3339 in UTC, sizes bytes. Errors are problem details (RFC 9457). Lists page by cursor."
))]
struct Document;

fn api() -> OpenApiRouter<Shared> {
    OpenApiRouter::with_openapi(Document::openapi()).nest(
        "/api/v1",
        [
            status::routes(),
            events::routes(),
            rules::routes(),
            runs::routes(),
            places::routes(),
            sign_in::routes(),
            partners::routes(),
            calendars::routes(),
            databases::routes(),
            notices::routes(),
            book::routes(),
            drafts::routes(),
            sections::routes(),
            starters::routes(),
            rehearsals::routes(),
            twins::routes(),
            secrets::routes(),
            keys::routes(),
            session::routes(),
            me::routes(),
            passkeys::routes(),
            provider::routes(),
            users::routes(),
            tokens::routes(),
            audits::routes(),
            accounts::routes(),
        ]
        .into_iter()
        .fold(OpenApiRouter::new(), OpenApiRouter::merge),
    )
}

/// The API's description.
pub fn openapi() -> utoipa::openapi::OpenApi {
    let mut document = api().into_openapi();
    described::complete(&mut document);
    document
}

pub(crate) fn router(shared: Shared) -> Router {
    // Within the routes: which call it is, is known there.
    let recorded = middleware::from_fn_with_state(shared.clone(), audit::record);
    let routes = axum::Router::from(api()).route_layer(recorded);
    let document = Arc::new(openapi());
    let header = |name: HeaderName, value: &'static str| {
        SetResponseHeaderLayer::overriding(name, HeaderValue::from_static(value))
    };
    routes
        .route("/api/v1/openapi.json", get(move || async move { axum::Json((*document).clone()) }))
        .route("/api/{*rest}", any(ApiError::no_call))
        .route(sign_in::BACK, get(sign_in::back))
        .route(provider::BACK, get(provider::back))
        .merge(signals::routes())
        .fallback(console::serve)
        .method_not_allowed_fallback(ApiError::other_method)
        .layer(RequestBodyLimitLayer::new(LARGEST_BODY))
        .layer(RequestBodyTimeoutLayer::new(BODY_SILENCE))
        .layer(DefaultBodyLimit::max(LARGEST_BODY))
        .layer(CsrfLayer::new().with_rejection_response(auth::refused))
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
