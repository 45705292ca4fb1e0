//! What comes with a request, taken apart so that each rejection is a problem like all others.

use axum::{
    extract::{FromRequest, FromRequestParts},
    http::request::Parts,
};
use serde::de::DeserializeOwned;

use crate::error::ApiError;

/// A JSON body whose rejection is a problem like all others.
#[derive(FromRequest)]
#[from_request(via(axum::Json), rejection(ApiError))]
pub(crate) struct Body<T>(pub T);

/// A query whose rejection is a problem like all others.
pub(crate) struct Asked<T>(pub T);

/// Path parts whose rejection is a problem like all others.
pub(crate) struct Part<T>(pub T);

/// No name and no text has a zero byte; what has one is a mistake or an attack.
fn without_zero(text: &str) -> Result<(), ApiError> {
    if text.contains("%00") || text.contains('\0') {
        return Err(ApiError::bad("the address has a zero byte (%00), which no name has"));
    }
    Ok(())
}

impl<S: Send + Sync, T: DeserializeOwned> FromRequestParts<S> for Asked<T> {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, ApiError> {
        without_zero(parts.uri.query().unwrap_or_default())?;
        Ok(Self(axum::extract::Query::from_request_parts(parts, state).await?.0))
    }
}

impl<S: Send + Sync, T: DeserializeOwned + Send> FromRequestParts<S> for Part<T> {
    type Rejection = ApiError;

    async fn from_request_parts(parts: &mut Parts, state: &S) -> Result<Self, ApiError> {
        without_zero(parts.uri.path())?;
        Ok(Self(axum::extract::Path::from_request_parts(parts, state).await?.0))
    }
}

pub(crate) fn file(text: &str) -> Result<wetbank_core::FilePath, ApiError> {
    wetbank_core::FilePath::parse(text).map_err(ApiError::bad)
}
