//! Ready arrangements with a few questions.

use axum::{Json, extract::State};
use utoipa_axum::{router::OpenApiRouter, routes};
use wetbank_client as api;
use wetbank_core::{SectionKind, Starter, Want, starters as all};
use wetbank_engine::Proposed;

use super::drafts;
use crate::{
    auth::{ManagerSomewhere, Viewer},
    error::ApiError,
    extract::{Body, Part},
    state::Shared,
};

/// Its routes.
pub(crate) fn routes() -> OpenApiRouter<Shared> {
    OpenApiRouter::new().routes(routes!(starters)).routes(routes!(start))
}

fn shown(starter: &Starter) -> api::Starter {
    let question = |ask: &wetbank_core::Ask| api::StarterQuestion {
        key: ask.key.clone(),
        label: ask.label.clone(),
        holds: ask.holds.clone(),
        usual: ask.usual.clone(),
    };
    api::Starter {
        name: starter.name.to_owned(),
        title: starter.title.clone(),
        about: starter.about.clone(),
        want: match starter.want {
            Want::Protect => api::Want::Protect,
            Want::Deliver => api::Want::Deliver,
            Want::Collect => api::Want::Collect,
            Want::Tidy => api::Want::Tidy,
            Want::Pack => api::Want::Pack,
            Want::Tell => api::Want::Tell,
            Want::Data => api::Want::Data,
        },
        ask: starter.ask.iter().map(question).collect(),
    }
}

/// Every starter.
#[utoipa::path(get, path = "/starters", tag = "book", responses((status = 200, body = [api::Starter])))]
pub(crate) async fn starters(_: Viewer) -> Json<Vec<api::Starter>> {
    Json(all().iter().map(shown).collect())
}

/// The rule that a starter becomes with these answers; nothing is kept or put in force.
#[utoipa::path(post, path = "/starters/{name}", operation_id = "start", tag = "book", params(("name" = String, Path)), request_body = api::StarterAnswers, responses((status = 200, body = api::Draft), (status = 404, body = api::Problem), (status = 422, body = api::Problem)))]
pub(crate) async fn start(
    _: ManagerSomewhere,
    State(state): State<Shared>,
    Part(name): Part<String>,
    Body(body): Body<api::StarterAnswers>,
) -> Result<Json<api::Draft>, ApiError> {
    let starter = all().iter().find(|starter| starter.name == name);
    let starter = starter.ok_or_else(|| ApiError::not_found("starter", &name))?;
    let (name, value) = (body.name.unwrap_or(name), starter.rule(&body.answers));
    let drafted = state.engine.draft(SectionKind::Rule, Proposed::Value { name, value, old: None }).await?;
    Ok(Json(drafts::told(drafted, SectionKind::Rule, None)))
}
