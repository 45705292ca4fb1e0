//! Accounts of our own server, visits, and what was exchanged.

use axum::{Extension, Json, extract::State, http::StatusCode};
use secrecy::ExposeSecret;
use serde::Deserialize;
use utoipa::IntoParams;
use utoipa_axum::{router::OpenApiRouter, routes};
use wetbank_client as api;
use wetbank_core::{Account, FilePath};
use wetbank_journal::ExchangeFilter;

use crate::{
    audit::Noted,
    auth::{Manager, Operator, Owner, Viewer},
    error::ApiError,
    extract::{Asked, Body, Part},
    reception::Sftp,
    shown,
    state::Shared,
};

const PAGE: u32 = 100;

/// Its routes.
pub(crate) fn routes() -> OpenApiRouter<Shared> {
    OpenApiRouter::new()
        .routes(routes!(accounts))
        .routes(routes!(account))
        .routes(routes!(set_password, remove_password))
        .routes(routes!(visits))
        .routes(routes!(send_away))
        .routes(routes!(exchanges))
        .routes(routes!(reception))
        .routes(routes!(prepare_host_keys))
        .routes(routes!(change_host_keys))
}

async fn told(state: &Shared, account: &Account) -> Result<api::Account, ApiError> {
    let desk = &state.reception.desk;
    let last = state.engine.journal().visits(Some(account.name.as_str()), i64::MAX, 1).await?;
    let folder = |opened: &wetbank_core::Opened| api::AccountFolder {
        folder: opened.folder.to_string(),
        may: opened.may.words().to_owned(),
        removes: opened.deletes,
    };
    let key = |key: &wetbank_core::AccountKey| api::AccountKey {
        kind: key.kind(),
        fingerprint: key.fingerprint(),
        comment: key.comment(),
    };
    Ok(api::Account {
        name: account.name.to_string(),
        title: account.title.clone(),
        note: account.note.clone(),
        partner: account.partner.to_string(),
        root: account.root.to_string(),
        folders: account.opened.iter().map(folder).collect(),
        keys: account.keys.iter().map(key).collect(),
        password: account.has_password,
        has: desk.password_of(account.name.as_str()).map(|(once, made, locked)| api::AccountPassword {
            once,
            made: shown::time(made),
            locked: locked.map(shown::time),
        }),
        until: account.until.as_ref().map(|(day, _)| day.to_string()),
        from: account.from.iter().map(ToString::to_string).collect(),
        quota: account.quota.map(|bytes| bytes.0),
        largest: account.largest.map(|bytes| bytes.0),
        here: desk.here_of(account.name.as_str()),
        seen: last.first().map(|visit| shown::time(visit.began)),
    })
}

fn found(state: &Shared, name: &str) -> Result<std::sync::Arc<Account>, ApiError> {
    state.engine.account(name).ok_or_else(|| ApiError::not_found("account", name.to_owned()))
}

/// Every account.
#[utoipa::path(get, path = "/accounts", tag = "accounts", responses((status = 200, body = [api::Account])))]
pub(crate) async fn accounts(_: Viewer, State(state): State<Shared>) -> Result<Json<Vec<api::Account>>, ApiError> {
    let mut all = Vec::new();
    for account in &state.engine.arrangement().accounts {
        all.push(told(&state, account).await?);
    }
    Ok(Json(all))
}

/// One account.
#[utoipa::path(get, path = "/accounts/{name}", tag = "accounts", params(("name" = String, Path)), responses((status = 200, body = api::Account), (status = 404, body = api::Problem)))]
pub(crate) async fn account(
    _: Viewer,
    State(state): State<Shared>,
    Part(name): Part<String>,
) -> Result<Json<api::Account>, ApiError> {
    Ok(Json(told(&state, &*found(&state, &name)?).await?))
}

