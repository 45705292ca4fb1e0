//! Databases of the book.

use axum::{Json, extract::State};
use utoipa_axum::{router::OpenApiRouter, routes};
use wetbank_client as api;

use crate::{
    auth::{Operator, Viewer},
    error::ApiError,
    extract::Part,
    state::Shared,
};

/// Its routes.
pub(crate) fn routes() -> OpenApiRouter<Shared> {
    OpenApiRouter::new().routes(routes!(databases)).routes(routes!(test_database))
}

/// Every database of the book.
#[utoipa::path(get, path = "/databases", tag = "databases", responses((status = 200, body = [api::Database])))]
pub(crate) async fn databases(_: Viewer, State(state): State<Shared>) -> Json<Vec<api::Database>> {
    let told = |status: wetbank_engine::DatabaseStatus| api::Database {
        name: status.database.name.to_string(),
        kind: status.database.kind_word().to_owned(),
        address: status.database.address(),
        title: status.database.title,
        rules: status.rules.iter().map(ToString::to_string).collect(),
    };
    Json(state.engine.databases().into_iter().map(told).collect())
}

/// Sign in to a database and look what is there.
#[utoipa::path(post, path = "/databases/{name}/test", tag = "databases", params(("name" = String, Path)), responses((status = 200, body = api::DatabaseTest), (status = 404, body = api::Problem)))]
pub(crate) async fn test_database(
    _: Operator,
    State(state): State<Shared>,
    Part(name): Part<String>,
) -> Result<Json<api::DatabaseTest>, ApiError> {
    let (fine, said) = match state.engine.test_database(&name).await? {
        Ok(said) => (true, said),
        Err(error) => (false, error.to_string()),
    };
    Ok(Json(api::DatabaseTest { fine, said }))
}
