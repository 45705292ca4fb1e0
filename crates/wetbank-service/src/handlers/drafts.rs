//! Sections of the book that are still being made.

use axum::{Json, extract::State};
use jiff::Timestamp;
use utoipa_axum::{router::OpenApiRouter, routes};
use wetbank_client as api;
use wetbank_core::{Amiss, DraftMistake, Rule, SectionKind, rule_sentence};
use wetbank_engine::{Drafted, Proposed};

use super::rules::{FIRINGS, map};
use crate::{
    auth::SignedIn,
    error::ApiError,
    extract::{Body, Part},
    shown::time,
    state::Shared,
};

/// Its routes.
pub(crate) fn routes() -> OpenApiRouter<Shared> {
    OpenApiRouter::new().routes(routes!(draft))
}

/// What a section would be, as text and as value, with every mistake; nothing is kept or changed.
#[utoipa::path(post, path = "/drafts/{kind}", tag = "book", params(("kind" = String, Path, description = "place, partner, calendar, database or rule")), request_body = api::ProposedDraft, responses((status = 200, body = api::Draft), (status = 400, body = api::Problem), (status = 404, body = api::Problem), (status = 422, body = api::Problem)))]
pub(crate) async fn draft(
    _: SignedIn,
    State(state): State<Shared>,
    Part(kind): Part<String>,
    Body(body): Body<api::ProposedDraft>,
) -> Result<Json<api::Draft>, ApiError> {
    let known = SectionKind::ALL.into_iter().find(|one| one.as_str() == kind);
    let kind = known.ok_or_else(|| ApiError::not_found("kind of section", kind))?;
    let proposed = match (body.text, body.name, body.value) {
        (Some(text), None, None) => Proposed::Text(text),
        (None, Some(name), Some(value)) => Proposed::Value { name, value, old: body.old },
        _ => return Err(ApiError::bad("a draft has a text, or a name and a value")),
    };
    Ok(Json(told(state.engine.draft(kind, proposed).await?)))
}

fn told(drafted: Drafted) -> api::Draft {
    let rule = drafted.draft.book.as_ref().and_then(|book| book.rules.first());
    let firings = |rule: &Rule| {
        let schedule = rule.starts.schedule.as_ref();
        schedule.map(|schedule| schedule.sample(Timestamp::now(), &rule.zone, FIRINGS)).unwrap_or_default()
    };
    api::Draft {
        sentence: rule.map(rule_sentence),
        firings: rule.map(firings).unwrap_or_default().into_iter().map(time).collect(),
        branches: rule.map(map::drawn).unwrap_or_default(),
        name: drafted.name,
        value: drafted.value,
        mistakes: drafted.draft.mistakes.into_iter().map(mistake).collect(),
        text: drafted.draft.text,
    }
}

fn mistake(mistake: DraftMistake) -> api::DraftMistake {
    let (written, nearest) = match mistake.amiss {
        Amiss::Key { written, nearest } | Amiss::Name { written, nearest, .. } => (Some(written), nearest),
        Amiss::Meaning | Amiss::Missing => (None, None),
    };
    let DraftMistake { pointer, line, message, .. } = mistake;
    api::DraftMistake { pointer, line, message, written, nearest }
}