/// Give an account a password; without one make one that counts once, and tell it this once. Visits go on.
#[utoipa::path(put, path = "/accounts/{name}/password", operation_id = "set_account_password", tag = "accounts", params(("name" = String, Path)), request_body = api::SetAccountPassword, responses((status = 200, body = api::OncePassword), (status = 404, body = api::Problem), (status = 409, body = api::Problem)))]
pub(crate) async fn set_password(
    _: Manager,
    State(state): State<Shared>,
    Part(name): Part<String>,
    Body(body): Body<api::SetAccountPassword>,
) -> Result<(Extension<Noted>, Json<api::OncePassword>), ApiError> {
    let account = found(&state, &name)?;
    if !account.has_password {
        return Err(ApiError::new(
            StatusCode::CONFLICT,
            "no-password",
            format!("the account \"{name}\" signs in with keys only; say password = true in its section first"),
        ));
    }
    let desk = &state.reception.desk;
    let (noted, password) = match body.password {
        Some(password) => {
            desk.set_password(&name, &password.into(), false).await?;
            ("a given one", None)
        }
        None => ("one that counts once", Some(desk.one_time_password(&name).await?.expose_secret().to_owned())),
    };
    Ok((Extension(Noted(noted.to_owned())), Json(api::OncePassword { password })))
}

/// Take an account's password away.
#[utoipa::path(delete, path = "/accounts/{name}/password", operation_id = "remove_account_password", tag = "accounts", params(("name" = String, Path)), responses((status = 204), (status = 404, body = api::Problem)))]
pub(crate) async fn remove_password(
    _: Manager,
    State(state): State<Shared>,
    Part(name): Part<String>,
) -> Result<StatusCode, ApiError> {
    match state.reception.desk.remove_password(&name).await? {
        true => Ok(StatusCode::NO_CONTENT),
        false => Err(ApiError::not_found("password of an account", name)),
    }
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct VisitsQuery {
    /// Only of this account.
    account: Option<String>,
    /// Only what is older than this one.
    before: Option<i64>,
    /// At most so many, 100 by default, 500 at most.
    limit: Option<u32>,
}

/// Who came with which account, newest first.
#[utoipa::path(get, path = "/visits", tag = "accounts", params(VisitsQuery), responses((status = 200, body = [api::Visit])))]
pub(crate) async fn visits(
    _: Viewer,
    State(state): State<Shared>,
    Asked(query): Asked<VisitsQuery>,
) -> Result<Json<Vec<api::Visit>>, ApiError> {
    let limit = query.limit.unwrap_or(PAGE).clamp(1, 500);
    let before = query.before.unwrap_or(i64::MAX);
    let visits = state.engine.journal().visits(query.account.as_deref(), before, limit).await?;
    let visit = |one: wetbank_journal::VisitRecord| api::Visit {
        id: one.id,
        account: one.account,
        partner: one.partner,
        way: one.way,
        how: one.how,
        address: one.address,
        began: shown::time(one.began),
        ended: one.ended.map(shown::time),
    };
    Ok(Json(visits.into_iter().map(visit).collect()))
}

/// Send a guest away. What was being handed in can be gone on with in another visit.
#[utoipa::path(delete, path = "/visits/{id}", operation_id = "end_visit", tag = "accounts", params(("id" = i64, Path)), responses((status = 204), (status = 404, body = api::Problem)))]
pub(crate) async fn send_away(
    _: Operator,
    State(state): State<Shared>,
    Part(id): Part<i64>,
) -> Result<StatusCode, ApiError> {
    match state.reception.desk.send_away(id) {
        true => Ok(StatusCode::NO_CONTENT),
        false => Err(ApiError::not_found("visit that goes on", id.to_string())),
    }
}

#[derive(Deserialize, IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct ExchangesQuery {
    /// Only of this account.
    account: Option<String>,
    /// Only of accounts of this partner.
    partner: Option<String>,
    /// Only what was `handed-in`, `collected` or `removed`.
    what: Option<String>,
    /// Only of this file, as `place:path`; the newest only.
    file: Option<String>,
    /// Only what is older than this one.
    before: Option<i64>,
    /// At most so many, 100 by default, 500 at most.
    limit: Option<u32>,
}

