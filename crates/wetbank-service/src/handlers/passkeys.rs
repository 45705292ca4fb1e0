//! Passkeys: keys that devices hold.

use axum::{
    Json,
    extract::State,
    http::{Extensions, HeaderMap, StatusCode},
    response::Response,
};
use jiff::Timestamp;
use utoipa_axum::{router::OpenApiRouter, routes};
use wetbank_client as api;
use wetbank_people::{Ceremony, Site};

use super::{
    me::herself,
    session::{asking, let_in},
};
use crate::{
    auth::Viewer,
    error::ApiError,
    extract::{Body, Part},
    listening::origin,
    shown,
    state::Shared,
};

/// Its routes.
pub(crate) fn routes() -> OpenApiRouter<Shared> {
    OpenApiRouter::new()
        .routes(routes!(passkeys, keep))
        .routes(routes!(new))
        .routes(routes!(remove))
        .routes(routes!(ask))
        .routes(routes!(open))
}

/// Where the browser is.
fn site(headers: &HeaderMap, extensions: &Extensions) -> Result<Site, ApiError> {
    Ok(Site::new(&origin(headers, extensions))?)
}

fn asked(ceremony: Ceremony) -> Json<api::PasskeyAsked> {
    Json(api::PasskeyAsked { id: ceremony.id, options: ceremony.options })
}

/// One's own passkeys.
#[utoipa::path(get, path = "/me/passkeys", tag = "sign-in", responses((status = 200, body = [api::Passkey])))]
pub(crate) async fn passkeys(
    Viewer(caller): Viewer,
    State(state): State<Shared>,
) -> Result<Json<Vec<api::Passkey>>, ApiError> {
    let hers = state.people.passkeys(herself(&caller)?).into_iter();
    let shown = hers.map(|one| api::Passkey {
        id: one.id,
        title: one.title,
        made: shown::time(one.made),
        used: one.used.map(shown::time),
    });
    Ok(Json(shown.collect()))
}

/// Begin to make a passkey of one's own: what the browser is to be asked.
#[utoipa::path(post, path = "/me/passkeys/new", operation_id = "new_passkey", tag = "sign-in", responses((status = 200, body = api::PasskeyAsked), (status = 409, body = api::Problem)))]
pub(crate) async fn new(
    Viewer(caller): Viewer,
    State(state): State<Shared>,
    headers: HeaderMap,
    extensions: Extensions,
) -> Result<Json<api::PasskeyAsked>, ApiError> {
    let user = herself(&caller)?;
    let site = site(&headers, &extensions)?;
    Ok(asked(state.people.new_passkey(&site, user, Timestamp::now())?))
}

/// Keep a passkey that the browser made.
#[utoipa::path(post, path = "/me/passkeys", operation_id = "keep_passkey", tag = "sign-in", request_body = api::KeepPasskey, responses((status = 204), (status = 409, body = api::Problem)))]
pub(crate) async fn keep(
    Viewer(caller): Viewer,
    State(state): State<Shared>,
    headers: HeaderMap,
    extensions: Extensions,
    Body(body): Body<api::KeepPasskey>,
) -> Result<StatusCode, ApiError> {
    let user = herself(&caller)?;
    let site = site(&headers, &extensions)?;
    state.people.add_passkey(&site, user, &body.id, &body.title, body.credential, Timestamp::now()).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Remove a passkey of one's own; it opens no more at once.
#[utoipa::path(delete, path = "/me/passkeys/{id}", operation_id = "remove_passkey", tag = "sign-in", params(("id" = String, Path)), responses((status = 204), (status = 404, body = api::Problem)))]
pub(crate) async fn remove(
    Viewer(caller): Viewer,
    State(state): State<Shared>,
    Part(id): Part<String>,
) -> Result<StatusCode, ApiError> {
    state.people.remove_passkey(herself(&caller)?, &id).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Begin to sign in with a passkey: what the browser is to be asked.
#[utoipa::path(post, path = "/session/passkey/new", operation_id = "ask_passkey", tag = "sign-in", responses((status = 200, body = api::PasskeyAsked), (status = 409, body = api::Problem)))]
pub(crate) async fn ask(
    State(state): State<Shared>,
    headers: HeaderMap,
    extensions: Extensions,
) -> Result<Json<api::PasskeyAsked>, ApiError> {
    let site = site(&headers, &extensions)?;
    Ok(asked(state.people.ask_passkey(&site, Timestamp::now())?))
}

/// Sign in with a passkey. The answer sets a cookie.
#[utoipa::path(post, path = "/session/passkey", operation_id = "open_passkey", tag = "sign-in", request_body = api::OpenPasskey, responses((status = 204), (status = 401, body = api::Problem), (status = 409, body = api::Problem)))]
pub(crate) async fn open(
    State(state): State<Shared>,
    headers: HeaderMap,
    extensions: Extensions,
    Body(body): Body<api::OpenPasskey>,
) -> Result<Response, ApiError> {
    let (site, asking) = (site(&headers, &extensions)?, asking(&headers, &extensions));
    let opened = state.people.open_passkey(&site, &body.id, body.credential, &asking, Timestamp::now()).await;
    let_in(&state, opened, &extensions, "/session/passkey").await
}
