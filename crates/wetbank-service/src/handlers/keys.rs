//! OpenPGP keys.

use axum::{Json, extract::State, http::StatusCode};
use base64::{Engine as _, prelude::BASE64_STANDARD};
use secrecy::SecretString;
use serde::Deserialize;
use utoipa::IntoParams;
use utoipa_axum::{router::OpenApiRouter, routes};
use wetbank_client as api;
use wetbank_core::Role;
use wetbank_engine::KeyStatus;

use crate::{
    auth::{Manager, Viewer, needs},
    error::ApiError,
    extract::{Asked, Body, Part},
    shown::time,
    state::Shared,
};

/// Its routes.
pub(crate) fn routes() -> OpenApiRouter<Shared> {
    OpenApiRouter::new().routes(routes!(keys)).routes(routes!(export_key, import_key, remove_key))
}

/// Every OpenPGP key.
#[utoipa::path(get, path = "/keys", tag = "keys", responses((status = 200, body = [api::Key])))]
pub(crate) async fn keys(_: Viewer, State(state): State<Shared>) -> Result<Json<Vec<api::Key>>, ApiError> {
    Ok(Json(state.engine.keys().await?.into_iter().map(shown_key).collect()))
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct ExportQuery {
    /// The secret part too, still under its passphrase.
    #[serde(default)]
    secret: bool,
}

/// A key as armoured text; its secret part only for owners.
#[utoipa::path(get, path = "/keys/{name}", tag = "keys", params(("name" = String, Path), ExportQuery), responses((status = 200, body = String), (status = 404, body = api::Problem)))]
pub(crate) async fn export_key(
    Viewer(caller): Viewer,
    State(state): State<Shared>,
    Part(name): Part<String>,
    Asked(query): Asked<ExportQuery>,
) -> Result<String, ApiError> {
    if query.secret {
        needs(&caller, Role::Owner)?;
    }
    Ok(state.engine.export_key(&name, query.secret).await?)
}

/// Import a key, or bring one up to date.
#[utoipa::path(put, path = "/keys/{name}", tag = "keys", params(("name" = String, Path)), request_body = api::ImportKey, responses((status = 200, body = api::Key), (status = 422, body = api::Problem)))]
pub(crate) async fn import_key(
    _: Manager,
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
    Ok(Json(shown_key(key)))
}

/// Remove a key.
#[utoipa::path(delete, path = "/keys/{name}", tag = "keys", params(("name" = String, Path)), responses((status = 204), (status = 404, body = api::Problem)))]
pub(crate) async fn remove_key(
    _: Manager,
    State(state): State<Shared>,
    Part(name): Part<String>,
) -> Result<StatusCode, ApiError> {
    state.engine.remove_key(&name).await?;
    Ok(StatusCode::NO_CONTENT)
}

fn shown_key(key: KeyStatus) -> api::Key {
    api::Key {
        name: key.name,
        fingerprint: key.fingerprint,
        users: key.users,
        has_secret: key.has_secret,
        encrypts: key.encrypts.is_ok(),
        signs: key.signs.is_ok(),
        expires: key.encrypts.as_ref().ok().copied().flatten().map(time),
        unfit: key.encrypts.err(),
        changed: time(key.changed),
    }
}
