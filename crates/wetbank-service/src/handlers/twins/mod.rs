//! Twins.

mod map;

use axum::{Extension, Json, extract::State, http::StatusCode};
use serde::Deserialize;
use utoipa::IntoParams;
use utoipa_axum::{router::OpenApiRouter, routes};
use wetbank_client as api;
use wetbank_core::{Cause, Role, SectionKind};

use crate::{
    audit::Noted,
    auth::{ManagerSomewhere, OperatorSomewhere, Viewer},
    error::ApiError,
    extract::{Asked, Body, Part},
    groups,
    state::Shared,
};

/// Passes that are told of a twin in the list, and of one that is asked for.
const LAST: i64 = 3;
const PASSES: i64 = 50;
/// Lines of a plan that are told unless it is said, and at most.
const LINES: usize = 2_000;
const MOST_LINES: usize = 20_000;
/// Files that are told of what is kept.
const KEPT: usize = 5_000;

/// Its routes.
pub(crate) fn routes() -> OpenApiRouter<Shared> {
    OpenApiRouter::new()
        .routes(routes!(twins))
        .routes(routes!(twin))
        .routes(routes!(switch_twin))
        .routes(routes!(compare))
        .routes(routes!(texts))
        .routes(routes!(run_twin))
        .routes(routes!(kept))
        .routes(routes!(restore))
}

/// Every twin, in the order of the book, and how its sides stand.
#[utoipa::path(get, path = "/twins", tag = "twins", responses((status = 200, body = [api::Twin])))]
pub(crate) async fn twins(_: Viewer, State(state): State<Shared>) -> Result<Json<Vec<api::Twin>>, ApiError> {
    let twins = state.engine.twins(LAST).await?;
    Ok(Json(twins.iter().map(map::twin).collect()))
}

/// One twin with its last passes.
#[utoipa::path(get, path = "/twins/{name}", tag = "twins", params(("name" = String, Path)), responses((status = 200, body = api::Twin), (status = 404, body = api::Problem)))]
pub(crate) async fn twin(
    _: Viewer,
    State(state): State<Shared>,
    Part(name): Part<String>,
) -> Result<Json<api::Twin>, ApiError> {
    Ok(Json(map::twin(&state.engine.twin_now(&name, PASSES).await?)))
}

