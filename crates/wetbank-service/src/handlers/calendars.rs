//! Calendars.

use axum::{Json, extract::State};
use utoipa_axum::{router::OpenApiRouter, routes};
use wetbank_client as api;
use wetbank_core::weekday_word;

use crate::{
    auth::{Manager, Viewer},
    error::ApiError,
    extract::{Body, Part},
    state::Shared,
};

/// Its routes.
pub(crate) fn routes() -> OpenApiRouter<Shared> {
    OpenApiRouter::new().routes(routes!(calendars)).routes(routes!(import))
}

/// Every calendar with its days off.
#[utoipa::path(get, path = "/calendars", tag = "calendars", responses((status = 200, body = [api::Calendar])))]
pub(crate) async fn calendars(_: Viewer, State(state): State<Shared>) -> Json<Vec<api::Calendar>> {
    let told = |status: wetbank_engine::CalendarStatus| api::Calendar {
        name: status.calendar.name.to_string(),
        title: status.calendar.title,
        week: status.calendar.week.into_iter().map(|day| weekday_word(day).to_owned()).collect(),
        off: status
            .calendar
            .off
            .into_iter()
            .map(|(first, last)| api::DaySpan { first: first.to_string(), last: last.to_string() })
            .collect(),
        rules: status.rules.iter().map(ToString::to_string).collect(),
    };
    Json(state.engine.calendars().into_iter().map(told).collect())
}

/// Add the days off of a calendar file (iCalendar, RFC 5545); a calendar that is not there is made.
#[utoipa::path(post, path = "/calendars/{name}/days-off", tag = "calendars", params(("name" = String, Path)), request_body = api::CalendarFile, responses((status = 200, body = api::ImportedDays), (status = 409, body = api::Problem)))]
pub(crate) async fn import(
    Manager(caller): Manager,
    State(state): State<Shared>,
    Part(name): Part<String>,
    Body(body): Body<api::CalendarFile>,
) -> Result<Json<api::ImportedDays>, ApiError> {
    let done = state.engine.import_days_off(&name, &body.text, &caller.who).await?;
    Ok(Json(api::ImportedDays { added: done.added, left_out: done.left_out }))
}
