//! Rules.

pub(crate) mod map;

use axum::{Extension, Json, extract::State, http::StatusCode};
use jiff::Timestamp;
use serde::Deserialize;
use utoipa::IntoParams;
use utoipa_axum::{router::OpenApiRouter, routes};
use wetbank_client as api;
use wetbank_core::{Name, Role, SectionKind};

use crate::{
    audit::Noted,
    auth::{Manager, ManagerSomewhere, OperatorSomewhere, Viewer},
    error::ApiError,
    extract::{Asked, Body, Part, file},
    groups, shown,
    state::Shared,
};

/// So many firings to come are told.
pub(crate) const FIRINGS: usize = 10;

/// Its routes.
pub(crate) fn routes() -> OpenApiRouter<Shared> {
    OpenApiRouter::new()
        .routes(routes!(rules))
        .routes(routes!(rule))
        .routes(routes!(switch))
        .routes(routes!(run_now))
        .routes(routes!(order))
        .routes(routes!(explain))
}

/// Every rule, in the order they are asked.
#[utoipa::path(get, path = "/rules", tag = "rules", responses((status = 200, body = [api::RuleSummary])))]
pub(crate) async fn rules(_: Viewer, State(state): State<Shared>) -> Result<Json<Vec<api::RuleSummary>>, ApiError> {
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
    _: Viewer,
    State(state): State<Shared>,
    Part(name): Part<String>,
) -> Result<Json<api::Rule>, ApiError> {
    let arrangement = state.engine.arrangement();
    let live = Name::new(&name).ok().and_then(|name| arrangement.rule(&name).cloned());
    let live = live.ok_or_else(|| ApiError::not_found("rule", &name))?;
    let (journal, now) = (state.engine.journal(), Timestamp::now());
    let versions = journal.versions("rule", &name).await?;
    let address = state.listening.link("");
    let signal = state.engine.signal_example(&name, &address).ok();
    let signal = signal.map(|commands| api::SignalHelp { address: format!("{address}/signal/{name}"), commands });
    Ok(Json(api::Rule {
        summary: map::rule_summary(journal, &live, now).await?,
        text: live.text.to_string(),
        changed: shown::time(live.changed),
        starts: wetbank_core::starts_words(&live.rule),
        names: map::names(&live.rule),
        settle: map::settle_words(&live.rule),
        below: live.rule.starts.arrival.as_ref().is_some_and(|arrival| arrival.files.deep),
        firings: state.engine.firings(&live.rule.name, FIRINGS).into_iter().map(shown::time).collect(),
        signal,
        troubles: state.engine.troubles_of(&live.rule).into_iter().map(shown::warning).collect(),
        branches: map::branches(journal, &live.rule, now).await?,
        versions: versions
            .into_iter()
            .map(|v| api::Version { version: v.version, at: shown::time(v.at), who: v.who, text: v.text })
            .collect(),
    }))
}

/// Switch a rule on or off.
#[utoipa::path(post, path = "/rules/{name}/switch", tag = "rules", params(("name" = String, Path)), request_body = api::Switch, responses((status = 204), (status = 404, body = api::Problem)))]
pub(crate) async fn switch(
    ManagerSomewhere(caller): ManagerSomewhere,
    State(state): State<Shared>,
    Part(name): Part<String>,
    Body(body): Body<api::Switch>,
) -> Result<(Extension<Noted>, StatusCode), ApiError> {
    groups::may(&state.engine, &caller, Role::Manager, SectionKind::Rule, &name)?;
    state.engine.switch(&name, body.on).await?;
    Ok((Extension(Noted::switched(body.on)), StatusCode::NO_CONTENT))
}

/// Run a rule now: on a chosen file, also if it took that before, or on all that it is about.
#[utoipa::path(post, path = "/rules/{name}/run", tag = "rules", params(("name" = String, Path)), request_body = api::RunFile, responses((status = 200, body = api::Started), (status = 409, body = api::Problem)))]
pub(crate) async fn run_now(
    OperatorSomewhere(caller): OperatorSomewhere,
    State(state): State<Shared>,
    Part(name): Part<String>,
    Body(body): Body<api::RunFile>,
) -> Result<Json<api::Started>, ApiError> {
    groups::may_act(&state.engine, &caller, &name)?;
    let (run, item) = match body.file {
        Some(chosen) => {
            let (run, item) = state.engine.run_now(&name, &file(&chosen)?).await?;
            (run, Some(item))
        }
        None => (state.engine.run_rule(&name, body.all).await?, None),
    };
    Ok(Json(api::Started { run, item }))
}

/// Say in which order rules are asked.
#[utoipa::path(put, path = "/rule-order", tag = "rules", request_body = api::RuleOrder, responses((status = 204), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
pub(crate) async fn order(
    Manager(caller): Manager,
    State(state): State<Shared>,
    Body(body): Body<api::RuleOrder>,
) -> Result<StatusCode, ApiError> {
    state.engine.order_rules(&body.rules, &caller.who).await?;
    Ok(StatusCode::NO_CONTENT)
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
    _: Viewer,
    State(state): State<Shared>,
    Asked(query): Asked<ExplainQuery>,
) -> Result<Json<api::Explained>, ApiError> {
    let explained = state.engine.explain(&file(&query.file)?, query.rule.as_deref()).await?;
    Ok(Json(map::explained(&state.engine.arrangement(), explained)))
}
