//! Secrets. A value goes in and never comes out.

use axum::{Json, extract::State, http::StatusCode};
use secrecy::SecretString;
use utoipa_axum::{router::OpenApiRouter, routes};
use wetbank_client as api;

use crate::{
    auth::{Manager, Viewer},
    error::ApiError,
    extract::{Body, Part},
    shown,
    state::Shared,
};

/// Its routes.
pub(crate) fn routes() -> OpenApiRouter<Shared> {
    OpenApiRouter::new().routes(routes!(secrets)).routes(routes!(set_secret, remove_secret))
}

/// The names of secrets, those that are set and those that are needed.
#[utoipa::path(get, path = "/secrets", tag = "secrets", responses((status = 200, body = [api::SecretName])))]
pub(crate) async fn secrets(_: Viewer, State(state): State<Shared>) -> Result<Json<Vec<api::SecretName>>, ApiError> {
    let mut needed = state.engine.secrets_needed().await?;
    let users = |users: Vec<(String, String)>| {
        users.into_iter().map(|(kind, name)| api::SectionName { kind, name }).collect::<Vec<_>>()
    };
    let kept = state.engine.journal().secrets().await?;
    let mut told: Vec<_> = kept
        .into_iter()
        .map(|(name, at)| {
            let needed_by = users(needed.remove(&name).unwrap_or_default());
            api::SecretName { name, changed: Some(shown::time(at)), needed_by }
        })
        .collect();
    told.extend(needed.into_iter().map(|(name, by)| api::SecretName { name, changed: None, needed_by: users(by) }));
    Ok(Json(told))
}

/// Set a secret.
#[utoipa::path(put, path = "/secrets/{name}", tag = "secrets", params(("name" = String, Path)), request_body = api::SetSecret, responses((status = 204), (status = 409, body = api::Problem)))]
pub(crate) async fn set_secret(
    _: Manager,
    State(state): State<Shared>,
    Part(name): Part<String>,
    Body(body): Body<api::SetSecret>,
) -> Result<StatusCode, ApiError> {
    if body.value.is_empty() {
        return Err(ApiError::bad("the secret is empty; nothing was set"));
    }
    state.engine.set_secret(&name, &SecretString::from(body.value)).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Remove a secret that nothing needs.
#[utoipa::path(delete, path = "/secrets/{name}", tag = "secrets", params(("name" = String, Path)), responses((status = 204), (status = 409, body = api::Problem)))]
pub(crate) async fn remove_secret(
    _: Manager,
    State(state): State<Shared>,
    Part(name): Part<String>,
) -> Result<StatusCode, ApiError> {
    state.engine.remove_secret(&name).await?;
    Ok(StatusCode::NO_CONTENT)
}
