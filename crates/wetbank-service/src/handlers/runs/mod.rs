//! Runs, items, holds, traces.

mod map;

use std::collections::HashMap;

use axum::{Json, extract::State, http::StatusCode};
use serde::Deserialize;
use utoipa::IntoParams;
use utoipa_axum::{router::OpenApiRouter, routes};
use wetbank_client as api;
use wetbank_core::{ItemKind, ItemState};
use wetbank_engine::Arrangement;
use wetbank_journal::{HoldRecord, Journal, RunFilter, TraceRecord};

use crate::{
    auth::{OperatorSomewhere, Viewer},
    error::ApiError,
    extract::{Asked, Body, Part},
    groups, shown,
    state::Shared,
};

/// Items shown with a run.
const ITEMS: u32 = 200;
const PAGE: u32 = 50;
/// What was made of a traced item, at most so much of each.
const MADE: u32 = 10;
/// A parcel of parcels is followed so far.
const DEEPEST: u32 = 3;

/// Its routes.
pub(crate) fn routes() -> OpenApiRouter<Shared> {
    OpenApiRouter::new()
        .routes(routes!(runs))
        .routes(routes!(run))
        .routes(routes!(stop))
        .routes(routes!(retry))
        .routes(routes!(holds))
        .routes(routes!(release))
        .routes(routes!(dismiss))
        .routes(routes!(trace))
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct RunsQuery {
    /// Only runs of this rule.
    rule: Option<String>,
    /// Only runs in this state.
    state: Option<api::RunState>,
    /// Only runs older than this one.
    before: Option<i64>,
    /// At most so many, 50 by default, 500 at most.
    limit: Option<u32>,
}

/// Runs, newest first.
#[utoipa::path(get, path = "/runs", tag = "runs", params(RunsQuery), responses((status = 200, body = api::RunPage)))]
pub(crate) async fn runs(
    _: Viewer,
    State(state): State<Shared>,
    Asked(query): Asked<RunsQuery>,
) -> Result<Json<api::RunPage>, ApiError> {
    let limit = query.limit.unwrap_or(PAGE).clamp(1, 500);
    let state_asked = query.state.map(|state| state.as_str().to_owned());
    let filter = RunFilter { rule: query.rule, state: state_asked, before: query.before, limit };
    let arrangement = state.engine.arrangement();
    let runs = state.engine.journal().runs(&filter).await?;
    let next = (runs.len() == limit as usize).then(|| runs.last().map(|run| run.id)).flatten();
    let runs = runs.into_iter().map(|run| map::run_summary(&arrangement, run)).collect::<Result<_, _>>()?;
    Ok(Json(api::RunPage { runs, next }))
}

/// One run with its items and their attempts.
#[utoipa::path(get, path = "/runs/{id}", tag = "runs", params(("id" = i64, Path)), responses((status = 200, body = api::Run), (status = 404, body = api::Problem)))]
pub(crate) async fn run(
    _: Viewer,
    State(state): State<Shared>,
    Part(id): Part<i64>,
) -> Result<Json<api::Run>, ApiError> {
    let (journal, arrangement) = (state.engine.journal(), state.engine.arrangement());
    let run = journal.run(id).await?.ok_or_else(|| ApiError::not_found("run", id))?;
    let mut items = Vec::new();
    let found = journal.items(id, 0, ITEMS).await?;
    let mut attempts: HashMap<i64, Vec<_>> = HashMap::new();
    for (item, attempt) in journal.attempts_of(&found.iter().map(|item| item.id).collect::<Vec<_>>()).await? {
        attempts.entry(item).or_default().push(attempt);
    }
    for item in found {
        let attempts = attempts.remove(&item.id).unwrap_or_default();
        let hold = match item.state {
            ItemState::Held => journal.holds(Some(item.id + 1), 1).await?.into_iter().find(|hold| hold.item == item.id),
            _ => None,
        };
        let hold = hold.map(|hold: HoldRecord| map::hold(&arrangement, hold));
        items.push(map::item(&arrangement, (&run.rule, run.version), item, attempts, hold)?);
    }
    Ok(Json(api::Run {
        id: run.id,
        title: shown::title(&arrangement, &run.rule),
        rule: run.rule,
        version: run.version,
        cause: shown::known(api::Cause::parse, &run.cause)?,
        started: shown::time(run.started),
        ended: run.ended.map(shown::time),
        state: shown::known(api::RunState::parse, &run.state)?,
        why: run.why,
        about: map::about(run.about.as_deref()),
        items,
    }))
}

/// Stop a run: what is not at its end is held.
#[utoipa::path(post, path = "/runs/{id}/stop", tag = "runs", params(("id" = i64, Path)), responses((status = 200, body = api::StoppedRun), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
pub(crate) async fn stop(
    OperatorSomewhere(caller): OperatorSomewhere,
    State(state): State<Shared>,
    Part(id): Part<i64>,
) -> Result<Json<api::StoppedRun>, ApiError> {
    groups::may_act_on_run(&state.engine, &caller, id).await?;
    let wetbank_engine::StoppedRun { held, ended, stopping } = state.engine.stop_run(id).await?;
    Ok(Json(api::StoppedRun { held, ended, stopping }))
}

/// Go on with what is held or waits in a run.
#[utoipa::path(post, path = "/runs/{id}/retry", tag = "runs", params(("id" = i64, Path)), request_body = api::Retry, responses((status = 200, body = api::Affected), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
pub(crate) async fn retry(
    OperatorSomewhere(caller): OperatorSomewhere,
    State(state): State<Shared>,
    Part(id): Part<i64>,
    Body(body): Body<api::Retry>,
) -> Result<Json<api::Affected>, ApiError> {
    groups::may_act_on_run(&state.engine, &caller, id).await?;
    Ok(Json(api::Affected { items: state.engine.retry_run(id, body.item).await? }))
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct HoldsQuery {
    /// Only holds of items older than this one.
    before: Option<i64>,
    /// At most so many, 50 by default, 500 at most.
    limit: Option<u32>,
}

/// What waits for a person, newest first.
#[utoipa::path(get, path = "/holds", tag = "holds", params(HoldsQuery), responses((status = 200, body = api::HoldPage)))]
pub(crate) async fn holds(
    _: Viewer,
    State(state): State<Shared>,
    Asked(query): Asked<HoldsQuery>,
) -> Result<Json<api::HoldPage>, ApiError> {
    let limit = query.limit.unwrap_or(PAGE).clamp(1, 500);
    let arrangement = state.engine.arrangement();
    let holds = state.engine.journal().holds(query.before, limit).await?;
    let next = (holds.len() == limit as usize).then(|| holds.last().map(|hold| hold.item)).flatten();
    let holds = holds.into_iter().map(|hold| map::hold(&arrangement, hold)).collect();
    Ok(Json(api::HoldPage { holds, next }))
}

/// Let a held item go on.
#[utoipa::path(post, path = "/holds/{item}/release", tag = "holds", params(("item" = i64, Path)), responses((status = 204), (status = 409, body = api::Problem)))]
pub(crate) async fn release(
    OperatorSomewhere(caller): OperatorSomewhere,
    State(state): State<Shared>,
    Part(item): Part<i64>,
) -> Result<StatusCode, ApiError> {
    groups::may_act_on_item(&state.engine, &caller, item).await?;
    state.engine.release(item).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Give a held item up, saying why.
#[utoipa::path(post, path = "/holds/{item}/dismiss", tag = "holds", params(("item" = i64, Path)), request_body = api::Dismiss, responses((status = 204), (status = 409, body = api::Problem)))]
pub(crate) async fn dismiss(
    OperatorSomewhere(caller): OperatorSomewhere,
    State(state): State<Shared>,
    Part(item): Part<i64>,
    Body(body): Body<api::Dismiss>,
) -> Result<StatusCode, ApiError> {
    groups::may_act_on_item(&state.engine, &caller, item).await?;
    let why = body.why.trim();
    if why.is_empty() {
        return Err(ApiError::bad("say why the file is given up; whoever reads the history later will ask"));
    }
    state.engine.dismiss(item, why).await?;
    Ok(StatusCode::NO_CONTENT)
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct TraceQuery {
    /// Part of a file name (three characters at least), or the beginning of a SHA-256.
    text: String,
    /// At most so many, 50 by default.
    limit: Option<u32>,
}

/// Where files with such a name or checksum came from and went, newest first.
#[utoipa::path(get, path = "/trace", tag = "trace", params(TraceQuery), responses((status = 200, body = api::Traces)))]
pub(crate) async fn trace(
    _: Viewer,
    State(state): State<Shared>,
    Asked(query): Asked<TraceQuery>,
) -> Result<Json<api::Traces>, ApiError> {
    let text = query.text.trim();
    if text.chars().count() < 3 {
        return Err(ApiError::bad("a trace needs at least three characters of the name"));
    }
    let (journal, arrangement) = (state.engine.journal(), state.engine.arrangement());
    let mut items = Vec::new();
    for one in journal.trace(text, query.limit.unwrap_or(PAGE)).await? {
        items.push(traced(journal, &arrangement, one, DEEPEST).await?);
    }
    Ok(Json(api::Traces { items }))
}

/// An item with what was done with it, and with what was made of it so many times.
async fn traced(
    journal: &Journal,
    arrangement: &Arrangement,
    one: TraceRecord,
    deeper: u32,
) -> Result<api::Traced, ApiError> {
    let hops: Vec<_> = journal.attempts(one.item).await?.into_iter().map(map::attempt).collect::<Result<_, _>>()?;
    // What was made of many files is called as its first step named it.
    let is_unnamed = one.kind == ItemKind::Made;
    let named = hops.iter().find_map(|hop| hop.target.clone()).filter(|_| is_unnamed);
    let size = if is_unnamed { hops.iter().find_map(|hop| hop.size).unwrap_or(one.size) } else { one.size };
    let (mut made, mut more) = (Vec::new(), false);
    if deeper > 0 {
        let results = journal.made_of(one.item, MADE + 1).await?;
        more = results.len() > MADE as usize;
        for result in results.into_iter().take(MADE as usize) {
            made.push(Box::pin(traced(journal, arrangement, result, deeper - 1)).await?);
        }
    }
    Ok(api::Traced {
        item: one.item,
        run: one.run,
        title: shown::title(arrangement, &one.rule),
        rule: one.rule,
        file: named.unwrap_or_else(|| one.file.to_string()),
        size,
        state: shown::item_state(one.state),
        why: one.why,
        taken: shown::time(one.taken),
        ended: one.ended.map(shown::time),
        hops,
        made,
        more,
    })
}
