//! What a user does about herself.

use axum::{Json, extract::State, http::StatusCode};
use jiff::Timestamp;
use secrecy::SecretString;
use utoipa_axum::{router::OpenApiRouter, routes};
use wetbank_client as api;
use wetbank_people::{Caller, Means, Seed};

use crate::{auth::Viewer, error::ApiError, extract::Body, state::Shared};

/// Its routes.
pub(crate) fn routes() -> OpenApiRouter<Shared> {
    OpenApiRouter::new().routes(routes!(password)).routes(routes!(new_codes)).routes(routes!(set_codes, remove_codes))
}

/// The user who is signed in with a browser. A token is for work: who finds one must not shut its user out.
pub(super) fn herself(caller: &Caller) -> Result<&str, ApiError> {
    match (&caller.user, &caller.means) {
        (Some(user), Means::Session(_)) => Ok(user),
        (Some(_), _) => Err(ApiError::forbidden("a token cannot change how its user signs in; sign in with a browser")),
        (None, _) => Err(ApiError::forbidden(&format!("{} has no password of its own; add a user first", caller.who))),
    }
}

/// Change one's own password; one's other sessions end.
#[utoipa::path(put, path = "/me/password", operation_id = "change_password", tag = "sign-in", request_body = api::ChangePassword, responses((status = 204), (status = 401, body = api::Problem), (status = 422, body = api::Problem), (status = 429, body = api::Problem)))]
pub(crate) async fn password(
    Viewer(caller): Viewer,
    State(state): State<Shared>,
    Body(body): Body<api::ChangePassword>,
) -> Result<StatusCode, ApiError> {
    let (old, new) = (SecretString::from(body.old), SecretString::from(body.new));
    state.people.change_password(herself(&caller)?, &old, &new, caller.session()).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Begin a second factor of one's own: a seed of codes. It counts once a code of it is shown.
#[utoipa::path(post, path = "/me/second-factor/new", operation_id = "new_second_factor", tag = "sign-in", responses((status = 200, body = api::NewCodes), (status = 409, body = api::Problem)))]
pub(crate) async fn new_codes(
    Viewer(caller): Viewer,
    State(state): State<Shared>,
) -> Result<Json<api::NewCodes>, ApiError> {
    let (seed, codes) = state.people.new_codes(herself(&caller)?)?;
    Ok(Json(api::NewCodes { seed: seed.reveal().to_owned(), address: codes.address()? }))
}

/// From now on a code of this seed is asked for at each sign-in.
#[utoipa::path(put, path = "/me/second-factor", operation_id = "set_second_factor", tag = "sign-in", request_body = api::ConfirmCodes, responses((status = 204), (status = 401, body = api::Problem), (status = 409, body = api::Problem)))]
pub(crate) async fn set_codes(
    Viewer(caller): Viewer,
    State(state): State<Shared>,
    Body(body): Body<api::ConfirmCodes>,
) -> Result<StatusCode, ApiError> {
    let seed = Seed::from(SecretString::from(body.seed.trim().to_owned()));
    state.people.set_codes(herself(&caller)?, &seed, &body.code, Timestamp::now()).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Give one's second factor up.
#[utoipa::path(delete, path = "/me/second-factor", operation_id = "remove_second_factor", tag = "sign-in", request_body = api::RemoveCodes, responses((status = 204), (status = 401, body = api::Problem), (status = 429, body = api::Problem)))]
pub(crate) async fn remove_codes(
    Viewer(caller): Viewer,
    State(state): State<Shared>,
    Body(body): Body<api::RemoveCodes>,
) -> Result<StatusCode, ApiError> {
    state.people.remove_codes(herself(&caller)?, &SecretString::from(body.password)).await?;
    Ok(StatusCode::NO_CONTENT)
}
