//! Secrets and OpenPGP keys. A secret's value goes in and never comes out.

use axum::{Json, extract::State, http::StatusCode};
use base64::{Engine as _, prelude::BASE64_STANDARD};
use secrecy::SecretString;
use serde::Deserialize;
use utoipa::IntoParams;
use wetbank_client as api;

use super::{Asked, Body, Part};
use crate::{auth::SignedIn, error::ApiError, map, router::Shared};

/// The names of secrets.
#[utoipa::path(get, path = "/secrets", tag = "secrets", responses((status = 200, body = [api::SecretName])))]
pub(crate) async fn secrets(_: SignedIn, State(state): State<Shared>) -> Result<Json<Vec<api::SecretName>>, ApiError> {
    let secrets = state.engine.journal().secrets().await?;
    Ok(Json(secrets.into_iter().map(|(name, at)| api::SecretName { name, changed: map::time(at) }).collect()))
}

/// Set a secret.
#[utoipa::path(put, path = "/secrets/{name}", tag = "secrets", params(("name" = String, Path)), request_body = api::SetSecret, responses((status = 204), (status = 409, body = api::Problem)))]
pub(crate) async fn set_secret(
    _: SignedIn,
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

/// Remove a secret that no place needs.
#[utoipa::path(delete, path = "/secrets/{name}", tag = "secrets", params(("name" = String, Path)), responses((status = 204), (status = 409, body = api::Problem)))]
pub(crate) async fn remove_secret(
    _: SignedIn,
    State(state): State<Shared>,
    Part(name): Part<String>,
) -> Result<StatusCode, ApiError> {
    state.engine.remove_secret(&name).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Every OpenPGP key.
#[utoipa::path(get, path = "/keys", tag = "keys", responses((status = 200, body = [api::Key])))]
pub(crate) async fn keys(_: SignedIn, State(state): State<Shared>) -> Result<Json<Vec<api::Key>>, ApiError> {
    Ok(Json(state.engine.keys().await?.into_iter().map(map::key).collect()))
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct ExportQuery {
    /// The secret part too, still under its passphrase.
    #[serde(default)]
    secret: bool,
}

/// A key as armoured text.
#[utoipa::path(get, path = "/keys/{name}", tag = "keys", params(("name" = String, Path), ExportQuery), responses((status = 200, body = String), (status = 404, body = api::Problem)))]
pub(crate) async fn export_key(
    _: SignedIn,
    State(state): State<Shared>,
    Part(name): Part<String>,
    Asked(query): Asked<ExportQuery>,
) -> Result<String, ApiError> {
    Ok(state.engine.export_key(&name, query.secret).await?)
}

/// Import a key, or bring one up to date.
#[utoipa::path(put, path = "/keys/{name}", tag = "keys", params(("name" = String, Path)), request_body = api::ImportKey, responses((status = 200, body = api::Key), (status = 422, body = api::Problem)))]
pub(crate) async fn import_key(
    _: SignedIn,
    State(state): State<Shared>,
    Part(name): Part<String>,
    Body(body): Body<api::ImportKey>,
) -> Result<Json<api::Key>, ApiError> {
    let passphrase = body.passphrase.map(SecretString::from);
    let export = match body.base64 {
        Some(text) => BASE64_STANDARD
            .decode(text.trim())
            .map_err(|error| ApiError::bad(format!("the key's base64 cannot be read: {error}")))?,
        None => body.text.into_bytes(),
    };
    let key = state.engine.import_key(&name, &export, passphrase.as_ref()).await?;
    Ok(Json(map::key(key)))
}

/// Remove a key.
#[utoipa::path(delete, path = "/keys/{name}", tag = "keys", params(("name" = String, Path)), responses((status = 204), (status = 404, body = api::Problem)))]
pub(crate) async fn remove_key(
    _: SignedIn,
    State(state): State<Shared>,
    Part(name): Part<String>,
) -> Result<StatusCode, ApiError> {
    state.engine.remove_key(&name).await?;
    Ok(StatusCode::NO_CONTENT)
}
