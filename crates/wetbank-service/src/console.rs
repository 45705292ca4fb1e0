//! The built console, out of the binary.

use axum::{
    extract::{Query, State},
    http::{Extensions, HeaderValue, StatusCode, Uri, header},
    response::{IntoResponse, Redirect, Response},
};
use rust_embed::RustEmbed;
use serde::Deserialize;

use crate::{auth::COOKIE, listening::Peer, state::Shared};

#[derive(RustEmbed)]
#[folder = "../../console/dist"]
struct Built;

const NOT_BUILT: &str = "<!doctype html><title>Wetbank</title><p>This binary was built without the console. \
                         Build it with <code>cargo xtask build</code>.</p>";

/// A file of the console; every other path is one of its pages.
pub(crate) async fn serve(uri: Uri) -> Response {
    let path = uri.path().trim_start_matches('/');
    let (file, name) = match Built::get(path).filter(|_| !path.is_empty()) {
        Some(file) => (Some(file), path),
        None if path.starts_with("assets/") => return StatusCode::NOT_FOUND.into_response(),
        None => (Built::get("index.html"), "index.html"),
    };
    let Some(file) = file else {
        return ([(header::CONTENT_TYPE, "text/html; charset=utf-8")], NOT_BUILT).into_response();
    };
    let kind = match name.rsplit_once('.').map_or("", |(_, end)| end) {
        "html" => "text/html; charset=utf-8",
        "js" => "text/javascript; charset=utf-8",
        "css" => "text/css; charset=utf-8",
        "svg" => "image/svg+xml",
        "woff2" => "font/woff2",
        "json" => "application/json",
        _ => "application/octet-stream",
    };
    // Built files bear their content's hash in their names; the page itself may change.
    let age = if name.starts_with("assets/") { "public, max-age=31536000, immutable" } else { "no-cache" };
    ([(header::CONTENT_TYPE, kind), (header::CACHE_CONTROL, age)], file.data).into_response()
}

#[derive(Deserialize)]
pub(crate) struct Ticket {
    #[serde(default)]
    ticket: String,
    /// The page to go to.
    to: Option<String>,
}

/// The link printed at the start: signs a browser in and goes to the console.
pub(crate) async fn sign_in(
    State(state): State<Shared>,
    Query(query): Query<Ticket>,
    extensions: Extensions,
) -> Response {
    let mut response =
        Redirect::to(&query.to.as_deref().and_then(own_page).unwrap_or_else(|| "/".to_owned())).into_response();
    if state.ticket_fits(&query.ticket) {
        response.headers_mut().insert(header::SET_COOKIE, cookie(&state, &extensions));
    } else {
        state.note_refusal(&extensions, "a link that is not valid");
    }
    response
}

/// An address of ours: a path, with no second slash that would make it another host, nor anything that browsers drop
/// from an address before they look at it.
fn own_page(to: &str) -> Option<String> {
    let is_ours = to.starts_with('/') && !to.starts_with("//") && !to.contains('\\') && !to.contains(char::is_control);
    let encoded = |byte: u8| {
        if byte.is_ascii_graphic() { char::from(byte).to_string() } else { format!("%{byte:02X}") }
    };
    is_ours.then(|| to.bytes().map(encoded).collect())
}

/// The cookie that a signed-in browser keeps.
pub(crate) fn cookie(state: &Shared, extensions: &Extensions) -> HeaderValue {
    let is_private = extensions.get::<Peer>().is_some_and(|peer| peer.is_private);
    let secure = if is_private { "; Secure" } else { "" };
    let text =
        format!("{COOKIE}={}; Path=/; HttpOnly; SameSite=Strict; Max-Age=2592000{secure}", state.token.session());
    HeaderValue::from_str(&text).expect("a hexadecimal value")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_a_page_of_ours_is_gone_to() {
        for (to, page) in [
            ("/runs?rule=assay", Some("/runs?rule=assay")),
            ("/places/office?folder=Field notes", Some("/places/office?folder=Field%20notes")),
            ("/rules/gr\u{fc}n", Some("/rules/gr%C3%BCn")),
            ("//elsewhere.example", None),
            ("/\t/elsewhere.example", None),
            ("/\n", None),
            ("/\\elsewhere.example", None),
            ("https://elsewhere.example", None),
        ] {
            assert_eq!(own_page(to).as_deref(), page, "{to:?}");
        }
    }
}
