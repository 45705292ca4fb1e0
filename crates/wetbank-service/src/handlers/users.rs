//! Users: who may come, and what they may do.

use axum::{Extension, Json, extract::State, http::StatusCode};
use jiff::Timestamp;
use utoipa_axum::{router::OpenApiRouter, routes};
use wetbank_client as api;
use wetbank_core::{InvalidRights, Name, Rights, Role};
use wetbank_people::User;

use super::session;
use crate::{
    audit::Noted,
    auth::Owner,
    error::ApiError,
    extract::{Body, Part},
    shown,
    state::Shared,
};

/// Its routes.
pub(crate) fn routes() -> OpenApiRouter<Shared> {
    OpenApiRouter::new()
        .routes(routes!(users))
        .routes(routes!(put, remove))
        .routes(routes!(link))
        .routes(routes!(remove_proofs))
}

pub(super) fn role(role: api::Role) -> Role {
    match role {
        api::Role::Viewer => Role::Viewer,
        api::Role::Operator => Role::Operator,
        api::Role::Manager => Role::Manager,
        api::Role::Owner => Role::Owner,
    }
}

fn shown_user(user: User) -> api::User {
    api::User {
        name: user.name,
        title: user.title,
        role: session::role(user.rights.role),
        groups: session::groups(&user.rights),
        password: user.has_password,
        code: user.has_codes,
        passkeys: user.passkeys,
        vouched: user.is_vouched,
        made: shown::time(user.made),
        seen: user.seen.map(shown::time),
        sessions: user.sessions,
    }
}

/// Everybody who may sign in.
#[utoipa::path(get, path = "/users", tag = "people", responses((status = 200, body = [api::User])))]
pub(crate) async fn users(_: Owner, State(state): State<Shared>) -> Json<Vec<api::User>> {
    Json(state.people.users().into_iter().map(shown_user).collect())
}

/// Add a user, or change how she is called and what she may do. A new one comes in by a link.
#[utoipa::path(put, path = "/users/{name}", operation_id = "put_user", tag = "people", params(("name" = String, Path)), request_body = api::PutUser, responses((status = 200, body = api::User), (status = 400, body = api::Problem), (status = 409, body = api::Problem)))]
pub(crate) async fn put(
    _: Owner,
    State(state): State<Shared>,
    Part(name): Part<String>,
    Body(body): Body<api::PutUser>,
) -> Result<(Extension<Noted>, Json<api::User>), ApiError> {
    let group = |(group, within)| Ok::<_, InvalidRights>((Name::new(group)?, role(within)));
    let groups = body.groups.iter().map(|(group, within)| (group.as_str(), *within)).map(group);
    let rights = groups.collect::<Result<Vec<_>, _>>().and_then(|groups| Rights::new(role(body.role), groups));
    let rights = rights.map_err(|error| ApiError::bad(error.to_string()))?;
    let noted = Noted(format!("{rights}, called {:?}", body.title));
    state.people.put_user(&name, &body.title, rights, Timestamp::now()).await?;
    Ok((Extension(noted), Json(shown_user(state.people.user(&name)?))))
}

/// Remove a user; her sessions and tokens end at once. What she did stays on record.
#[utoipa::path(delete, path = "/users/{name}", operation_id = "remove_user", tag = "people", params(("name" = String, Path)), responses((status = 204), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
pub(crate) async fn remove(
    _: Owner,
    State(state): State<Shared>,
    Part(name): Part<String>,
) -> Result<StatusCode, ApiError> {
    state.people.remove_user(&name).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Make a link by which a user chooses her password, once. One that was made before opens no more.
#[utoipa::path(post, path = "/users/{name}/link", operation_id = "user_link", tag = "people", params(("name" = String, Path)), responses((status = 200, body = api::NewLink), (status = 404, body = api::Problem)))]
pub(crate) async fn link(
    _: Owner,
    State(state): State<Shared>,
    Part(name): Part<String>,
) -> Result<Json<api::NewLink>, ApiError> {
    let (link, until) = state.people.new_link(Some(&name), Timestamp::now()).await?;
    Ok(Json(api::NewLink { address: state.link(&link), until: shown::time(until) }))
}

/// Take away the second factor and the passkeys of a user who lost them.
#[utoipa::path(delete, path = "/users/{name}/proofs", operation_id = "remove_proofs", tag = "people", params(("name" = String, Path)), responses((status = 204), (status = 404, body = api::Problem)))]
pub(crate) async fn remove_proofs(
    _: Owner,
    State(state): State<Shared>,
    Part(name): Part<String>,
) -> Result<StatusCode, ApiError> {
    state.people.remove_proofs(&name).await?;
    Ok(StatusCode::NO_CONTENT)
}
