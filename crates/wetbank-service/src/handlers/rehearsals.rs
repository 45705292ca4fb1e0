//! Rehearsals, and the record of what came.

use axum::{Json, extract::State};
use jiff::{SignedDuration, Timestamp};
use serde::Deserialize;
use utoipa::IntoParams;
use utoipa_axum::{router::OpenApiRouter, routes};
use wetbank_client as api;
use wetbank_core::{ElsewiseKind, End, Rehearsal, RelPath, Rule};
use wetbank_engine::{Against, Keeping, Only, Over, Played, PlayedFile, Proposed, Rehearsed, Show};

use super::rules::map;
use crate::{
    auth::{OperatorSomewhere, Owner, Viewer},
    error::ApiError,
    extract::{Asked, Body, file},
    shown::time,
    state::Shared,
};

/// Files that are told one by one, if nobody says how many.
const USUAL: usize = 50;
/// Files that are told one by one at most.
const MOST: usize = 500;
/// Arrivals in a page.
const PAGE: i64 = 200;

/// Its routes.
pub(crate) fn routes() -> OpenApiRouter<Shared> {
    OpenApiRouter::new()
        .routes(routes!(rehearse))
        .routes(routes!(arrivals))
        .routes(routes!(arrivals_kept, keep_arrivals))
}

/// What a rule would do, over one file, over what lies there now, or over what came; nothing is touched, written or sent.
#[utoipa::path(post, path = "/rehearsals", tag = "rules", request_body = api::AskRehearsal, responses((status = 200, body = api::Rehearsal), (status = 400, body = api::Problem), (status = 404, body = api::Problem), (status = 409, body = api::Problem), (status = 502, body = api::Problem)))]
pub(crate) async fn rehearse(
    _: OperatorSomewhere,
    State(state): State<Shared>,
    Body(body): Body<api::AskRehearsal>,
) -> Result<Json<api::Rehearsal>, ApiError> {
    let played = match (body.rule, body.version, body.draft) {
        (Some(rule), None, None) => Played::InForce(rule),
        (Some(rule), Some(version), None) => Played::Version(rule, version),
        (None, None, Some(draft)) => Played::Draft(match (draft.text, draft.name, draft.value) {
            (Some(text), None, None) => Proposed::Text(text),
            (None, Some(name), Some(value)) => Proposed::Value { name, value, old: draft.old },
            _ => return Err(ApiError::bad("a draft has a text, or a name and a value")),
        }),
        _ => return Err(ApiError::bad("a rehearsal is of a rule, of one of its versions, or of a draft")),
    };
    let against = match (body.against, body.compare) {
        (Some(version), _) => Against::Version(version),
        (None, true) => Against::InForce,
        (None, false) => Against::Nothing,
    };
    let over = match body.over {
        api::RehearsedOver::Here => Over::Here,
        api::RehearsedOver::File(asked) => Over::File(file(&asked)?),
        api::RehearsedOver::Arrival(id) => Over::Arrival(id),
        api::RehearsedOver::Days(days) => {
            let since = Timestamp::now().checked_sub(SignedDuration::from_hours(i64::from(days) * 24));
            Over::Since(since.unwrap_or(Timestamp::MIN))
        }
    };
    let day =
        body.day.map(|day| day.parse().map_err(|_| ApiError::bad(format!("\"{day}\" is no day; write 2026-03-14"))));
    let most = body.most.unwrap_or(USUAL).min(MOST);
    let show = Show { only: only(body.only), day: day.transpose()?, from: body.from, most };
    Ok(Json(told(state.engine.rehearse(played, against, over, show).await?)))
}

fn only(only: api::RehearsedOnly) -> Only {
    match only {
        api::RehearsedOnly::All => Only::All,
        api::RehearsedOnly::Differing => Only::Differing,
        api::RehearsedOnly::Same => Only::Same,
        api::RehearsedOnly::ToAPerson => Only::Kind(ElsewiseKind::ToAPerson),
        api::RehearsedOnly::Elsewhere => Only::Kind(ElsewiseKind::Elsewhere),
        api::RehearsedOnly::Otherwise => Only::Kind(ElsewiseKind::Otherwise),
        api::RehearsedOnly::NewlyTaken => Only::Kind(ElsewiseKind::NewlyTaken),
        api::RehearsedOnly::NoLongerTaken => Only::Kind(ElsewiseKind::NoLongerTaken),
    }
}

fn kind(kind: ElsewiseKind) -> api::RehearsedOnly {
    match kind {
        ElsewiseKind::ToAPerson => api::RehearsedOnly::ToAPerson,
        ElsewiseKind::Elsewhere => api::RehearsedOnly::Elsewhere,
        ElsewiseKind::Otherwise => api::RehearsedOnly::Otherwise,
        ElsewiseKind::NewlyTaken => api::RehearsedOnly::NewlyTaken,
        ElsewiseKind::NoLongerTaken => api::RehearsedOnly::NoLongerTaken,
    }
}

/// A number as people read it: `2,340`.
fn number(of: usize) -> String {
    let digits = of.to_string();
    let parts: Vec<&str> =
        digits.as_bytes().rchunks(3).rev().filter_map(|part| std::str::from_utf8(part).ok()).collect();
    parts.join(",")
}

fn headline(rehearsed: &Rehearsed) -> String {
    let counted = &rehearsed.counted;
    let differing: usize = counted.differing.values().sum();
    let files = |count: usize| if count == 1 { "1 file".to_owned() } else { format!("{} files", number(count)) };
    match (rehearsed.against, counted.files, differing) {
        (_, 0, _) => "No file to rehearse with".to_owned(),
        (Some(_), 1, 0) => "The file goes as before".to_owned(),
        (Some(_), all, 0) => format!("All {} go as before", files(all)),
        (Some(_), all, some) => format!("{} of {} would go otherwise", number(some), files(all)),
        (None, all, _) => {
            let taken: usize = counted.ways.iter().filter(|way| way.branch.is_some()).map(|way| way.files).sum();
            format!("{} of {} would be taken", number(taken), files(all))
        }
    }
}

