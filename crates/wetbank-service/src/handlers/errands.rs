//! Databases, notices, and signals of other systems.

use axum::{
    Json,
    body::Bytes,
    extract::State,
    http::{HeaderMap, StatusCode},
};
use wetbank_client as api;
use wetbank_engine::{SignalCall, SignalRefusal};

use super::Part;
use crate::{auth::SignedIn, error::ApiError, map, router::Shared};

/// A larger signal is refused.
pub(crate) const LARGEST_SIGNAL: usize = 256 << 10;
/// Notices that are listed.
const NOTICES: i64 = 200;

/// Every database of the book.
#[utoipa::path(get, path = "/databases", tag = "databases", responses((status = 200, body = [api::Database])))]
pub(crate) async fn databases(_: SignedIn, State(state): State<Shared>) -> Json<Vec<api::Database>> {
    let told = |status: wetbank_engine::DatabaseStatus| api::Database {
        name: status.database.name.to_string(),
        kind: status.database.kind_word().to_owned(),
        address: status.database.address(),
        title: status.database.title,
        rules: status.rules.iter().map(ToString::to_string).collect(),
    };
    Json(state.engine.databases().into_iter().map(told).collect())
}

/// Sign in to a database and look what is there.
#[utoipa::path(post, path = "/databases/{name}/test", tag = "databases", params(("name" = String, Path)), responses((status = 200, body = api::DatabaseTest), (status = 404, body = api::Problem)))]
pub(crate) async fn test_database(
    _: SignedIn,
    State(state): State<Shared>,
    Part(name): Part<String>,
) -> Result<Json<api::DatabaseTest>, ApiError> {
    let (fine, said) = match state.engine.test_database(&name).await? {
        Ok(said) => (true, said),
        Err(error) => (false, error.to_string()),
    };
    Ok(Json(api::DatabaseTest { fine, said }))
}

/// The newest mails without files, those that wait first.
#[utoipa::path(get, path = "/notices", tag = "notices", responses((status = 200, body = [api::Notice])))]
pub(crate) async fn notices(_: SignedIn, State(state): State<Shared>) -> Result<Json<Vec<api::Notice>>, ApiError> {
    let mails = state.engine.journal().mails(NOTICES).await?;
    Ok(Json(mails.into_iter().map(map::notice).collect()))
}

/// Try to send a mail again now.
#[utoipa::path(post, path = "/notices/{id}/retry", tag = "notices", params(("id" = i64, Path)), responses((status = 204), (status = 409, body = api::Problem)))]
pub(crate) async fn retry_notice(
    _: SignedIn,
    State(state): State<Shared>,
    Part(id): Part<i64>,
) -> Result<StatusCode, ApiError> {
    state.engine.mail_again(id).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Another system starts a rule. It is not signed in: what it says is proved by `Wetbank-Proof`.
pub(crate) async fn signal(
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
