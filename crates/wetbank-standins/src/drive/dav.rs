//! The files: WebDAV (RFC 4918) and changes since a token (RFC 6578).

use std::sync::Arc;

use axum::{
    body::{Body, to_bytes},
    extract::Request,
    http::{HeaderMap, StatusCode, header},
    response::{IntoResponse, Response},
};
use bytes::Bytes;
use percent_encoding::{percent_decode_str, percent_encode, utf8_percent_encode};

use super::{
    Served, locked,
    pages::plain,
    tree::{Node, Tree},
};
use crate::guests::RESERVED;

const LONGEST_BODY: usize = 1 << 30;
/// How tokens of changes begin.
const TOKEN: &str = "urn:wetbank:changes:";

fn header_text<'a>(headers: &'a HeaderMap, name: &str) -> &'a str {
    headers.get(name).and_then(|value| value.to_str().ok()).unwrap_or_default()
}

fn no(status: StatusCode) -> Response {
    status.into_response()
}

/// Names are bytes. They are kept as text in which every character is one of them.
pub(super) fn kept(bytes: &[u8]) -> String {
    bytes.iter().copied().map(char::from).collect()
}

/// The bytes of a kept name.
pub(super) fn told_bytes(kept: &str) -> Vec<u8> {
    kept.chars().map(|c| u8::try_from(u32::from(c)).unwrap_or(b'?')).collect()
}

/// The tenant and path that an address means.
fn place(address: &str) -> Option<(String, String)> {
    let path = address.split_once("://").map_or(address, |(_, rest)| &rest[rest.find('/').unwrap_or(rest.len())..]);
    let bytes: Vec<u8> = percent_decode_str(path.strip_prefix("/dav/")?).collect();
    let path = kept(&bytes);
    let mut parts = path.split('/').filter(|part| !part.is_empty());
    let tenant = parts.next()?.to_owned();
    let parts: Vec<&str> = parts.collect();
    // A name above, or a longer one than any disk takes, is no name here.
    (!parts.iter().any(|part| *part == ".." || *part == ".")).then(|| (tenant, parts.join("/")))
}

fn address(tenant: &str, path: &str, is_folder: bool) -> String {
    let encoded = |part: &str| percent_encode(&told_bytes(part), RESERVED).to_string();
    let parts: String =
        path.split('/').filter(|part| !part.is_empty()).map(|part| format!("/{}", encoded(part))).collect();
    format!("/dav/{}{parts}{}", encoded(tenant), if is_folder { "/" } else { "" })
}

/// What is told of a file or folder.
fn told(tenant: &str, path: &str, node: Option<&Node>) -> String {
    let content = node.and_then(|node| node.content.as_ref());
    let is_folder = content.is_none();
    let mut facts = if is_folder {
        "<D:resourcetype><D:collection/></D:resourcetype>".to_owned()
    } else {
        "<D:resourcetype/>".to_owned()
    };
    if let Some(content) = content {
        facts += &format!("<D:getcontentlength>{}</D:getcontentlength>", content.len());
    }
    if let Some(node) = node {
        let time = node.modified.strftime("%a, %d %b %Y %H:%M:%S GMT");
        facts += &format!("<D:getlastmodified>{time}</D:getlastmodified><D:getetag>{}</D:getetag>", plain(&node.tag));
        facts += &format!("<D:resource-id><D:href>urn:wetbank:file:{}</D:href></D:resource-id>", node.id);
        if !node.owner.is_empty() {
            let owner = utf8_percent_encode(&node.owner, RESERVED);
            facts += &format!("<D:owner><D:href>/people/{owner}</D:href></D:owner>");
        }
    }
    format!(
        "<D:response><D:href>{}</D:href><D:propstat><D:prop>{facts}</D:prop><D:status>HTTP/1.1 200 OK</D:status></D:propstat></D:response>",
        address(tenant, path, is_folder)
    )
}

fn multistatus(body: &str) -> Response {
    let text =
        format!("<?xml version=\"1.0\" encoding=\"utf-8\"?><D:multistatus xmlns:D=\"DAV:\">{body}</D:multistatus>");
    (StatusCode::MULTI_STATUS, [(header::CONTENT_TYPE, "application/xml; charset=utf-8")], text).into_response()
}

/// The text between two marks, whatever the prefix of the first.
fn between<'a>(text: &'a str, name: &str) -> Option<&'a str> {
    let at = text.find(&format!("{name}>"))? + name.len() + 1;
    text[at..].split('<').next().map(str::trim)
}

