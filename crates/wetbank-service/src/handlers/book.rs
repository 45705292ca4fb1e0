//! The book.

use axum::{
    Json,
    extract::State,
    http::{StatusCode, header},
    response::IntoResponse,
};
use similar::{ChangeTag, TextDiff};
use utoipa_axum::{router::OpenApiRouter, routes};
use wetbank_client as api;
use wetbank_core::{Role, SectionKind};
use wetbank_engine::ChangeKind;

use super::{places::test_step, sections::kind_of};
use crate::{
    auth::{Manager, ManagerSomewhere, Viewer, needs},
    error::ApiError,
    extract::{Body, Part},
    groups,
    state::Shared,
};

fn files(book: api::ProposedBook) -> (Vec<(String, String)>, bool) {
    (book.files.into_iter().map(|file| (file.name, file.text)).collect(), book.whole)
}

/// Two texts as one, line by line.
pub(super) fn lines(old: &str, new: &str) -> Vec<api::ChangedLine> {
    let change = |tag| match tag {
        ChangeTag::Equal => api::LineChange::Same,
        ChangeTag::Insert => api::LineChange::Added,
        ChangeTag::Delete => api::LineChange::Removed,
    };
    let differing = TextDiff::from_lines(old, new);
    let lines = differing.iter_all_changes().map(|line| api::ChangedLine {
        change: change(line.tag()),
        text: line.value().trim_end_matches(['\n', '\r']).to_owned(),
    });
    lines.collect()
}

pub(super) fn told(diff: wetbank_engine::BookDiff) -> api::BookDiff {
    api::BookDiff {
        reordered: diff.reordered,
        changes: diff
            .changes
            .into_iter()
            .map(|change| api::BookChange {
                kind: change.kind,
                name: change.name,
                change: match change.change {
                    ChangeKind::Added => api::ChangeKind::Added,
                    ChangeKind::Changed => api::ChangeKind::Changed,
                    ChangeKind::Removed => api::ChangeKind::Removed,
                },
                lines: lines(change.old.as_deref().unwrap_or_default(), change.new.as_deref().unwrap_or_default()),
                old: change.old,
                new: change.new,
            })
            .collect(),
    }
}

/// Its routes.
pub(crate) fn routes() -> OpenApiRouter<Shared> {
    OpenApiRouter::new()
        .routes(routes!(export))
        .routes(routes!(schema))
        .routes(routes!(check))
        .routes(routes!(diff))
        .routes(routes!(test))
        .routes(routes!(apply))
        .routes(routes!(remove))
}

/// The book in force, as one text.
#[utoipa::path(get, path = "/book", tag = "book", responses((status = 200, body = String, content_type = "application/toml")))]
pub(crate) async fn export(_: Viewer, State(state): State<Shared>) -> Result<impl IntoResponse, ApiError> {
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
    _: ManagerSomewhere,
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
    _: ManagerSomewhere,
    State(state): State<Shared>,
    Body(book): Body<api::ProposedBook>,
) -> Result<Json<api::BookDiff>, ApiError> {
    let (files, whole) = files(book);
    Ok(Json(told(state.engine.diff_book(&files, whole).await?)))
}

/// Test the places that a proposed book adds or changes; nothing is changed.
#[utoipa::path(post, path = "/book/test", operation_id = "test_book", tag = "book", request_body = api::ProposedBook, responses((status = 200, body = [api::TestedSection]), (status = 422, body = api::Problem)))]
pub(crate) async fn test(
    _: Manager,
    State(state): State<Shared>,
    Body(book): Body<api::ProposedBook>,
) -> Result<Json<Vec<api::TestedSection>>, ApiError> {
    let (files, whole) = files(book);
    let tested = state.engine.test_book(&files, whole).await?.into_iter().map(|(place, steps)| api::TestedSection {
        place: place.to_string(),
        fine: steps.iter().all(|step| step.outcome.is_ok()),
        steps: steps.into_iter().map(test_step).collect(),
    });
    Ok(Json(tested.collect()))
}

/// Put a proposed book in force; answers what changed.
#[utoipa::path(post, path = "/book/apply", tag = "book", request_body = api::ProposedBook, responses((status = 200, body = api::BookDiff), (status = 422, body = api::Problem)))]
pub(crate) async fn apply(
    Manager(caller): Manager,
    State(state): State<Shared>,
    Body(book): Body<api::ProposedBook>,
) -> Result<Json<api::BookDiff>, ApiError> {
    let (files, whole) = files(book);
    Ok(Json(told(state.engine.apply_book(&files, whole, &*caller.who).await?)))
}

/// Remove a section that nothing else needs.
#[utoipa::path(delete, path = "/book/{kind}/{name}", tag = "book", params(("kind" = String, Path), ("name" = String, Path)), responses((status = 204), (status = 422, body = api::Problem)))]
pub(crate) async fn remove(
    ManagerSomewhere(caller): ManagerSomewhere,
    State(state): State<Shared>,
    Part((kind, name)): Part<(String, String)>,
) -> Result<StatusCode, ApiError> {
    match kind_of(&kind)? {
        // A place is needed by others' rules, too.
        kind @ (SectionKind::Rule | SectionKind::Twin) => {
            groups::may(&state.engine, &caller, Role::Manager, kind, &name)?;
        }
        _ => needs(&caller, Role::Manager)?,
    }
    state.engine.remove_section(&kind, &name, &caller.who).await?;
    Ok(StatusCode::NO_CONTENT)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_that_is_twice_in_one_text_is_told_where_it_is_new() {
        let told: Vec<String> = lines("a\nb\nc\n", "a\nb\nb\nd\n")
            .into_iter()
            .map(|line| format!("{} {}", line.change, line.text))
            .collect();
        assert_eq!(told.iter().filter(|line| *line == "added b").count(), 1, "{told:?}");
        assert!(told.contains(&"removed c".to_owned()) && told.contains(&"added d".to_owned()), "{told:?}");
        assert_eq!(lines("", "one\r\n")[0].text, "one");
    }
}
