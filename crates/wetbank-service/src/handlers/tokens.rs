//! What programs sign in with.

use axum::{Extension, Json, extract::State, http::StatusCode};
use jiff::Timestamp;
use utoipa_axum::{router::OpenApiRouter, routes};
use wetbank_client as api;
use wetbank_core::Role;
use wetbank_people::{ApiToken, Caller, Means, NewToken};

use super::{session, users};
use crate::{
    audit::Noted,
    auth::{Viewer, needs},
    error::ApiError,
    extract::{Body, Part},
    shown,
    state::Shared,
};

/// Its routes.
pub(crate) fn routes() -> OpenApiRouter<Shared> {
    OpenApiRouter::new().routes(routes!(tokens, make)).routes(routes!(remove))
}

fn shown_token(token: ApiToken) -> api::ApiToken {
    api::ApiToken {
        name: token.name,
        user: token.user,
        role: session::role(token.role),
        maker: token.maker,
        made: shown::time(token.made),
        ends: token.ends.map(shown::time),
        used: token.used.map(shown::time),
    }
}

/// Whose tokens somebody sees: her own; an owner sees all.
fn seen(caller: &Caller) -> Result<Option<&str>, ApiError> {
    if caller.rights.role == Role::Owner {
        return Ok(None);
    }
    match &caller.user {
        Some(user) => Ok(Some(user)),
        None => Err(needs(caller, Role::Owner).err().unwrap_or_else(|| ApiError::forbidden("this is for owners"))),
    }
}

/// Tokens: one's own; an owner sees all.
#[utoipa::path(get, path = "/tokens", tag = "people", responses((status = 200, body = [api::ApiToken])))]
pub(crate) async fn tokens(
    Viewer(caller): Viewer,
    State(state): State<Shared>,
) -> Result<Json<Vec<api::ApiToken>>, ApiError> {
    Ok(Json(state.people.tokens(seen(&caller)?).into_iter().map(shown_token).collect()))
}

/// Make a token: of one's own, or as an owner one of a program. What it is is told this once.
#[utoipa::path(post, path = "/tokens", operation_id = "make_token", tag = "people", request_body = api::MakeToken, responses((status = 200, body = api::MadeToken), (status = 403, body = api::Problem), (status = 409, body = api::Problem)))]
pub(crate) async fn make(
    Viewer(caller): Viewer,
    State(state): State<Shared>,
    Body(body): Body<api::MakeToken>,
) -> Result<(Extension<Noted>, Json<api::MadeToken>), ApiError> {
    if matches!(caller.means, Means::Token(_)) {
        return Err(ApiError::forbidden("a token makes no tokens; sign in, or use the token of the data folder"));
    }
    let role = users::role(body.role);
    if caller.rights.most() < role {
        needs(&caller, role)?;
    }
    let user = caller.user.clone().filter(|_| !body.program);
    if user.is_none() {
        needs(&caller, Role::Owner)?;
    }
    let noted = Noted(format!("{}, {role}", body.name));
    let new = NewToken { name: body.name, user, role, days: body.days };
    let made = state.people.add_token(new, &caller.who, Timestamp::now()).await?;
    Ok((Extension(noted), Json(api::MadeToken { token: made.reveal().to_owned() })))
}

/// Remove a token: one's own, or as an owner any. It counts no more at once.
#[utoipa::path(delete, path = "/tokens/{name}", operation_id = "remove_token", tag = "people", params(("name" = String, Path)), responses((status = 204), (status = 404, body = api::Problem)))]
pub(crate) async fn remove(
    Viewer(caller): Viewer,
    State(state): State<Shared>,
    Part(name): Part<String>,
) -> Result<StatusCode, ApiError> {
    if !state.people.tokens(seen(&caller)?).iter().any(|token| token.name == name) {
        return Err(ApiError::not_found("token", name));
    }
    state.people.remove_token(&name).await?;
    Ok(StatusCode::NO_CONTENT)
}