fn told(rehearsed: Rehearsed) -> api::Rehearsal {
    let headline = headline(&rehearsed);
    let Rehearsed { rule, other, against, counted, files, on_record_since, left, took } = rehearsed;
    let kinds = ElsewiseKind::ALL.into_iter().filter_map(|of| Some((of, *counted.differing.get(&of)?)));
    api::Rehearsal {
        rule: rule.name.to_string(),
        title: rule.title.clone(),
        against,
        headline,
        files: counted.files,
        differing: kinds
            .map(|(of, files)| api::RehearsedKind { kind: kind(of), files, words: of.words(files) })
            .collect(),
        days: counted
            .days
            .iter()
            .map(|one| api::RehearsedDay { day: one.day.to_string(), files: one.files, differing: one.differing })
            .collect(),
        ways: counted
            .ways
            .into_iter()
            .map(|way| api::RehearsedWay {
                branch: way.branch,
                places: way.places,
                held: way.is_held,
                files: way.files,
            })
            .collect(),
        same_names: counted.same_names,
        asked_for: counted.shown,
        shown: files.into_iter().map(|file| played(&rule, other.as_deref(), file)).collect(),
        on_record_since: on_record_since.map(time),
        left,
        took,
    }
}

fn played(rule: &Rule, other: Option<&Rule>, file: PlayedFile) -> api::RehearsedFile {
    api::RehearsedFile {
        arrival: file.arrival,
        file: format!("{}:/{}", file.file.place, file.file.path),
        size: file.file.size,
        came: time(file.came),
        before: file.before.map(|before| foreseen(other.unwrap_or(rule), before, Vec::new())),
        after: foreseen(rule, file.after, file.found),
        kind: file.elsewise.as_ref().map(|one| kind(one.kind)),
        why: file.elsewise.map(|one| one.why),
    }
}

fn foreseen(rule: &Rule, rehearsal: Rehearsal, found: Vec<Option<String>>) -> api::Foreseen {
    let mut found = found.into_iter();
    let step = |step: wetbank_core::Foreseen| api::ForeseenStep {
        branch: step.branch,
        step: step.step,
        kind: step.kind.to_owned(),
        file: step.file,
        words: step.words,
        makes: step.makes,
        comes_to: step.comes.map(|coming| coming.at.to_string()),
        found: found.next().flatten(),
        left_out: step.left_out,
        open: step.open,
    };
    api::Foreseen {
        branch: rehearsal.branch,
        held: matches!(rehearsal.end, End::Held { .. }),
        end: rehearsal.end.words(),
        steps: rehearsal.steps.into_iter().map(step).collect(),
        explained: map::explained_rule(rule, rehearsal.explanation, Vec::new()),
    }
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct ArrivalsQuery {
    /// Only what came to this place.
    place: Option<String>,
    /// Only what came directly into this folder of it; empty for its root.
    folder: Option<String>,
    /// Only what came before this one: the last number of the page before.
    before: Option<i64>,
}

/// What came, taken or not, newest first.
#[utoipa::path(get, path = "/arrivals", tag = "rules", params(ArrivalsQuery), responses((status = 200, body = [api::Arrival])))]
pub(crate) async fn arrivals(
    _: Viewer,
    State(state): State<Shared>,
    Asked(query): Asked<ArrivalsQuery>,
) -> Result<Json<Vec<api::Arrival>>, ApiError> {
    let before = query.before.unwrap_or(i64::MAX);
    let folder =
        query.folder.as_deref().map(RelPath::parse).transpose().map_err(|error| ApiError::bad(error.to_string()))?;
    let journal = state.engine.journal();
    let found = journal.newest_arrivals(query.place.as_deref(), folder.as_ref(), before, PAGE).await?;
    let shown = |one: wetbank_journal::ArrivalRecord| api::Arrival {
        id: one.id,
        file: format!("{}:/{}", one.file.place, one.file.path),
        size: one.file.size,
        modified: time(one.file.modified),
        seen: time(one.seen),
    };
    Ok(Json(found.into_iter().map(shown).collect()))
}

/// How much of what came stays on record, and how much is.
#[utoipa::path(get, path = "/arrivals/kept", tag = "rules", responses((status = 200, body = api::ArrivalsKept)))]
pub(crate) async fn arrivals_kept(_: Viewer, State(state): State<Shared>) -> Result<Json<api::ArrivalsKept>, ApiError> {
    let Keeping { days, most } = state.engine.keeping().await?;
    let (since, count) = state.engine.journal().arrivals_on_record().await?;
    let count = u64::try_from(count).unwrap_or_default();
    Ok(Json(api::ArrivalsKept { days, most, count, since: since.map(time) }))
}

/// Say how much of what came stays on record; what lies beyond is forgotten.
#[utoipa::path(put, path = "/arrivals/kept", tag = "rules", request_body = api::KeepArrivals, responses((status = 200, body = api::ArrivalsKept), (status = 409, body = api::Problem)))]
pub(crate) async fn keep_arrivals(
    Owner(caller): Owner,
    State(state): State<Shared>,
    Body(body): Body<api::KeepArrivals>,
) -> Result<Json<api::ArrivalsKept>, ApiError> {
    state.engine.keep(Keeping { days: body.days, most: body.most }).await?;
    arrivals_kept(Viewer(caller), State(state)).await
}
