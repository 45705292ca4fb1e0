//! Signals of other systems. They come outside the API: whoever sends one is not signed in.

use axum::{
    Json, Router,
    body::Bytes,
    extract::{DefaultBodyLimit, State},
    http::{HeaderMap, StatusCode},
    routing::post,
};
use wetbank_client as api;
use wetbank_engine::{SignalCall, SignalRefusal};

use crate::{error::ApiError, extract::Part, state::Shared};

/// A larger signal is refused.
const LARGEST_SIGNAL: usize = 256 << 10;

/// Its route.
pub(crate) fn routes() -> Router<Shared> {
    Router::new().route("/signal/{rule}", post(signal).layer(DefaultBodyLimit::max(LARGEST_SIGNAL)))
}

/// Another system starts a rule. It is not signed in: what it says is proved by `Wetbank-Proof`.
async fn signal(
    State(state): State<Shared>,
    Part(rule): Part<String>,
    headers: HeaderMap,
    body: Bytes,
) -> Result<(StatusCode, Json<api::Started>), ApiError> {
    let text = |name| headers.get(name).and_then(|value| value.to_str().ok()).unwrap_or_default();
    let call = SignalCall { rule: &rule, time: text("wetbank-time"), proof: text("wetbank-proof"), body: &body };
    match state.engine.signal(call).await {
        Ok(run) => Ok((StatusCode::ACCEPTED, Json(api::Started { run, item: None }))),
        Err(SignalRefusal::Engine(error)) => Err(ApiError::from(error).but_not_begun()),
        Err(refusal) => {
            // What a stranger writes into the address must not look like lines of the log.
            let rule: String = rule.escape_debug().take(100).collect();
            tracing::warn!(rule, %refusal, "a signal was refused");
            let (status, code) = match &refusal {
                SignalRefusal::Unproved => (StatusCode::UNAUTHORIZED, "unproved"),
                SignalRefusal::Stale(_) => (StatusCode::FORBIDDEN, "stale"),
                SignalRefusal::Repeated => (StatusCode::CONFLICT, "repeated"),
                SignalRefusal::Off(_) => (StatusCode::SERVICE_UNAVAILABLE, "off"),
                _ => (StatusCode::UNPROCESSABLE_ENTITY, "unusable"),
            };
            Err(ApiError::new(status, code, refusal.to_string()))
        }
    }
}