/// Switch a twin on or off: off, a pass is made only when somebody or a rule asks for it.
#[utoipa::path(post, path = "/twins/{name}/switch", tag = "twins", params(("name" = String, Path)), request_body = api::Switch, responses((status = 204), (status = 404, body = api::Problem)))]
pub(crate) async fn switch_twin(
    ManagerSomewhere(caller): ManagerSomewhere,
    State(state): State<Shared>,
    Part(name): Part<String>,
    Body(body): Body<api::Switch>,
) -> Result<(Extension<Noted>, StatusCode), ApiError> {
    groups::may(&state.engine, &caller, Role::Manager, SectionKind::Twin, &name)?;
    state.engine.switch_twin(&name, body.on).await?;
    Ok((Extension(Noted::switched(body.on)), StatusCode::NO_CONTENT))
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct CompareQuery {
    /// So many lines of the plan at most; 2,000 unless it is said, 20,000 at most.
    most: Option<usize>,
}

/// Look at both sides of a twin: what would a pass do, with these choices? Nothing is touched.
#[utoipa::path(post, path = "/twins/{name}/compare", tag = "twins", params(("name" = String, Path), CompareQuery), request_body = api::TwinChoices, responses((status = 200, body = api::TwinComparison), (status = 404, body = api::Problem), (status = 502, body = api::Problem)))]
pub(crate) async fn compare(
    _: Viewer,
    State(state): State<Shared>,
    Part(name): Part<String>,
    Asked(query): Asked<CompareQuery>,
    Body(choices): Body<api::TwinChoices>,
) -> Result<Json<api::TwinComparison>, ApiError> {
    let twin = state.engine.twin(&name)?;
    let most = query.most.unwrap_or(LINES).min(MOST_LINES);
    let comparison = state.engine.compare(&twin, &map::choices(choices)?, most).await?;
    Ok(Json(map::comparison(&twin, comparison)))
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct TextsQuery {
    /// The path on the near side, below the twin's folder.
    near: String,
    /// The path on the far side.
    far: String,
}

/// A text as both sides have it, line by line.
#[utoipa::path(get, path = "/twins/{name}/texts", tag = "twins", params(("name" = String, Path), TextsQuery), responses((status = 200, body = api::TwinTexts), (status = 404, body = api::Problem)))]
pub(crate) async fn texts(
    _: Viewer,
    State(state): State<Shared>,
    Part(name): Part<String>,
    Asked(query): Asked<TextsQuery>,
) -> Result<Json<api::TwinTexts>, ApiError> {
    let twin = state.engine.twin(&name)?;
    let at = wetbank_core::twin::Pair { near: map::path(&query.near)?, far: map::path(&query.far)? };
    let (texts, owners) = (state.engine.texts(&twin, &at).await?, state.engine.owners(&twin, &at).await?);
    let (why_not, lines) = match texts {
        Ok(texts) => (None, super::book::lines(&texts.near, &texts.far)),
        Err(why) => (Some(why), Vec::new()),
    };
    Ok(Json(api::TwinTexts { near_owner: owners.near, far_owner: owners.far, why_not, lines }))
}

/// Make a pass of a twin now, with these choices. What changed since it was looked at is planned anew.
#[utoipa::path(post, path = "/twins/{name}/run", tag = "twins", params(("name" = String, Path)), request_body = api::RunTwin, responses((status = 200, body = api::TwinPassed), (status = 404, body = api::Problem), (status = 502, body = api::Problem)))]
pub(crate) async fn run_twin(
    OperatorSomewhere(caller): OperatorSomewhere,
    State(state): State<Shared>,
    Part(name): Part<String>,
    Body(body): Body<api::RunTwin>,
) -> Result<Json<api::TwinPassed>, ApiError> {
    groups::may(&state.engine, &caller, Role::Operator, SectionKind::Twin, &name)?;
    let (twin, choices) = (state.engine.twin(&name)?, map::choices(body.choices)?);
    // Whoever asked may go away: the pass comes to its end all the same.
    let engine = state.engine.clone();
    let passing = tokio::spawn(async move { engine.pass(&twin, Cause::Hand, &choices).await });
    if body.at_once {
        return Ok(Json(map::begun()));
    }
    let passing = passing.await.map_err(|error| ApiError::internal(&error.to_string()))??;
    Ok(Json(map::passed(&passing)))
}

/// What the sides of a twin keep of what they lost.
#[utoipa::path(get, path = "/twins/{name}/kept", tag = "twins", params(("name" = String, Path)), responses((status = 200, body = api::TwinKeeps), (status = 404, body = api::Problem), (status = 502, body = api::Problem)))]
pub(crate) async fn kept(
    _: Viewer,
    State(state): State<Shared>,
    Part(name): Part<String>,
) -> Result<Json<api::TwinKeeps>, ApiError> {
    let twin = state.engine.twin(&name)?;
    let (kept, more) = state.engine.kept(&twin, KEPT).await?;
    Ok(Json(api::TwinKeeps { kept: kept.iter().map(map::kept).collect(), more }))
}

/// Bring back what a side lost on a day: these paths, or all of it.
#[utoipa::path(post, path = "/twins/{name}/restore", tag = "twins", params(("name" = String, Path)), request_body = api::RestoreTwin, responses((status = 200, body = api::Started), (status = 404, body = api::Problem), (status = 502, body = api::Problem)))]
pub(crate) async fn restore(
    OperatorSomewhere(caller): OperatorSomewhere,
    State(state): State<Shared>,
    Part(name): Part<String>,
    Body(body): Body<api::RestoreTwin>,
) -> Result<Json<api::Started>, ApiError> {
    groups::may(&state.engine, &caller, Role::Operator, SectionKind::Twin, &name)?;
    let twin = state.engine.twin(&name)?;
    let (side, day) = (map::side(&body.side)?, map::day(&body.day)?);
    let paths = body.paths.iter().map(|path| map::path(path)).collect::<Result<Vec<_>, _>>()?;
    match state.engine.restore(&twin, side, day, &paths).await? {
        Some(run) => Ok(Json(api::Started { run, item: None })),
        None => {
            let what = if paths.is_empty() { "anything".to_owned() } else { body.paths.join(", ") };
            let words = format!(
                "the {side} side does not keep {what} of {day}; see what it keeps with: wetbank twin restore {name} --list"
            );
            Err(ApiError::new(StatusCode::NOT_FOUND, "not-kept", words))
        }
    }
}
