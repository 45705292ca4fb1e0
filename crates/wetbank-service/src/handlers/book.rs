//! The book.

use axum::{
    Json,
    extract::State,
    http::{StatusCode, header},
    response::IntoResponse,
};
use wetbank_client as api;
use wetbank_engine::ChangeKind;

use super::{Body, Part, WHO};
use crate::{auth::SignedIn, error::ApiError, map, router::Shared};

fn files(book: api::ProposedBook) -> (Vec<(String, String)>, bool) {
    (book.files.into_iter().map(|file| (file.name, file.text)).collect(), book.whole)
}

fn told(diff: wetbank_engine::BookDiff) -> api::BookDiff {
    api::BookDiff {
        reordered: diff.reordered,
        changes: diff
            .changes
            .into_iter()
            .map(|change| api::BookChange {
                kind: change.kind,
                name: change.name,
                change: match change.change {
                    ChangeKind::Added => "added",
                    ChangeKind::Changed => "changed",
                    ChangeKind::Removed => "removed",
                }
                .to_owned(),
                old: change.old,
                new: change.new,
            })
            .collect(),
    }
}

/// The book in force, as one text.
#[utoipa::path(get, path = "/book", tag = "book", responses((status = 200, body = String, content_type = "application/toml")))]
pub(crate) async fn export(_: SignedIn, State(state): State<Shared>) -> Result<impl IntoResponse, ApiError> {
    Ok(([(header::CONTENT_TYPE, "application/toml")], state.engine.export_book().await?))
}

/// The JSON Schema of the book.
#[utoipa::path(get, path = "/book/schema", tag = "book", responses((status = 200, body = serde_json::Value)))]
pub(crate) async fn schema() -> Json<serde_json::Value> {
    Json(wetbank_core::book_schema())
}

/// Check a proposed book; nothing is changed.
#[utoipa::path(post, path = "/book/check", tag = "book", request_body = api::ProposedBook, responses((status = 204), (status = 422, body = api::Problem)))]
pub(crate) async fn check(
    _: SignedIn,
    State(state): State<Shared>,
    Body(book): Body<api::ProposedBook>,
) -> Result<StatusCode, ApiError> {
    let (files, whole) = files(book);
    state.engine.check_book(&files, whole).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// How a proposed book differs from the one in force; nothing is changed.
#[utoipa::path(post, path = "/book/diff", tag = "book", request_body = api::ProposedBook, responses((status = 200, body = api::BookDiff), (status = 422, body = api::Problem)))]
pub(crate) async fn diff(
    _: SignedIn,
    State(state): State<Shared>,
    Body(book): Body<api::ProposedBook>,
) -> Result<Json<api::BookDiff>, ApiError> {
    let (files, whole) = files(book);
    Ok(Json(told(state.engine.diff_book(&files, whole).await?)))
}

/// Test the places that a proposed book adds or changes; nothing is changed.
#[utoipa::path(post, path = "/book/test", operation_id = "test_book", tag = "book", request_body = api::ProposedBook, responses((status = 200, body = [api::TestedSection]), (status = 422, body = api::Problem)))]
pub(crate) async fn test(
    _: SignedIn,
    State(state): State<Shared>,
    Body(book): Body<api::ProposedBook>,
) -> Result<Json<Vec<api::TestedSection>>, ApiError> {
    let (files, whole) = files(book);
    let tested = state.engine.test_book(&files, whole).await?.into_iter().map(|(place, steps)| api::TestedSection {
        place: place.to_string(),
        fine: steps.iter().all(|step| step.outcome.is_ok()),
        steps: steps.into_iter().map(map::test_step).collect(),
    });
    Ok(Json(tested.collect()))
}

/// Put a proposed book in force; answers what changed.
#[utoipa::path(post, path = "/book/apply", tag = "book", request_body = api::ProposedBook, responses((status = 200, body = api::BookDiff), (status = 422, body = api::Problem)))]
pub(crate) async fn apply(
    _: SignedIn,
    State(state): State<Shared>,
    Body(book): Body<api::ProposedBook>,
) -> Result<Json<api::BookDiff>, ApiError> {
    let (files, whole) = files(book);
    Ok(Json(told(state.engine.apply_book(&files, whole, WHO).await?)))
}

/// Remove a section that nothing else needs.
#[utoipa::path(delete, path = "/book/{kind}/{name}", tag = "book", params(("kind" = String, Path), ("name" = String, Path)), responses((status = 204), (status = 422, body = api::Problem)))]
pub(crate) async fn remove(
    _: SignedIn,
    State(state): State<Shared>,
    Part((kind, name)): Part<(String, String)>,
) -> Result<StatusCode, ApiError> {
    state.engine.remove_section(&kind, &name, WHO).await?;
    Ok(StatusCode::NO_CONTENT)
}
