//! Signing in and out, and who is signed in.

use std::collections::BTreeMap;

use axum::{
    Json,
    extract::State,
    http::{Extensions, HeaderMap, HeaderValue, StatusCode, header},
    response::{IntoResponse, Response},
};
use jiff::Timestamp;
use secrecy::SecretString;
use serde::Deserialize;
use utoipa::IntoParams;
use utoipa_axum::{router::OpenApiRouter, routes};
use wetbank_client as api;
use wetbank_core::{Rights, Role};
use wetbank_people::{Asking, Caller, Opened, Session, Whose};

use crate::{
    audit,
    auth::{COOKIE, Owner, Viewer, needs},
    error::ApiError,
    extract::{Asked, Body, Part},
    listening::Peer,
    shown,
    state::Shared,
};

/// Its routes.
pub(crate) fn routes() -> OpenApiRouter<Shared> {
    OpenApiRouter::new()
        .routes(routes!(me, sign_in, sign_out))
        .routes(routes!(open_link))
        .routes(routes!(look))
        .routes(routes!(make_link))
        .routes(routes!(sessions))
        .routes(routes!(end))
}

pub(super) fn role(role: Role) -> api::Role {
    match role {
        Role::Viewer => api::Role::Viewer,
        Role::Operator => api::Role::Operator,
        Role::Manager => api::Role::Manager,
        Role::Owner => api::Role::Owner,
    }
}

/// What one may do besides within groups.
pub(super) fn groups(rights: &Rights) -> BTreeMap<String, api::Role> {
    rights.groups().map(|(group, within)| (group.to_string(), role(within))).collect()
}

/// Who one is, and what one may do.
#[utoipa::path(get, path = "/session", tag = "sign-in", responses((status = 200, body = api::Me), (status = 401, body = api::Problem)))]
pub(crate) async fn me(Viewer(caller): Viewer, State(state): State<Shared>) -> Result<Json<api::Me>, ApiError> {
    let user = caller.user.as_deref().map(|user| state.people.user(user)).transpose()?;
    Ok(Json(api::Me {
        who: caller.who.to_string(),
        title: user.as_ref().map_or_else(|| caller.who.to_string(), |user| user.title.clone()),
        role: role(caller.rights.role),
        groups: groups(&caller.rights),
        session: caller.session(),
        password: user.as_ref().is_some_and(|user| user.has_password),
        code: user.as_ref().is_some_and(|user| user.has_codes),
        vouched: user.as_ref().is_some_and(|user| user.is_vouched),
        alone: state.people.users().is_empty(),
        user: caller.user,
    }))
}

/// From where somebody signs in.
pub(super) fn asking<'a>(headers: &'a HeaderMap, extensions: &Extensions) -> Asking<'a> {
    let agent = headers.get(header::USER_AGENT).and_then(|value| value.to_str().ok()).unwrap_or_default();
    let nowhere = std::net::Ipv4Addr::UNSPECIFIED.into();
    Asking { address: extensions.get::<Peer>().map_or(nowhere, |peer| peer.address), agent }
}

/// The answer with the cookie that a signed-in browser keeps.
pub(super) fn cookie(value: &str, seconds: i64, extensions: &Extensions) -> Response {
    let is_private = extensions.get::<Peer>().is_some_and(|peer| peer.is_private);
    let secure = if is_private { "; Secure" } else { "" };
    let text = format!("{COOKIE}={value}; Path=/; HttpOnly; SameSite=Strict; Max-Age={seconds}{secure}");
    let mut response = StatusCode::NO_CONTENT.into_response();
    response.headers_mut().insert(header::SET_COOKIE, HeaderValue::from_str(&text).expect("plain text"));
    response
}

pub(super) async fn let_in(
    state: &Shared,
    opened: Result<Opened, wetbank_people::PeopleError>,
    extensions: &Extensions,
    call: &str,
) -> Result<Response, ApiError> {
    let opened = opened.inspect_err(|error| state.note_refusal(extensions, &error.to_string()))?;
    audit::signed_in(state, &opened.who, extensions, call).await?;
    Ok(cookie(opened.cookie.reveal(), opened.for_seconds, extensions))
}

/// Sign in with name and password, and a code if there is a second factor; or with the token of the data folder. The
/// answer sets a cookie.
#[utoipa::path(post, path = "/session", operation_id = "sign_in", tag = "sign-in", request_body = api::SignIn, responses((status = 204), (status = 401, body = api::Problem), (status = 429, body = api::Problem)))]
pub(crate) async fn sign_in(
    State(state): State<Shared>,
    headers: HeaderMap,
    extensions: Extensions,
    Body(body): Body<api::SignIn>,
) -> Result<Response, ApiError> {
    let (asking, now) = (asking(&headers, &extensions), Timestamp::now());
    let opened = match body {
        api::SignIn { token: Some(token), .. } => {
            if !state.token.is(token.trim()) {
                state.note_refusal(&extensions, "a token that is not valid");
                let words = "this token is not valid; it stands in the file \"token\" of the data folder";
                return Err(ApiError::sign_in(words));
            }
            state.people.open_machine(&asking, now).await
        }
        api::SignIn { name: Some(name), password: Some(password), code, token: None } => {
            state.people.sign_in(&name, &SecretString::from(password), code.as_deref(), &asking, now).await
        }
        _ => return Err(ApiError::bad("say name and password, or token")),
    };
    let_in(&state, opened, &extensions, "/session").await
}

