//! How things stand.

use axum::{Json, extract::State};
use jiff::Timestamp;
use utoipa_axum::{router::OpenApiRouter, routes};
use wetbank_client as api;
use wetbank_core::{ItemState, Position, warned};
use wetbank_engine::{Arrangement, Engine, Moving};
use wetbank_tls::Shown;

use crate::{
    auth::Viewer,
    day,
    error::ApiError,
    shown,
    state::Shared,
    way::{self, At},
};

/// Its routes.
pub(crate) fn routes() -> OpenApiRouter<Shared> {
    OpenApiRouter::new().routes(routes!(status))
}

/// So many firings to come are told.
const FIRINGS: usize = 8;
/// So many files that move are told.
const MOVING: usize = 50;

/// A file that moves; nothing if it came to rest meanwhile.
async fn moved(engine: &Engine, arrangement: &Arrangement, moving: Moving) -> Result<Option<api::Moving>, ApiError> {
    let journal = engine.journal();
    let Some(work) = journal.work(moving.item).await? else { return Ok(None) };
    let attempts = journal.attempts(moving.item).await?;
    let rule = (moving.rule.as_str(), work.version);
    let branch = shown::branch(arrangement, rule, i64::try_from(moving.branch).ok());
    let position = Position::from_code(Some(moving.branch), moving.step);
    let at = At { kind: work.kind, state: ItemState::Working, position };
    let to = branch.and_then(way::target);
    Ok(Some(api::Moving {
        run: moving.run,
        item: moving.item,
        rule: moving.rule.to_string(),
        title: shown::title(arrangement, moving.rule.as_str()),
        file: moving.file.path.to_string(),
        branch: moving.branch,
        step: moving.step,
        steps: way::item(branch, &at, &attempts),
        from: moving.file.place.to_string(),
        to: to.unwrap_or_else(|| moving.file.place.to_string()),
        done: moving.bytes(),
        total: moving.total,
        since: shown::time(moving.since),
    }))
}

/// How things stand: what moves, what waits, the day's traffic.
#[utoipa::path(get, path = "/status", tag = "status", responses((status = 200, body = api::Status)))]
pub(crate) async fn status(_: Viewer, State(state): State<Shared>) -> Result<Json<api::Status>, ApiError> {
    let engine = &state.engine;
    let arrangement = engine.arrangement();
    let counts = engine.journal().open_counts().await?;
    let count = |state: &str| counts.iter().filter(|c| c.state == state).map(|c| c.count).sum();
    let now = Timestamp::now();
    let mut moving = Vec::new();
    for one in engine.moving().into_iter().take(MOVING) {
        moving.extend(moved(engine, &arrangement, one).await?);
    }
    Ok(Json(api::Status {
        version: env!("CARGO_PKG_VERSION").to_owned(),
        started: shown::time(engine.started()),
        queued: count("queued"),
        working: count("working"),
        waiting: count("waiting"),
        joining: count("joining"),
        held: count("held"),
        rules_on: arrangement.rules.iter().filter(|live| live.is_on).count(),
        rules_off: arrangement.rules.iter().filter(|live| !live.is_on).count(),
        places_away: engine.places().into_iter().filter(|p| p.error.is_some()).map(|p| p.name.to_string()).collect(),
        moving,
        next: engine
            .next_firings(FIRINGS)
            .into_iter()
            .map(|firing| api::Firing {
                title: shown::title(&arrangement, firing.rule.as_str()),
                rule: firing.rule.to_string(),
                at: shown::time(firing.at),
            })
            .collect(),
        warnings: certificate_trouble(&state, now)
            .into_iter()
            .chain(engine.troubles().into_iter().chain(engine.warnings(now).await?).map(shown::warning))
            .collect(),
        certificate: state.listening.shown().map(|Shown { fingerprint, names, ends, is_own, .. }| {
            api::ShownCertificate { fingerprint, names, ends: shown::time(ends), own: is_own }
        }),
        today: day::traffic(engine.journal(), now).await?,
    }))
}

/// What is the matter with the certificate that the service shows: the next one cannot be shown, or it ends soon.
fn certificate_trouble(state: &Shared, now: Timestamp) -> Option<api::Warning> {
    let (renewed, shown) = (state.listening.certificate.as_ref()?, state.listening.shown()?);
    if let Some(why) = renewed.trouble() {
        return Some(api::Warning {
            what: why,
            until: Some(shown::time(shown.ends)),
            days: 0,
            partner: None,
            remedy: "The certificate before is shown until that is put right.".to_owned(),
        });
    }
    let days = warned(shown.ends, now)?;
    let remedy = match renewed.is_made() {
        true => "Start the service anew: it makes another one, with another fingerprint.",
        false => "Put a new one into its files; it is shown without a restart.",
    };
    Some(api::Warning {
        what: "the certificate of this service".to_owned(),
        until: Some(shown::time(shown.ends)),
        days,
        partner: None,
        remedy: remedy.to_owned(),
    })
}
