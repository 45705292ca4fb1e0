//! Signing in to places that a person agrees to.

use axum::{
    Extension, Json,
    extract::{Query, State},
    http::{HeaderMap, header},
    response::{IntoResponse, Redirect, Response},
};
use serde::Deserialize;
use utoipa_axum::{router::OpenApiRouter, routes};
use wetbank_client as api;
use wetbank_engine::{SignInOffer, SignInState};
use wetbank_places::right_words;

use crate::{
    auth::{Manager, Viewer},
    error::ApiError,
    extract::{Body, Part},
    listening::Peer,
    state::Shared,
};

/// Where people come back to.
pub(crate) const BACK: &str = "/signed-in";

/// Its routes.
pub(crate) fn routes() -> OpenApiRouter<Shared> {
    OpenApiRouter::new().routes(routes!(offer, begin))
}

/// What a person is asked to agree to before the place can be used, and whether somebody did.
#[utoipa::path(get, path = "/places/{name}/sign-in", tag = "places", params(("name" = String, Path)), responses((status = 200, body = api::SignInOffer), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
pub(crate) async fn offer(
    _: Viewer,
    State(state): State<Shared>,
    Part(name): Part<String>,
) -> Result<Json<api::SignInOffer>, ApiError> {
    Ok(Json(shown_offer(state.engine.sign_in_offer(&name).await?)))
}

/// Begin to ask: answers the page on which a person signs in and agrees.
#[utoipa::path(post, path = "/places/{name}/sign-in", tag = "places", params(("name" = String, Path)), request_body = api::BeginSignIn, responses((status = 200, body = api::SignInBegun), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
pub(crate) async fn begin(
    _: Manager,
    State(state): State<Shared>,
    Part(name): Part<String>,
    peer: Option<Extension<Peer>>,
    headers: HeaderMap,
    Body(how): Body<api::BeginSignIn>,
) -> Result<Json<api::SignInBegun>, ApiError> {
    if how.by_code {
        let asked = state.engine.ask_by_code(&name).await?;
        let (page, seconds) = (asked.direct.unwrap_or(asked.page), asked.good_for.as_secs());
        return Ok(Json(api::SignInBegun { page, code: Some(asked.code), seconds: Some(seconds) }));
    }
    // The host was checked before: it is this machine or the address that we listen on.
    let host = headers.get(header::HOST).and_then(|value| value.to_str().ok());
    let host = host.ok_or_else(|| ApiError::bad("the request names no host to come back to"))?;
    let is_private = peer.is_some_and(|Extension(peer)| peer.is_private);
    let scheme = if is_private { "https" } else { "http" };
    let page = state.engine.ask_on_page(&name, &format!("{scheme}://{host}{BACK}")).await?;
    Ok(Json(api::SignInBegun { page, code: None, seconds: None }))
}

#[derive(Deserialize)]
pub(crate) struct Answer {
    #[serde(default)]
    state: String,
    code: Option<String>,
    error: Option<String>,
}

/// A person comes back from the server's page. The address holds what only the server could
/// know, so no other proof is asked: a browser that comes from elsewhere brings no cookie.
pub(crate) async fn back(State(state): State<Shared>, Query(answer): Query<Answer>) -> Response {
    let said = match (answer.code, answer.error) {
        (Some(code), None) => Ok(code),
        (_, error) => Err(error.unwrap_or_else(|| "nothing".to_owned())),
    };
    let to = match state.engine.answered_on_page(&answer.state, said).await {
        Ok((place, Ok(()))) => format!("/places/{place}?test=now"),
        // The place's page tells why.
        Ok((place, Err(error))) => {
            tracing::warn!(%place, %error, "nobody signed in");
            format!("/places/{place}")
        }
        Err(error) => {
            tracing::warn!(%error, "nobody signed in");
            "/places".to_owned()
        }
    };
    Redirect::to(&to).into_response()
}

fn shown_offer(offer: SignInOffer) -> api::SignInOffer {
    let (state, why, granted) = match offer.state {
        SignInState::Never => (api::SignInState::Never, None, None),
        SignInState::Waiting => (api::SignInState::Waiting, None, None),
        SignInState::Agreed(granted) => (api::SignInState::Agreed, None, granted),
        SignInState::Failed(why) => (api::SignInState::Failed, Some(why), None),
    };
    let right = |right: String| api::Right { meaning: right_words(&right).map(str::to_owned), right };
    let rights = offer.rights.into_iter().map(right).collect();
    api::SignInOffer { server: offer.server, client: offer.client, rights, state, why, granted }
}
