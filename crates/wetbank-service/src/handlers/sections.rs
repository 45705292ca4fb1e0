//! One section of the book: its text, what it was before, and changing it without losing what somebody else did.

use axum::{
    Json,
    extract::State,
    http::{HeaderMap, HeaderName, header},
    response::IntoResponse,
};
use utoipa_axum::{router::OpenApiRouter, routes};
use wetbank_client as api;
use wetbank_core::{Difference, SectionKind};
use wetbank_engine::{By, Expected, SectionNow};

use super::book::told;
use crate::{
    auth::{Manager, ManagerSomewhere, Viewer},
    error::ApiError,
    extract::{Body, Part},
    groups,
    shown::time,
    state::Shared,
};

/// Its routes.
pub(crate) fn routes() -> OpenApiRouter<Shared> {
    OpenApiRouter::new().routes(routes!(section, put)).routes(routes!(undo)).routes(routes!(gone))
}

pub(super) fn kind_of(kind: &str) -> Result<SectionKind, ApiError> {
    let known = SectionKind::ALL.into_iter().find(|one| one.as_str() == kind);
    known.ok_or_else(|| ApiError::not_found("kind of section", kind))
}

pub(super) fn difference(one: Difference) -> api::Difference {
    api::Difference { words: one.words, unprotects: one.unprotects }
}

fn shown(kind: SectionKind, name: String, section: SectionNow) -> api::Section {
    let (text, version) = section.now.unzip();
    let version_of = |(one, differences): (wetbank_journal::VersionRecord, Vec<Difference>)| api::SectionVersion {
        version: one.version,
        at: time(one.at),
        who: one.who,
        note: one.note,
        text: one.text,
        differences: differences.into_iter().map(difference).collect(),
    };
    let versions = section.versions.into_iter().map(version_of).collect();
    api::Section { kind: kind.as_str().to_owned(), name, text, version, versions }
}

/// A section that is in force, or was: its text, and what it was before with how that differs.
#[utoipa::path(get, path = "/book/{kind}/{name}", operation_id = "section", tag = "book", params(("kind" = String, Path), ("name" = String, Path)), responses((status = 200, body = api::Section, headers(("etag" = String, description = "its version, for If-Match"))), (status = 404, body = api::Problem)))]
pub(crate) async fn section(
    _: Viewer,
    State(state): State<Shared>,
    Part((kind, name)): Part<(String, String)>,
) -> Result<impl IntoResponse, ApiError> {
    let kind = kind_of(&kind)?;
    let found = shown(kind, name.clone(), state.engine.section(kind, &name).await?);
    let etag = found.version.map(|version| [(header::ETAG, format!("\"{version}\""))]);
    Ok((etag, Json(found)))
}

/// What a call expects a section to be (RFC 9110, section 13.1).
fn expected(headers: &HeaderMap) -> Result<Expected, ApiError> {
    let said = |name: HeaderName| headers.get(name).map(|value| value.to_str().unwrap_or_default().trim().to_owned());
    match (said(header::IF_MATCH), said(header::IF_NONE_MATCH)) {
        (None, None) => Ok(Expected::Anything),
        (None, Some(any)) if any == "*" => Ok(Expected::Nothing),
        (Some(version), None) => {
            let number = version.trim_matches('"').parse();
            let words = format!("If-Match has the version of a section, as in \"7\"; here it is {version}");
            Ok(Expected::Version(number.map_err(|_| ApiError::bad(words))?))
        }
        _ => Err(ApiError::bad("say If-Match with a version, or If-None-Match with * for a new section")),
    }
}

/// Put another text of a section in force, or a new section. With `If-Match` (or `If-None-Match: *`) only if nobody
/// changed it meanwhile; else the answer is 409 with what is in force.
#[utoipa::path(put, path = "/book/{kind}/{name}", operation_id = "put_section", tag = "book", params(("kind" = String, Path), ("name" = String, Path), ("If-Match" = Option<String>, Header, description = "the version that was changed"), ("If-None-Match" = Option<String>, Header, description = "* for a new section")), request_body = api::PutSection, responses((status = 200, body = api::BookDiff), (status = 409, body = api::Problem), (status = 422, body = api::Problem)))]
pub(crate) async fn put(
    ManagerSomewhere(caller): ManagerSomewhere,
    State(state): State<Shared>,
    Part((kind, name)): Part<(String, String)>,
    headers: HeaderMap,
    Body(body): Body<api::PutSection>,
) -> Result<Json<api::BookDiff>, ApiError> {
    let by = By { who: &caller.who, note: body.note.as_deref().map(str::trim).filter(|note| !note.is_empty()) };
    groups::may_put(&state.engine, &caller, kind_of(&kind)?, &name, &body.text).await?;
    let put = state.engine.put_section(kind_of(&kind)?, &name, &body.text, expected(&headers)?, by);
    Ok(Json(told(put.await?)))
}

/// Put an earlier text of a section in force again: the one before, or that of a version. One that was removed is there
/// again.
#[utoipa::path(post, path = "/book/{kind}/{name}/undo", operation_id = "undo_section", tag = "book", params(("kind" = String, Path), ("name" = String, Path)), request_body = api::UndoSection, responses((status = 200, body = api::BookDiff), (status = 404, body = api::Problem), (status = 409, body = api::Problem), (status = 422, body = api::Problem)))]
pub(crate) async fn undo(
    Manager(caller): Manager,
    State(state): State<Shared>,
    Part((kind, name)): Part<(String, String)>,
    Body(body): Body<api::UndoSection>,
) -> Result<Json<api::BookDiff>, ApiError> {
    Ok(Json(told(state.engine.undo_section(kind_of(&kind)?, &name, body.version, (&*caller.who).into()).await?)))
}

/// Names of sections of a kind that were removed.
#[utoipa::path(get, path = "/removed/{kind}", operation_id = "removed_sections", tag = "book", params(("kind" = String, Path)), responses((status = 200, body = [String]), (status = 404, body = api::Problem)))]
pub(crate) async fn gone(
    _: Viewer,
    State(state): State<Shared>,
    Part(kind): Part<String>,
) -> Result<Json<Vec<String>>, ApiError> {
    Ok(Json(state.engine.sections_gone(kind_of(&kind)?).await?))
}