pub(super) async fn answer(served: &Arc<Served>, request: Request) -> Response {
    let (parts, body) = request.into_parts();
    let method = parts.method.as_str().to_owned();
    *locked(&served.asked).entry(method.clone()).or_default() += 1;
    {
        let mut mischief = locked(&served.mischief);
        if mischief.busy.0 > 0 {
            mischief.busy.0 -= 1;
            let wait = mischief.busy.1.to_string();
            return (StatusCode::TOO_MANY_REQUESTS, [(header::RETRY_AFTER, wait)]).into_response();
        }
    }
    let Some((tenant, path)) = place(parts.uri.path()) else { return no(StatusCode::NOT_FOUND) };
    let token = header_text(&parts.headers, "authorization").strip_prefix("Bearer ").unwrap_or_default();
    let allowed = locked(&served.grants).allowed(token).cloned();
    let Some(allowed) = allowed else {
        return (StatusCode::UNAUTHORIZED, [(header::WWW_AUTHENTICATE, "Bearer")]).into_response();
    };
    let is_theirs = |user: &super::DriveUser| user.name == allowed.user && user.tenant == tenant;
    let reads = matches!(method.as_str(), "GET" | "HEAD" | "OPTIONS" | "PROPFIND" | "REPORT");
    let right = if reads { "files.read" } else { "files.write" };
    if !served.options.users.iter().any(is_theirs) || !allowed.rights.iter().any(|has| has == right) {
        return no(StatusCode::FORBIDDEN);
    }
    let Ok(content) = to_bytes(body, LONGEST_BODY).await else { return no(StatusCode::BAD_REQUEST) };
    if path.split('/').any(|part| part.chars().count() > 255) {
        return no(StatusCode::URI_TOO_LONG);
    }
    let mut trees = locked(&served.trees);
    let Some(tree) = trees.get_mut(&tenant) else { return no(StatusCode::NOT_FOUND) };
    match method.as_str() {
        "OPTIONS" => (StatusCode::OK, [("dav", "1, 3, sync-collection")]).into_response(),
        "PROPFIND" => propfind(served, tree, &tenant, &path, header_text(&parts.headers, "depth")),
        "REPORT" => changes(served, tree, &tenant, &path, &String::from_utf8_lossy(&content)),
        "GET" | "HEAD" => get(tree, &path, header_text(&parts.headers, "range")),
        "PUT" => put(tree, &path, content, &parts.headers, &allowed.user),
        "MKCOL" => make_folder(tree, &path, &allowed.user),
        "DELETE" => match tree.get(&path) {
            Some(_) => {
                tree.remove(&path);
                no(StatusCode::NO_CONTENT)
            }
            None => no(StatusCode::NOT_FOUND),
        },
        "MOVE" => rename(tree, &tenant, &path, &parts.headers),
        _ => no(StatusCode::METHOD_NOT_ALLOWED),
    }
}

fn propfind(served: &Served, tree: &Tree, tenant: &str, path: &str, depth: &str) -> Response {
    let node = tree.get(path);
    if node.is_none() && !path.is_empty() {
        return no(StatusCode::NOT_FOUND);
    }
    let mut body = told(tenant, path, node);
    if depth == "1" && tree.has_folder(path) {
        body.extend(tree.children(path).map(|(path, node)| told(tenant, path, Some(node))));
        if std::mem::take(&mut locked(&served.mischief).cuts_listing) {
            let half: String = body.chars().take(body.chars().count() * 2 / 3).collect();
            let head = "<?xml version=\"1.0\"?><D:multistatus xmlns:D=\"DAV:\">";
            return (StatusCode::MULTI_STATUS, format!("{head}{half}")).into_response();
        }
    }
    multistatus(&body)
}

