//! Partners.

use axum::{Json, extract::State};
use jiff::Timestamp;
use utoipa_axum::{router::OpenApiRouter, routes};
use wetbank_client as api;
use wetbank_core::delivery_words;
use wetbank_engine::{KeyStatus, PartnerStatus, PlaceStatus};

use super::places::state_of;
use crate::{
    auth::Viewer,
    error::ApiError,
    shown::{time, warning},
    state::Shared,
};

/// Its routes.
pub(crate) fn routes() -> OpenApiRouter<Shared> {
    OpenApiRouter::new().routes(routes!(partners))
}

/// Every partner, with its people, places, keys, delivery form and what expires soon.
#[utoipa::path(get, path = "/partners", tag = "partners", responses((status = 200, body = [api::Partner])))]
pub(crate) async fn partners(_: Viewer, State(state): State<Shared>) -> Result<Json<Vec<api::Partner>>, ApiError> {
    let places = state.engine.places();
    let partners = state.engine.partners(Timestamp::now()).await?;
    Ok(Json(partners.into_iter().map(|partner| shown_partner(partner, &places)).collect()))
}

fn shown_partner(status: PartnerStatus, places: &[PlaceStatus]) -> api::Partner {
    let partner = status.partner;
    let place = |name: &wetbank_core::Name| {
        let place = places.iter().find(|place| place.name == *name);
        api::PartnerPlace {
            name: name.to_string(),
            state: place.map_or(api::PlaceState::Unknown, state_of),
            address: place.map(|place| place.spec.address()).unwrap_or_default(),
        }
    };
    let key = |key: Result<KeyStatus, String>| match key {
        Ok(known) => api::PartnerKey {
            name: known.name,
            fingerprint: Some(known.fingerprint),
            expires: known.encrypts.as_ref().ok().copied().flatten().map(time),
            unfit: known.encrypts.err(),
        },
        Err(name) => {
            api::PartnerKey { name, fingerprint: None, expires: None, unfit: Some("it is not imported yet".to_owned()) }
        }
    };
    api::Partner {
        name: partner.name.to_string(),
        places: partner.places.iter().map(place).collect(),
        keys: status.keys.into_iter().map(key).collect(),
        delivery: partner.delivery.as_ref().map(delivery_words),
        title: partner.title,
        note: partner.note,
        people: partner.people.into_iter().map(person).collect(),
        rules: status.rules.iter().map(ToString::to_string).collect(),
        warnings: status.warnings.into_iter().map(warning).collect(),
        text: status.text,
    }
}

fn person(person: wetbank_core::Person) -> api::Person {
    api::Person { name: person.name, role: person.role, mail: person.mail, phone: person.phone }
}
