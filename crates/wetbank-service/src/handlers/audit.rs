//! Who did what.

use std::{collections::HashMap, sync::LazyLock};

use axum::{Json, extract::State};
use serde::Deserialize;
use utoipa::IntoParams;
use utoipa_axum::{router::OpenApiRouter, routes};
use wetbank_client as api;

use crate::{auth::Manager, error::ApiError, extract::Asked, router::openapi, shown, state::Shared};

const PAGE: u32 = 100;

/// What each call does, as the API's description has it.
static WORDS: LazyLock<HashMap<String, String>> = LazyLock::new(|| {
    let mut words = HashMap::new();
    for (path, item) in openapi().paths.paths {
        let path = path.trim_start_matches("/api/v1").to_owned();
        let operations =
            [("GET", item.get), ("POST", item.post), ("PUT", item.put), ("DELETE", item.delete), ("PATCH", item.patch)];
        for (method, operation) in operations {
            let said = operation.and_then(|operation| operation.summary);
            words.extend(said.map(|said| (format!("{method} {path}"), first(&said).to_owned())));
        }
    }
    words.insert(format!("POST {}", super::provider::BACK), "Sign in by the provider".to_owned());
    words
});

/// The first clause of what is said of a call.
fn first(said: &str) -> &str {
    let end = [". ", ": ", "; "].iter().filter_map(|mark| said.find(mark)).min().unwrap_or(said.len());
    said[..end].trim_end_matches('.')
}

/// Its routes.
pub(crate) fn routes() -> OpenApiRouter<Shared> {
    OpenApiRouter::new().routes(routes!(audit))
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct AuditQuery {
    /// Only what this one asked for.
    who: Option<String>,
    /// Only what is older than this entry.
    before: Option<i64>,
    /// At most so many, 100 by default, 500 at most.
    limit: Option<u32>,
}

/// Who asked for which change or act, newest first.
#[utoipa::path(get, path = "/audit", tag = "people", params(AuditQuery), responses((status = 200, body = api::AuditPage)))]
pub(crate) async fn audit(
    _: Manager,
    State(state): State<Shared>,
    Asked(query): Asked<AuditQuery>,
) -> Result<Json<api::AuditPage>, ApiError> {
    let limit = query.limit.unwrap_or(PAGE).clamp(1, 500);
    let found = state.engine.journal().acts(query.before, query.who.as_deref(), limit).await?;
    let next = (found.len() == limit as usize).then(|| found.last().map(|one| one.id)).flatten();
    let entries = found.into_iter().map(|one| api::AuditEntry {
        id: one.id,
        at: shown::time(one.act.at),
        who: one.act.who,
        address: one.act.address,
        what: WORDS.get(&one.act.call).cloned().unwrap_or_else(|| one.act.call.clone()),
        call: one.act.call,
        about: one.act.about,
        outcome: one.outcome,
        note: one.note,
    });
    Ok(Json(api::AuditPage { entries: entries.collect(), next }))
}
