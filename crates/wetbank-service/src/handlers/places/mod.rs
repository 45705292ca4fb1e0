//! Places.

mod map;

use axum::{Json, extract::State, http::StatusCode};
use jiff::{Timestamp, ToSpan};
use secrecy::SecretString;
use serde::Deserialize;
use utoipa::IntoParams;
use utoipa_axum::{router::OpenApiRouter, routes};
use wetbank_client as api;
use wetbank_core::{HandDelivery, IfExists, RelPath, Role, SectionKind};
use wetbank_engine::{NewAgreement, NewPlaceKeys, NewPlaceValue};
use wetbank_places::{Depth, PlaceError, PlaceErrorKind};

pub(super) use map::{state_of, test_step};

use crate::{
    auth::{Manager, OperatorSomewhere, Viewer},
    error::ApiError,
    extract::{Asked, Body, Part, file},
    groups,
    state::Shared,
};

/// Entries of a page.
const PAGE: usize = 500;
/// Entries of a page at most.
const LONGEST_PAGE: usize = 2000;

/// Its routes.
pub(crate) fn routes() -> OpenApiRouter<Shared> {
    OpenApiRouter::new()
        .routes(routes!(places, add))
        .routes(routes!(try_new))
        .routes(routes!(test))
        .routes(routes!(day))
        .routes(routes!(browse))
        .routes(routes!(make_folder))
        .routes(routes!(by_hand))
}

/// Every place and how it is doing.
#[utoipa::path(get, path = "/places", tag = "places", responses((status = 200, body = [api::Place])))]
pub(crate) async fn places(_: Viewer, State(state): State<Shared>) -> Json<Vec<api::Place>> {
    Json(state.engine.places().into_iter().map(map::place).collect())
}

fn keys_of(new: api::NewPlace) -> NewPlaceKeys {
    let value = |value| match value {
        api::KeyValue::Flag(flag) => NewPlaceValue::Flag(flag),
        api::KeyValue::Number(number) => NewPlaceValue::Number(number),
        api::KeyValue::Text(text) => NewPlaceValue::Text(text),
        api::KeyValue::List(list) => NewPlaceValue::List(list),
    };
    let agreement =
        |new: api::NewAgreement| NewAgreement { server: new.server, client: new.client, rights: new.rights };
    NewPlaceKeys {
        kind: new.kind,
        keys: new.keys.into_iter().map(|(key, given)| (key, value(given))).collect(),
        agreement: new.agreement.map(agreement),
        secrets: new.secrets.into_iter().map(|(key, secret)| (key, SecretString::from(secret))).collect(),
    }
}

/// Test a place that is not added yet, as far as it is typed; nothing is kept.
#[utoipa::path(post, path = "/places/try", tag = "places", request_body = api::TryPlace, responses((status = 200, body = api::TriedPlace), (status = 422, body = api::Problem)))]
pub(crate) async fn try_new(
    _: Manager,
    State(state): State<Shared>,
    Body(tried): Body<api::TryPlace>,
) -> Result<Json<api::TriedPlace>, ApiError> {
    let (address, steps, identity) = state.engine.try_place(&keys_of(tried.place), tried.sign_in).await?;
    Ok(Json(api::TriedPlace {
        address,
        fine: steps.iter().all(|step| step.outcome.is_ok()),
        steps: steps.into_iter().map(map::tried_step).collect(),
        identity: identity.map(|i| api::Identity { what: i.what.to_owned(), fingerprint: i.fingerprint }),
    }))
}

