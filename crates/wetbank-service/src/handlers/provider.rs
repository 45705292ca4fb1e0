//! A provider that vouches for people (OpenID Connect).

use axum::{
    Json,
    extract::{Query, State},
    http::{Extensions, HeaderMap, HeaderValue, StatusCode, header},
    response::{IntoResponse, Redirect, Response},
};
use jiff::Timestamp;
use secrecy::SecretString;
use serde::Deserialize;
use utoipa_axum::{router::OpenApiRouter, routes};
use wetbank_client as api;
use wetbank_people::{Came, PeopleError, Provider, Purpose};

use super::{
    me::herself,
    session::{asking, cookie},
};
use crate::{
    audit,
    auth::{Owner, Viewer, identify, one_cookie},
    error::ApiError,
    extract::Body,
    listening::origin,
    state::Shared,
};

/// Where the provider sends people back to.
pub(crate) const BACK: &str = "/signed-in-by";
/// What tells that a browser was sent. It comes along when the provider sends it back, as no strict cookie would.
const SENT: &str = "wetbank_sent";

/// Its routes.
pub(crate) fn routes() -> OpenApiRouter<Shared> {
    OpenApiRouter::new()
        .routes(routes!(provider, put, remove))
        .routes(routes!(ways))
        .routes(routes!(send))
        .routes(routes!(disconnect))
}

/// The provider that vouches for people here, if there is one.
#[utoipa::path(get, path = "/provider", tag = "people", responses((status = 200, body = Option<api::Provider>)))]
pub(crate) async fn provider(_: Owner, State(state): State<Shared>) -> Result<Json<Option<api::Provider>>, ApiError> {
    let shown = |Provider { title, issuer, client }| api::Provider { title, issuer, client };
    Ok(Json(state.people.provider().await?.map(shown)))
}

/// Name the provider that vouches for people here. It is asked at once whether it is there.
#[utoipa::path(put, path = "/provider", operation_id = "put_provider", tag = "people", request_body = api::PutProvider, responses((status = 204), (status = 422, body = api::Problem), (status = 502, body = api::Problem)))]
pub(crate) async fn put(
    _: Owner,
    State(state): State<Shared>,
    Body(body): Body<api::PutProvider>,
) -> Result<StatusCode, ApiError> {
    let api::PutProvider { title, issuer, client, secret } = body;
    let [title, issuer, client] = [title, issuer, client].map(|text| text.trim().to_owned());
    if title.is_empty() || client.is_empty() {
        return Err(ApiError::bad("say how people call the provider, and what this service is called there"));
    }
    let secret = secret.filter(|secret| !secret.is_empty()).map(SecretString::from);
    state.people.set_provider(Provider { title, issuer, client }, secret.as_ref()).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Name no provider any more.
#[utoipa::path(delete, path = "/provider", operation_id = "remove_provider", tag = "people", responses((status = 204)))]
pub(crate) async fn remove(_: Owner, State(state): State<Shared>) -> Result<StatusCode, ApiError> {
    state.people.remove_provider().await?;
    Ok(StatusCode::NO_CONTENT)
}

/// How one may sign in here besides name and password.
#[utoipa::path(get, path = "/sign-in-ways", operation_id = "sign_in_ways", tag = "sign-in", responses((status = 200, body = api::SignInWays)))]
pub(crate) async fn ways(State(state): State<Shared>) -> Result<Json<api::SignInWays>, ApiError> {
    Ok(Json(api::SignInWays { provider: state.people.provider().await?.map(|provider| provider.title) }))
}

/// Begin to sign in by the provider, or to be known by it from now on: where the browser is to go. The answer sets a
/// cookie, with which it comes back.
#[utoipa::path(post, path = "/session/provider/new", operation_id = "ask_provider", tag = "sign-in", request_body = api::AskProvider, responses((status = 200, body = api::ProviderAsked), (status = 409, body = api::Problem), (status = 410, body = api::Problem), (status = 502, body = api::Problem)))]
pub(crate) async fn send(
    State(state): State<Shared>,
    headers: HeaderMap,
    extensions: Extensions,
    Body(body): Body<api::AskProvider>,
) -> Result<Response, ApiError> {
    let purpose = match body.link {
        Some(link) => Purpose::Link(link),
        None if body.connect => {
            let caller = identify(&state, &headers, &extensions)?;
            Purpose::Connect(herself(&caller)?.to_owned())
        }
        None => Purpose::SignIn,
    };
    let back = format!("{}{BACK}", origin(&headers, &extensions));
    let secure = if back.starts_with("https:") { "; Secure" } else { "" };
    let sent = state.people.send(purpose, &back, Timestamp::now()).await?;
    let kept = format!("{SENT}={}; Path={BACK}; HttpOnly; SameSite=Lax; Max-Age=600{secure}", sent.browser.reveal());
    let mut response = Json(api::ProviderAsked { address: sent.address }).into_response();
    response.headers_mut().insert(header::SET_COOKIE, HeaderValue::from_str(&kept).expect("plain text"));
    Ok(response)
}

/// The provider vouches for oneself no more.
#[utoipa::path(delete, path = "/me/provider", operation_id = "disconnect", tag = "sign-in", responses((status = 204), (status = 422, body = api::Problem)))]
pub(crate) async fn disconnect(Viewer(caller): Viewer, State(state): State<Shared>) -> Result<StatusCode, ApiError> {
    state.people.disconnect(herself(&caller)?).await?;
    Ok(StatusCode::NO_CONTENT)
}

#[derive(Deserialize)]
pub(crate) struct Answer {
    #[serde(default)]
    state: String,
    #[serde(default)]
    code: String,
}

/// Why nobody is in, as a word that the page has words for: no text of an address is ever shown.
fn why(error: &PeopleError) -> &'static str {
    match error {
        PeopleError::Nobody => "nobody",
        PeopleError::Others => "others",
        PeopleError::NoLink => "link",
        _ => "provider",
    }
}

/// Takes back whom the provider sends.
pub(crate) async fn back(
    State(state): State<Shared>,
    Query(answer): Query<Answer>,
    headers: HeaderMap,
    extensions: Extensions,
) -> Response {
    let browser = one_cookie(&headers, SENT).unwrap_or_default();
    let asking = asking(&headers, &extensions);
    let came = state.people.come_back(&answer.state, &answer.code, browser, &asking, Timestamp::now()).await;
    match came {
        Ok(Came::In(opened)) => {
            if let Err(error) = audit::signed_in(&state, &opened.who, &extensions, BACK).await {
                return error.into_response();
            }
            let with_cookie = cookie(opened.cookie.reveal(), opened.for_seconds, &extensions);
            let mut response = Redirect::to("/").into_response();
            response.headers_mut().extend(with_cookie.headers().clone());
            response
        }
        Ok(Came::Connected(_)) => Redirect::to("/settings?tab=you").into_response(),
        Err(error) => {
            state.note_refusal(&extensions, &error.to_string());
            Redirect::to(&format!("/sign-in?why={}", why(&error))).into_response()
        }
    }
}
