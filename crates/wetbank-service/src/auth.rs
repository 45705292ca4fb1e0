//! Who asks, and whether he may.
//!
//! Programs send a token as a bearer token: one that somebody made, or that of the data folder. A browser that signed in
//! keeps a cookie that is `HttpOnly` and `SameSite=Strict`. Each handler says in its signature which role it needs. A browser's request that changes something must also come from
//! our own pages (`tower_http::csrf`): browsers say where a request comes from in `Sec-Fetch-Site`,
//! older ones in `Origin`. The `Host` header must be one of our names (`Listening::answers_to`), so
//! that no foreign name can be pointed here.
//!
//! Behind a reverse proxy `Host` must be passed on unchanged.

use std::{fs, io::Write, os::unix::fs::OpenOptionsExt, path::Path, sync::Arc};

use axum::{
    extract::{FromRequestParts, Request, State},
    http::{Extensions, HeaderMap, HeaderValue, StatusCode, header, request::Parts},
    middleware::Next,
    response::{IntoResponse, Response},
};
use jiff::Timestamp;
use rand::RngCore;
use tower_http::csrf::ProtectionError;
use wetbank_core::Role;
use wetbank_people::Caller;

use crate::{connections::Connected, error::ApiError, listening, state::Shared};

/// The cookie's name.
pub(crate) const COOKIE: &str = "wetbank_session";

/// The secret that opens the API, kept in the data folder in a file that only its owner reads.
#[derive(Clone)]
pub struct Token(Arc<str>);

/// Why the token file cannot be used.
#[derive(Debug, thiserror::Error)]
#[error("token file {path} cannot be used: {cause}")]
pub struct TokenError {
    path: String,
    cause: std::io::Error,
}

impl std::fmt::Debug for Token {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Token")
    }
}

impl Token {
    /// Reads the token of a data folder, making one on first use.
    pub fn open(folder: &Path) -> Result<Self, TokenError> {
        let path = folder.join("token");
        let failed = |cause| TokenError { path: path.display().to_string(), cause };
        match fs::read_to_string(&path) {
            Ok(text) if text.trim().len() >= 32 => return Ok(Self(text.trim().into())),
            Ok(_) => fs::remove_file(&path).map_err(failed)?,
            Err(e) if e.kind() == std::io::ErrorKind::NotFound => {}
            Err(e) => return Err(failed(e)),
        }
        let mut bytes = [0u8; 32];
        rand::rngs::OsRng.fill_bytes(&mut bytes);
        let text: String = hex::encode(bytes);
        let mut file = fs::OpenOptions::new().write(true).create_new(true).mode(0o600).open(&path).map_err(failed)?;
        file.write_all(text.as_bytes()).and_then(|()| file.sync_all()).map_err(failed)?;
        Ok(Self(text.into()))
    }

    /// The token itself, for a client on this machine.
    pub fn reveal(&self) -> &str {
        &self.0
    }

    /// Compares in a time that does not depend on where a difference is.
    pub(crate) fn is(&self, other: &str) -> bool {
        blake3::hash(self.0.as_bytes()) == blake3::hash(other.as_bytes())
    }
}

/// A cookie of a request.
pub(crate) fn one_cookie<'a>(headers: &'a HeaderMap, name: &str) -> Option<&'a str> {
    let values = headers.get_all(header::COOKIE).iter().filter_map(|value| value.to_str().ok());
    values.flat_map(|value| value.split(';')).find_map(|pair| pair.trim().strip_prefix(name)?.strip_prefix('='))
}

/// Who asks.
pub(crate) fn identify(state: &Shared, headers: &HeaderMap, extensions: &Extensions) -> Result<Caller, ApiError> {
    let now = Timestamp::now();
    if let Some(bearer) = text(headers, header::AUTHORIZATION).and_then(|value| value.strip_prefix("Bearer ")) {
        if state.token.is(bearer) {
            return Ok(Caller::machine());
        }
        return state.people.token(bearer, now).ok_or_else(|| {
            state.note_refusal(extensions, "a token that is not valid");
            ApiError::sign_in("this token is not valid, or no longer")
        });
    }
    let Some(cookie) = one_cookie(headers, COOKIE) else { return Err(ApiError::sign_in("sign in first")) };
    state.people.session(cookie, now).ok_or_else(|| ApiError::sign_in("the session has ended; sign in again"))
}

