//! Partners.

use axum::{Json, extract::State};
use jiff::Timestamp;
use wetbank_client as api;

use crate::{auth::SignedIn, error::ApiError, map, router::Shared};

/// Every partner, with its people, places, keys, delivery form and what expires soon.
#[utoipa::path(get, path = "/partners", tag = "partners", responses((status = 200, body = [api::Partner])))]
pub(crate) async fn partners(_: SignedIn, State(state): State<Shared>) -> Result<Json<Vec<api::Partner>>, ApiError> {
    let places = state.engine.places();
    let partners = state.engine.partners(Timestamp::now()).await?;
    Ok(Json(partners.into_iter().map(|partner| map::partner(partner, &places)).collect()))
}
