//! Mails that carry no file.

use axum::{Json, extract::State, http::StatusCode};
use utoipa_axum::{router::OpenApiRouter, routes};
use wetbank_client as api;

use crate::{
    auth::{Operator, Viewer},
    error::ApiError,
    extract::Part,
    shown::{known, time},
    state::Shared,
};

/// Notices that are listed.
const NOTICES: i64 = 200;

/// Its routes.
pub(crate) fn routes() -> OpenApiRouter<Shared> {
    OpenApiRouter::new().routes(routes!(notices)).routes(routes!(retry_notice))
}

/// The newest mails without files, those that wait first.
#[utoipa::path(get, path = "/notices", tag = "notices", responses((status = 200, body = [api::Notice])))]
pub(crate) async fn notices(_: Viewer, State(state): State<Shared>) -> Result<Json<Vec<api::Notice>>, ApiError> {
    let mails = state.engine.journal().mails(NOTICES).await?;
    Ok(Json(mails.into_iter().map(shown_notice).collect::<Result<_, _>>()?))
}

/// Try to send a mail again now.
#[utoipa::path(post, path = "/notices/{id}/retry", tag = "notices", params(("id" = i64, Path)), responses((status = 204), (status = 409, body = api::Problem)))]
pub(crate) async fn retry_notice(
    _: Operator,
    State(state): State<Shared>,
    Part(id): Part<i64>,
) -> Result<StatusCode, ApiError> {
    state.engine.mail_again(id).await?;
    Ok(StatusCode::NO_CONTENT)
}

fn shown_notice(mail: wetbank_journal::MailRecord) -> Result<api::Notice, ApiError> {
    Ok(api::Notice {
        id: mail.id,
        run: mail.run,
        rule: mail.rule,
        place: mail.place,
        to: mail.recipients,
        subject: mail.subject,
        due: (mail.state == "waiting").then(|| time(mail.due)),
        state: known(api::NoticeState::parse, &mail.state)?,
        queued: time(mail.queued),
        tries: mail.tries,
        why: mail.why,
        ended: mail.ended.map(time),
    })
}