/// Add a place to the book, with its secret; its test comes after.
#[utoipa::path(post, path = "/places", tag = "places", request_body = api::NewPlace, responses((status = 204), (status = 409, body = api::Problem), (status = 422, body = api::Problem)))]
pub(crate) async fn add(
    Manager(caller): Manager,
    State(state): State<Shared>,
    Body(new): Body<api::NewPlace>,
) -> Result<StatusCode, ApiError> {
    let name = new.name.clone();
    state.engine.add_place(&name, &keys_of(new), &caller.who).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Test a place step by step, as the service. With `confirm`, what its server shows is confirmed first.
#[utoipa::path(post, path = "/places/{name}/test", operation_id = "test_place", tag = "places", params(("name" = String, Path)), request_body = api::TestPlace, responses((status = 200, body = api::TestedPlace), (status = 404, body = api::Problem)))]
pub(crate) async fn test(
    OperatorSomewhere(caller): OperatorSomewhere,
    State(state): State<Shared>,
    Part(name): Part<String>,
    Body(body): Body<api::TestPlace>,
) -> Result<Json<api::TestedPlace>, ApiError> {
    groups::may(&state.engine, &caller, Role::Operator, SectionKind::Place, &name)?;
    if let Some(typed) = &body.confirm {
        groups::may(&state.engine, &caller, Role::Manager, SectionKind::Place, &name)?;
        match state.engine.shown_identity(&name).await? {
            Some(shown) if shown.is(typed) => state.engine.confirm_identity(&name, &shown, &caller.who).await?,
            Some(shown) => {
                let (what, fingerprint) = (shown.what, shown.fingerprint);
                let words = format!("the server shows the {what} {fingerprint}, not {typed}; nothing was confirmed");
                return Err(ApiError::bad(words));
            }
            None => return Err(ApiError::bad(format!("the place \"{name}\" shows nothing that could be confirmed"))),
        }
    }
    let steps = state.engine.test_place(&name, body.write).await?;
    let asks = |e: &PlaceError| matches!(e.kind, PlaceErrorKind::HostKey | PlaceErrorKind::Certificate);
    let asks = steps.iter().any(|step| step.outcome.as_ref().is_err_and(asks));
    let identity = if asks { state.engine.shown_identity(&name).await? } else { None };
    Ok(Json(api::TestedPlace {
        fine: steps.iter().all(|step| step.outcome.is_ok()),
        steps: steps.into_iter().map(map::test_step).collect(),
        identity: identity.map(|i| api::Identity { what: i.what.to_owned(), fingerprint: i.fingerprint }),
    }))
}

/// How a place did in the last day.
#[utoipa::path(get, path = "/places/{name}/day", tag = "places", params(("name" = String, Path)), responses((status = 200, body = api::PlaceDay), (status = 404, body = api::Problem)))]
pub(crate) async fn day(
    _: Viewer,
    State(state): State<Shared>,
    Part(name): Part<String>,
) -> Result<Json<api::PlaceDay>, ApiError> {
    let known = state.engine.places().iter().any(|place| place.name.as_str() == name);
    if !known {
        return Err(ApiError::not_found("place", name));
    }
    let now = Timestamp::now();
    let from = now.checked_sub(24.hours()).unwrap_or(now);
    Ok(Json(map::place_day(state.engine.journal().place_states(&name, from).await?, from, now)?))
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct BrowseQuery {
    /// The folder, from the place's root.
    #[serde(default)]
    folder: String,
    /// The next page, as the last one named it.
    page: Option<u64>,
    /// Entries of a page: 500 unless said otherwise, 2,000 at most.
    limit: Option<usize>,
}

/// What lies in a folder, page by page; within a page folders first, then by name.
#[utoipa::path(get, path = "/places/{name}/browse", tag = "places", params(("name" = String, Path), BrowseQuery), responses((status = 200, body = api::Listing), (status = 404, body = api::Problem), (status = 410, body = api::Problem)))]
pub(crate) async fn browse(
    _: Viewer,
    State(state): State<Shared>,
    Part(name): Part<String>,
    Asked(query): Asked<BrowseQuery>,
) -> Result<Json<api::Listing>, ApiError> {
    let place = state.engine.place(&name)?;
    let folder = RelPath::parse(&query.folder).map_err(|e| ApiError::bad(e.to_string()))?;
    let most = query.limit.unwrap_or(PAGE).clamp(1, LONGEST_PAGE);
    let mut page = match query.page {
        None => state.listings.begin(place.list(&folder, Depth::One), most).await?,
        Some(token) => match state.listings.go_on(token, most).await {
            Some(page) => page?,
            None => {
                let words = "nobody went on with this listing for a while; open the folder again";
                return Err(ApiError::new(StatusCode::GONE, "listing-given-up", words));
            }
        },
    };
    place.tell_owners(&mut page.entries).await;
    let mut entries: Vec<_> = page.entries.into_iter().map(|entry| map::entry(&name, entry)).collect();
    let order = |entry: &api::Entry| (entry.kind != api::EntryKind::Folder, entry.name.clone());
    entries.sort_by_cached_key(order);
    Ok(Json(api::Listing { folder: folder.to_string(), entries, next: page.next }))
}

/// Make a folder, and those above it. One that is there is as good as one that is made.
#[utoipa::path(post, path = "/places/{name}/folders", operation_id = "make_folder", tag = "places", params(("name" = String, Path)), request_body = api::NewFolder, responses((status = 204), (status = 400, body = api::Problem), (status = 404, body = api::Problem), (status = 502, body = api::Problem)))]
pub(crate) async fn make_folder(
    OperatorSomewhere(caller): OperatorSomewhere,
    State(state): State<Shared>,
    Part(name): Part<String>,
    Body(body): Body<api::NewFolder>,
) -> Result<StatusCode, ApiError> {
    groups::may(&state.engine, &caller, Role::Operator, SectionKind::Place, &name)?;
    let folder = RelPath::parse(&body.folder).map_err(|e| ApiError::bad(e.to_string()))?;
    state.engine.make_folder(&name, &folder).await?;
    Ok(StatusCode::NO_CONTENT)
}

/// Copy or move files by hand: each becomes a run like those of rules.
#[utoipa::path(post, path = "/by-hand", tag = "places", request_body = api::ByHand, responses((status = 200, body = api::Begun), (status = 400, body = api::Problem), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
pub(crate) async fn by_hand(
    OperatorSomewhere(caller): OperatorSomewhere,
    State(state): State<Shared>,
    Body(body): Body<api::ByHand>,
) -> Result<Json<api::Begun>, ApiError> {
    let (from, to) = (file(&body.from)?, file(&body.to)?);
    for end in [&from, &to] {
        groups::may(&state.engine, &caller, Role::Operator, SectionKind::Place, end.place.as_str())?;
    }
    let exists = match body.exists.unwrap_or(api::IfExists::Refuse) {
        api::IfExists::Refuse => IfExists::Refuse,
        api::IfExists::Replace => IfExists::Replace,
        api::IfExists::KeepBoth => IfExists::KeepBoth,
        api::IfExists::SkipSame => IfExists::SkipSame,
    };
    let below = |name: &String| RelPath::parse(name).map(|name| from.path.join(&name));
    let picked: Result<Vec<_>, _> = body.names.iter().map(below).collect();
    let picked = picked.map_err(|e| ApiError::bad(e.to_string()))?;
    let delivery = HandDelivery { from: from.place, folder: from.path, to, moves: body.r#move, exists };
    let begun = state.engine.by_hand(&delivery, &picked, &caller.who).await?;
    Ok(Json(api::Begun { files: begun.files, first: begun.first, more: begun.more }))
}
