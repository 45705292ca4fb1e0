//! Rules.

use axum::{Json, extract::State, http::StatusCode};
use jiff::Timestamp;
use serde::Deserialize;
use utoipa::IntoParams;
use wetbank_client as api;
use wetbank_core::Name;

use super::{Asked, Body, Part, file};
use crate::{auth::SignedIn, error::ApiError, map, router::Shared};

/// Every rule, in the order they are asked.
#[utoipa::path(get, path = "/rules", tag = "rules", responses((status = 200, body = [api::RuleSummary])))]
pub(crate) async fn rules(_: SignedIn, State(state): State<Shared>) -> Result<Json<Vec<api::RuleSummary>>, ApiError> {
    let now = Timestamp::now();
    let mut rules = Vec::new();
    for live in &state.engine.arrangement().rules {
        rules.push(map::rule_summary(state.engine.journal(), live, now).await?);
    }
    Ok(Json(rules))
}

/// One rule: its branches with today's counts, its text, its earlier versions.
#[utoipa::path(get, path = "/rules/{name}", tag = "rules", params(("name" = String, Path)), responses((status = 200, body = api::Rule), (status = 404, body = api::Problem)))]
pub(crate) async fn rule(
    _: SignedIn,
    State(state): State<Shared>,
    Part(name): Part<String>,
) -> Result<Json<api::Rule>, ApiError> {
    let arrangement = state.engine.arrangement();
    let live = Name::new(&name).ok().and_then(|name| arrangement.rule(&name).cloned());
    let live = live.ok_or_else(|| ApiError::not_found("rule", &name))?;
    let (journal, now) = (state.engine.journal(), Timestamp::now());
    let versions = journal.versions("rule", &name).await?;
    Ok(Json(api::Rule {
        summary: map::rule_summary(journal, &live, now).await?,
        text: live.text.to_string(),
        changed: map::time(live.changed),
        names: live.rule.arrival.names.iter().map(|g| g.glob().glob().to_owned()).collect(),
        settle: map::settle_words(&live.rule),
        below: live.rule.arrival.deep,
        branches: map::branches(journal, &live.rule, now).await?,
        versions: versions
            .into_iter()
            .map(|v| api::Version { version: v.version, at: map::time(v.at), who: v.who, text: v.text })
            .collect(),
    }))
}

/// Switch a rule on or off.
#[utoipa::path(post, path = "/rules/{name}/switch", tag = "rules", params(("name" = String, Path)), request_body = api::Switch, responses((status = 204), (status = 404, body = api::Problem)))]
pub(crate) async fn switch(
    _: SignedIn,
    State(state): State<Shared>,
    Part(name): Part<String>,
    Body(body): Body<api::Switch>,
) -> Result<StatusCode, ApiError> {
    state.engine.switch(&name, body.on).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Run a rule on a chosen file now, also if it took that file before.
#[utoipa::path(post, path = "/rules/{name}/run", tag = "rules", params(("name" = String, Path)), request_body = api::RunFile, responses((status = 200, body = api::Started), (status = 409, body = api::Problem)))]
pub(crate) async fn run_now(
    _: SignedIn,
    State(state): State<Shared>,
    Part(name): Part<String>,
    Body(body): Body<api::RunFile>,
) -> Result<Json<api::Started>, ApiError> {
    let (run, item) = state.engine.run_now(&name, &file(&body.file)?).await?;
    Ok(Json(api::Started { run, item }))
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct ExplainQuery {
    /// `PLACE:/PATH`.
    file: String,
    /// Only this rule.
    rule: Option<String>,
}

/// What every rule, or one, says of a file, comparison by comparison.
#[utoipa::path(get, path = "/explain", tag = "rules", params(ExplainQuery), responses((status = 200, body = api::Explained), (status = 404, body = api::Problem)))]
pub(crate) async fn explain(
    _: SignedIn,
    State(state): State<Shared>,
    Asked(query): Asked<ExplainQuery>,
) -> Result<Json<api::Explained>, ApiError> {
    let explained = state.engine.explain(&file(&query.file)?, query.rule.as_deref()).await?;
    Ok(Json(map::explained(&state.engine.arrangement(), explained)))
}
