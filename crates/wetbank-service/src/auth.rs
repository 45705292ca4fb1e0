//! Signing in with the local token.
//!
//! Programs send the token as a bearer token. A browser trades it once for a cookie that is
//! `HttpOnly` and `SameSite=Strict`. A browser's request that changes something must also come from
//! our own pages (`tower_http::csrf`): browsers say where a request comes from in `Sec-Fetch-Site`,
//! older ones in `Origin`. The `Host` header must be one of our names (`Listening::answers_to`), so
//! that no foreign name can be pointed here.
//!
//! Behind a reverse proxy `Host` must be passed on unchanged.

use std::{fs, io::Write, os::unix::fs::OpenOptionsExt, path::Path, sync::Arc};

use axum::{
    extract::{FromRequestParts, Request, State},
    http::{HeaderMap, HeaderValue, header, request::Parts},
    middleware::Next,
    response::{IntoResponse, Response},
};
use rand::RngCore;
use tower_http::csrf::ProtectionError;

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

    fn derived(&self, purpose: &str) -> String {
        blake3::Hash::from(blake3::derive_key(purpose, self.0.as_bytes())).to_hex().to_string()
    }

    /// What a browser keeps instead of the token.
    pub(crate) fn session(&self) -> String {
        self.derived("wetbank 2026 console session")
    }

    /// Compares in a time that does not depend on where a difference is.
    pub(crate) fn is(&self, other: &str) -> bool {
        blake3::hash(self.0.as_bytes()) == blake3::hash(other.as_bytes())
    }

    fn is_session(&self, other: &str) -> bool {
        blake3::hash(self.session().as_bytes()) == blake3::hash(other.as_bytes())
    }
}

/// Proof that a request is signed in; a handler that takes it cannot be called without.
#[derive(Debug, Clone, Copy)]
pub(crate) struct SignedIn;

impl FromRequestParts<Shared> for SignedIn {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, state: &Shared) -> Result<Self, ApiError> {
        if let Some(bearer) = text(&parts.headers, header::AUTHORIZATION).and_then(|v| v.strip_prefix("Bearer ")) {
            if state.token.is(bearer) {
                return Ok(Self);
            }
            state.note_refusal(&parts.extensions, "a token that is not valid");
            return Err(ApiError::sign_in("this token is not valid"));
        }
        let cookie = parts
            .headers
            .get_all(header::COOKIE)
            .iter()
            .filter_map(|value| value.to_str().ok())
            .flat_map(|value| value.split(';'))
            .find_map(|pair| pair.trim().strip_prefix(COOKIE)?.strip_prefix('='));
        match cookie {
            Some(session) if state.token.is_session(session) => Ok(Self),
            Some(_) => {
                state.note_refusal(&parts.extensions, "a session that is not valid");
                Err(ApiError::sign_in("the session has ended; sign in again"))
            }
            None => Err(ApiError::sign_in("sign in first")),
        }
    }
}

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