/// What was handed in, collected and removed, newest first.
#[utoipa::path(get, path = "/exchanges", tag = "accounts", params(ExchangesQuery), responses((status = 200, body = [api::Exchange]), (status = 400, body = api::Problem)))]
pub(crate) async fn exchanges(
    _: Viewer,
    State(state): State<Shared>,
    Asked(query): Asked<ExchangesQuery>,
) -> Result<Json<Vec<api::Exchange>>, ApiError> {
    let limit = query.limit.unwrap_or(PAGE).clamp(1, 500);
    let filter = ExchangeFilter { account: query.account, partner: query.partner, what: query.what };
    let journal = state.engine.journal();
    let found = match query.file {
        Some(file) => {
            let file = FilePath::parse(&file).map_err(ApiError::bad)?;
            journal.exchanges_of(&file, limit).await?
        }
        None => journal.exchanges(&filter, query.before.unwrap_or(i64::MAX), limit).await?,
    };
    let mut all = Vec::new();
    for one in found {
        all.push(api::Exchange {
            id: one.id,
            visit: one.visit,
            account: one.account,
            partner: one.partner,
            what: one.what,
            seen: one.seen.to_string(),
            file: one.file.to_string(),
            size: one.size,
            blake3: one.sum,
            address: one.address,
            at: shown::time(one.at),
            items: journal.exchange_items(one.id).await?,
        });
    }
    Ok(Json(all))
}

fn shown_reception(sftp: Option<&Sftp>) -> api::Reception {
    let key = |key: wetbank_reception::HostKey| api::HostKey {
        kind: key.kind,
        fingerprint: key.fingerprint,
        line: key.line,
        next: key.is_next,
    };
    api::Reception {
        sftp: sftp.map(|sftp| sftp.address.to_string()),
        host_keys: sftp.map_or_else(Vec::new, |sftp| sftp.keys.read().told().into_iter().map(key).collect()),
        banner: sftp.and_then(|sftp| sftp.banner.clone()),
    }
}

fn sftp(state: &Shared) -> Result<&Sftp, ApiError> {
    state.reception.sftp.as_ref().ok_or_else(|| {
        ApiError::new(
            StatusCode::CONFLICT,
            "no-sftp",
            "the service does not listen for SFTP; start it with --sftp ADDRESS",
        )
    })
}

/// How partners reach us.
#[utoipa::path(get, path = "/reception", tag = "accounts", responses((status = 200, body = api::Reception)))]
pub(crate) async fn reception(_: Viewer, State(state): State<Shared>) -> Json<api::Reception> {
    Json(shown_reception(state.reception.sftp.as_ref()))
}

/// Prepare other host keys, so that partners can be told of them before they are shown.
#[utoipa::path(post, path = "/reception/host-keys", operation_id = "prepare_host_keys", tag = "accounts", responses((status = 200, body = api::Reception), (status = 409, body = api::Problem)))]
pub(crate) async fn prepare_host_keys(_: Owner, State(state): State<Shared>) -> Result<Json<api::Reception>, ApiError> {
    let keys = sftp(&state)?.keys.clone();
    // A key of RSA takes a moment.
    let made = tokio::task::spawn_blocking(move || keys.write().prepare()).await;
    made.map_err(std::io::Error::other).and_then(|made| made).map_err(host_keys)?;
    Ok(Json(shown_reception(state.reception.sftp.as_ref())))
}

/// Show the prepared host keys from now on.
#[utoipa::path(post, path = "/reception/host-keys/change", operation_id = "change_host_keys", tag = "accounts", responses((status = 200, body = api::Reception), (status = 409, body = api::Problem)))]
pub(crate) async fn change_host_keys(_: Owner, State(state): State<Shared>) -> Result<Json<api::Reception>, ApiError> {
    if !sftp(&state)?.keys.write().change().map_err(host_keys)? {
        let words = "no host keys are prepared; do that first, and tell your partners";
        return Err(ApiError::new(StatusCode::CONFLICT, "not-prepared", words));
    }
    Ok(Json(shown_reception(state.reception.sftp.as_ref())))
}

#[expect(clippy::needless_pass_by_value, reason = "it maps an error")]
fn host_keys(error: std::io::Error) -> ApiError {
    ApiError::internal(&format!("the host keys cannot be written: {error}"))
}
