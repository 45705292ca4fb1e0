//! Thin handlers: take apart, call one thing, map.

pub(crate) mod book;
pub(crate) mod calendars;
pub(crate) mod errands;
pub(crate) mod keys;
pub(crate) mod partners;
pub(crate) mod places;
pub(crate) mod rules;
pub(crate) mod runs;
pub(crate) mod sign_in;
pub(crate) mod status;

use axum::extract::{FromRequest, FromRequestParts};

use crate::error::ApiError;

/// A JSON body whose rejection is a problem like all others.
#[derive(FromRequest)]
#[from_request(via(axum::Json), rejection(ApiError))]
pub(crate) struct Body<T>(pub T);

/// A query whose rejection is a problem like all others.
#[derive(FromRequestParts)]
#[from_request(via(axum::extract::Query), rejection(ApiError))]
pub(crate) struct Asked<T>(pub T);

/// Path parts whose rejection is a problem like all others.
#[derive(FromRequestParts)]
#[from_request(via(axum::extract::Path), rejection(ApiError))]
pub(crate) struct Part<T>(pub T);

/// Who changes the book, until there are users.
pub(crate) const WHO: &str = "the local user";

pub(crate) fn file(text: &str) -> Result<wetbank_core::FilePath, ApiError> {
    wetbank_core::FilePath::parse(text).map_err(ApiError::bad)
}
