//! Who asked for what, on record before it is done, and what came of it.

use axum::{
    extract::{MatchedPath, Request, State},
    http::{Extensions, Method},
    middleware::Next,
    response::Response,
};
use jiff::Timestamp;
use wetbank_journal::NewAct;

use crate::{auth::identify, error::ApiError, listening::Peer, state::Shared};

/// Calls that are posted and change nothing: they look.
const LOOKS: [&str; 12] = [
    "/book/check",
    "/book/diff",
    "/book/test",
    "/drafts/{kind}",
    "/links/look",
    "/places/try",
    "/rehearsals",
    "/twins/{name}/compare",
    "/me/passkeys/new",
    "/me/second-factor/new",
    "/session/passkey/new",
    "/session/provider/new",
];
/// Whose record the handler writes, since nobody has proved who he is before.
const SIGN_INS: [&str; 3] = ["/session", "/session/link", "/session/passkey"];

/// What of a change is worth telling besides the call and what it is about; a handler leaves it with its answer.
#[derive(Debug, Clone)]
pub(crate) struct Noted(pub String);

impl Noted {
    /// Something was switched on or off.
    pub fn switched(is_on: bool) -> Self {
        Self(if is_on { "on" } else { "off" }.to_owned())
    }
}

/// The address of whoever asks.
pub(crate) fn address(extensions: &Extensions) -> String {
    extensions.get::<Peer>().map(|peer| peer.address.to_string()).unwrap_or_default()
}

/// Whether the secret part of a key is asked for: that only looks, but is worth knowing.
fn takes_secret(call: Option<&str>, request: &Request) -> bool {
    // Nothing else is asked of a key.
    call == Some("/keys/{name}") && request.uri().query().is_some()
}

/// Puts what changes something on record: who asks before it is done, what came of it afterwards. What cannot be put on
/// record is not done.
pub(crate) async fn record(
    State(state): State<Shared>,
    mut request: Request,
    next: Next,
) -> Result<Response, ApiError> {
    let call = request.extensions().get::<MatchedPath>().map(|path| path.as_str().trim_start_matches("/api/v1"));
    let looks = matches!(*request.method(), Method::GET | Method::HEAD) && !takes_secret(call, &request);
    let Some(call) = call.filter(|call| !looks && !LOOKS.contains(call)) else { return Ok(next.run(request).await) };
    if SIGN_INS.contains(&call) && request.method() == Method::POST {
        return Ok(next.run(request).await);
    }
    let Ok(caller) = identify(&state, request.headers(), request.extensions()) else {
        return Ok(next.run(request).await);
    };
    let act = NewAct {
        at: Timestamp::now(),
        who: caller.who.to_string(),
        address: address(request.extensions()),
        call: format!("{} {call}", request.method()),
        about: request.uri().path().trim_start_matches("/api/v1").to_owned(),
    };
    request.extensions_mut().insert(caller);
    let journal = state.engine.journal().clone();
    let id = journal.begin_act(act).await?;
    // Whoever asked may go away: what came of it is recorded all the same.
    let doing = tokio::spawn(async move {
        let response = next.run(request).await;
        let note = response.extensions().get::<Noted>().map(|noted| noted.0.clone());
        if let Err(error) = journal.end_act(id, response.status().as_u16(), note).await {
            tracing::warn!(%error, id, "it could not be recorded what came of a call");
        }
        response
    });
    doing.await.map_err(|error| ApiError::internal(&error.to_string()))
}

/// Records that somebody signed in.
pub(crate) async fn signed_in(state: &Shared, who: &str, extensions: &Extensions, call: &str) -> Result<(), ApiError> {
    let (at, who, address) = (Timestamp::now(), who.to_owned(), address(extensions));
    let act = NewAct { at, who, address, call: format!("POST {call}"), about: call.to_owned() };
    let id = state.engine.journal().begin_act(act).await?;
    Ok(state.engine.journal().end_act(id, 204, None).await?)
}
