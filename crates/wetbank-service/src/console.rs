//! The built console, out of the binary.

use axum::{
    http::{StatusCode, Uri, header},
    response::{IntoResponse, Response},
};
use rust_embed::RustEmbed;

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