/// Whether somebody may do what needs a role.
pub(crate) fn needs(caller: &Caller, role: Role) -> Result<(), ApiError> {
    if caller.rights.role >= role {
        return Ok(());
    }
    let (who, is) = (&caller.who, caller.rights.role);
    let words = match caller.rights.most() >= role {
        true => format!(
            "this needs the role {role} everywhere, and {who} has it within groups only; an owner can change that"
        ),
        false => format!("this needs the role {role}, and {who} is {is}; an owner can change that"),
    };
    Err(lacks(words))
}

/// Whoever asks may not.
pub(crate) fn lacks(words: String) -> ApiError {
    ApiError::new(StatusCode::FORBIDDEN, "role", words)
}

async fn may(parts: &mut Parts, state: &Shared, role: Role, anywhere: bool) -> Result<Caller, ApiError> {
    let caller = match parts.extensions.get::<Caller>() {
        Some(caller) => caller.clone(),
        None => identify(state, &parts.headers, &parts.extensions)?,
    };
    if !anywhere || caller.rights.most() < role {
        needs(&caller, role)?;
    }
    Ok(caller)
}

/// Proof that whoever asks may do what a role may; a handler that takes it cannot be called without.
macro_rules! proof {
    ($name:ident, $role:ident, $anywhere:literal, $what:literal) => {
        #[doc = $what]
        #[derive(Debug, Clone)]
        #[allow(dead_code, reason = "for some handlers it is enough that somebody may")]
        pub(crate) struct $name(pub Caller);

        impl FromRequestParts<Shared> for $name {
            type Rejection = ApiError;

            async fn from_request_parts(parts: &mut Parts, state: &Shared) -> Result<Self, ApiError> {
                Ok(Self(may(parts, state, Role::$role, $anywhere).await?))
            }
        }
    };
}

proof!(Viewer, Viewer, false, "Whoever asks may look.");
proof!(Operator, Operator, false, "Whoever asks may also release, retry, run and settle, everywhere.");
proof!(Manager, Manager, false, "Whoever asks may also arrange, everywhere.");
proof!(Owner, Owner, false, "Whoever asks may also let others in, and set the service up.");
proof!(
    OperatorSomewhere,
    Operator,
    true,
    "Whoever asks may act, perhaps within groups only: `groups` says whether here."
);
proof!(
    ManagerSomewhere,
    Manager,
    true,
    "Whoever asks may arrange, perhaps within groups only: `groups` says whether here."
);

fn text(headers: &HeaderMap, name: header::HeaderName) -> Option<&str> {
    headers.get(name)?.to_str().ok()
}

/// What a page of another site is told.
pub(crate) fn refused(_: ProtectionError) -> Response {
    ApiError::forbidden("this request does not come from the console's own pages").into_response()
}

/// Refuses requests for a host name that is not ours, and notes who asks.
pub(crate) async fn check_host(
    State(state): State<Shared>,
    mut request: Request,
    next: Next,
) -> Result<Response, ApiError> {
    if !state.listening.answers_to(listening::host(request.headers())) {
        return Err(ApiError::forbidden(
            "the service does not answer under this host name; use its address, or start it with --name",
        ));
    }
    if let Some(Connected(address)) = request.extensions().get::<Connected>().copied() {
        let peer = state.listening.peer(address, request.headers());
        request.extensions_mut().insert(peer);
    }
    let mut response = next.run(request).await;
    if state.listening.insists() {
        response.headers_mut().insert(header::STRICT_TRANSPORT_SECURITY, A_YEAR);
    }
    Ok(response)
}

/// For so long a browser comes with TLS only (RFC 6797).
const A_YEAR: HeaderValue = HeaderValue::from_static("max-age=31536000");