/// Sign in by a link that opens once. A user chooses her password by it. The answer sets a cookie.
#[utoipa::path(post, path = "/session/link", operation_id = "open_link", tag = "sign-in", request_body = api::OpenLink, responses((status = 204), (status = 401, body = api::Problem), (status = 410, body = api::Problem), (status = 422, body = api::Problem), (status = 429, body = api::Problem)))]
pub(crate) async fn open_link(
    State(state): State<Shared>,
    headers: HeaderMap,
    extensions: Extensions,
    Body(body): Body<api::OpenLink>,
) -> Result<Response, ApiError> {
    let (asking, password) = (asking(&headers, &extensions), body.password.map(SecretString::from));
    let now = Timestamp::now();
    let opened = state.people.open_link(&body.link, password.as_ref(), body.code.as_deref(), &asking, now).await;
    let_in(&state, opened, &extensions, "/session/link").await
}

/// What a link opens that opens once; it still does afterwards.
#[utoipa::path(post, path = "/links/look", operation_id = "look_at_link", tag = "sign-in", request_body = api::Link, responses((status = 200, body = api::ShownLink), (status = 410, body = api::Problem)))]
pub(crate) async fn look(
    State(state): State<Shared>,
    Body(body): Body<api::Link>,
) -> Result<Json<api::ShownLink>, ApiError> {
    let shown = state.people.look(&body.link, Timestamp::now()).await?;
    let code = shown.user.as_ref().is_some_and(|user| user.has_codes);
    let (user, title) = shown.user.map(|user| (user.name, user.title)).unzip();
    Ok(Json(api::ShownLink { user, title, code, until: shown::time(shown.ends) }))
}

/// Make a link that signs one browser in as whoever may read the data folder. Only its token makes one.
#[utoipa::path(post, path = "/links", operation_id = "make_link", tag = "sign-in", responses((status = 200, body = api::NewLink), (status = 403, body = api::Problem)))]
pub(crate) async fn make_link(
    Owner(caller): Owner,
    State(state): State<Shared>,
) -> Result<Json<api::NewLink>, ApiError> {
    if caller.user.is_some() || caller.who != Caller::machine().who {
        let words = "only the token of the data folder makes such a link; a colleague's is made for a user";
        return Err(ApiError::forbidden(words));
    }
    let (link, until) = state.people.new_link(None, Timestamp::now()).await?;
    Ok(Json(api::NewLink { address: state.link(&link), until: shown::time(until) }))
}

/// End the session of this browser.
#[utoipa::path(delete, path = "/session", operation_id = "sign_out", tag = "sign-in", responses((status = 204)))]
pub(crate) async fn sign_out(
    Viewer(caller): Viewer,
    State(state): State<Shared>,
    extensions: Extensions,
) -> Result<Response, ApiError> {
    if let Some(session) = caller.session() {
        state.people.end_session(session).await?;
    }
    Ok(cookie("", 0, &extensions))
}

fn shown_session(session: Session, own: Option<i64>) -> api::Session {
    api::Session {
        id: session.id,
        who: session.user.unwrap_or_else(|| Caller::machine().who.to_string()),
        how: session.how,
        address: session.address,
        agent: session.agent,
        began: shown::time(session.began),
        seen: shown::time(session.seen),
        ends: shown::time(session.ends),
        own: own == Some(session.id),
    }
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct SessionsQuery {
    /// Everybody's; for owners.
    #[serde(default)]
    all: bool,
}

/// Browsers that are signed in: one's own, or everybody's.
#[utoipa::path(get, path = "/sessions", tag = "sign-in", params(SessionsQuery), responses((status = 200, body = [api::Session])))]
pub(crate) async fn sessions(
    Viewer(caller): Viewer,
    State(state): State<Shared>,
    Asked(query): Asked<SessionsQuery>,
) -> Result<Json<Vec<api::Session>>, ApiError> {
    if query.all || caller.user.is_none() {
        needs(&caller, Role::Owner)?;
    }
    let of = if query.all { Whose::All } else { Whose::Own(caller.user.as_deref()) };
    let own = caller.session();
    let sessions = state.people.sessions(of, Timestamp::now()).into_iter();
    Ok(Json(sessions.map(|session| shown_session(session, own)).collect()))
}

/// End a session: one's own, or as an owner anybody's.
#[utoipa::path(delete, path = "/sessions/{id}", operation_id = "end_session", tag = "sign-in", params(("id" = i64, Path)), responses((status = 204), (status = 404, body = api::Problem)))]
pub(crate) async fn end(
    Viewer(caller): Viewer,
    State(state): State<Shared>,
    Part(id): Part<i64>,
) -> Result<StatusCode, ApiError> {
    // Of others' sessions she does not learn whether they are there.
    let is_owner = caller.rights.role == Role::Owner;
    let of = if is_owner { Whose::All } else { Whose::Own(caller.user.as_deref()) };
    let seen = caller.user.is_some() || is_owner;
    let found = state.people.sessions(of, Timestamp::now()).into_iter().any(|session| session.id == id);
    if !seen || !found {
        return Err(ApiError::not_found("session", id));
    }
    state.people.end_session(id).await?;
    Ok(StatusCode::NO_CONTENT)
}