/// What changed (RFC 6578, section 3), a page at a time.
fn changes(served: &Served, tree: &Tree, tenant: &str, path: &str, asked: &str) -> Response {
    if !tree.has_folder(path) {
        return no(StatusCode::NOT_FOUND);
    }
    let token = between(asked, "sync-token").unwrap_or_default();
    let forgets = std::mem::take(&mut locked(&served.mischief).forgets_changes);
    let since = match token.strip_prefix(TOKEN).map(str::parse::<u64>) {
        Some(Ok(since)) if !forgets && since <= tree.last_change() => since,
        None if token.is_empty() => 0,
        _ => {
            let text = "<?xml version=\"1.0\"?><D:error xmlns:D=\"DAV:\"><D:valid-sync-token/></D:error>";
            return (StatusCode::FORBIDDEN, text).into_response();
        }
    };
    let deep = between(asked, "sync-level") == Some("infinite");
    let limit = between(asked, "nresults").and_then(|text| text.parse().ok()).unwrap_or(usize::MAX);
    let limit = limit.min(served.options.page);
    let mut all = tree.changes_since(path, deep, since);
    let is_cut = all.len() > limit;
    all.truncate(limit);
    let last = if is_cut { all.last().map_or(since, |(changed, ..)| *changed) } else { tree.last_change() };
    let mut body = String::new();
    for (_, path, node) in &all {
        match node {
            Some(node) => body += &told(tenant, path, Some(node)),
            None => {
                let gone = address(tenant, path, false);
                body += &format!(
                    "<D:response><D:href>{gone}</D:href><D:status>HTTP/1.1 404 Not Found</D:status></D:response>"
                );
            }
        }
    }
    if is_cut {
        let here = address(tenant, path, true);
        body += &format!(
            "<D:response><D:href>{here}</D:href><D:status>HTTP/1.1 507 Insufficient Storage</D:status></D:response>"
        );
    }
    multistatus(&format!("{body}<D:sync-token>{TOKEN}{last}</D:sync-token>"))
}

fn get(tree: &Tree, path: &str, range: &str) -> Response {
    let Some(node) = tree.get(path) else { return no(StatusCode::NOT_FOUND) };
    let Some(content) = &node.content else { return no(StatusCode::METHOD_NOT_ALLOWED) };
    let from = range.strip_prefix("bytes=").and_then(|range| range.strip_suffix('-')).map(str::parse::<usize>);
    let (status, content) = match from {
        Some(Ok(from)) if from >= content.len() => return no(StatusCode::RANGE_NOT_SATISFIABLE),
        Some(Ok(from)) => (StatusCode::PARTIAL_CONTENT, content.slice(from..)),
        _ => (StatusCode::OK, content.clone()),
    };
    (status, [(header::ETAG, node.tag.clone())], Body::from(content)).into_response()
}

fn parent(path: &str) -> &str {
    path.rsplit_once('/').map_or("", |(above, _)| above)
}

fn put(tree: &mut Tree, path: &str, content: Bytes, headers: &HeaderMap, who: &str) -> Response {
    if path.is_empty() || tree.get(path).is_some_and(|node| node.content.is_none()) {
        return no(StatusCode::METHOD_NOT_ALLOWED);
    }
    if !tree.has_folder(parent(path)) {
        return no(StatusCode::CONFLICT);
    }
    let known = tree.get(path);
    let must_be = header_text(headers, "if-match");
    if (header_text(headers, "if-none-match") == "*" && known.is_some())
        || (!must_be.is_empty() && known.is_none_or(|node| node.tag != must_be))
    {
        return no(StatusCode::PRECONDITION_FAILED);
    }
    let status = if known.is_some() { StatusCode::NO_CONTENT } else { StatusCode::CREATED };
    tree.put(path, Some(content), who);
    no(status)
}

fn make_folder(tree: &mut Tree, path: &str, who: &str) -> Response {
    if path.is_empty() || tree.get(path).is_some() {
        return no(StatusCode::METHOD_NOT_ALLOWED);
    }
    if !tree.has_folder(parent(path)) {
        return no(StatusCode::CONFLICT);
    }
    tree.put(path, None, who);
    no(StatusCode::CREATED)
}

fn rename(tree: &mut Tree, tenant: &str, from: &str, headers: &HeaderMap) -> Response {
    let to = match place(header_text(headers, "destination")) {
        Some((there, to)) if there == tenant && !to.is_empty() => to,
        _ => return no(StatusCode::FORBIDDEN),
    };
    if to.split('/').any(|part| part.chars().count() > 255) {
        return no(StatusCode::URI_TOO_LONG);
    }
    if tree.get(from).is_none() {
        return no(StatusCode::NOT_FOUND);
    }
    if !tree.has_folder(parent(&to)) {
        return no(StatusCode::CONFLICT);
    }
    let taken = tree.get(&to);
    if taken.is_some() && header_text(headers, "overwrite").eq_ignore_ascii_case("f") {
        return no(StatusCode::PRECONDITION_FAILED);
    }
    if taken.is_some_and(|node| node.content.is_none()) {
        return no(StatusCode::FORBIDDEN);
    }
    let status = if taken.is_some() { StatusCode::NO_CONTENT } else { StatusCode::CREATED };
    tree.rename(from, &to);
    no(status)
}
