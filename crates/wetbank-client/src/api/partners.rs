//! What is told of partners.

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

use super::PlaceState;
use super::Warning;

/// Somebody we exchange files with.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Partner {
    pub name: String,
    pub title: String,
    pub note: String,
    pub people: Vec<Person>,
    pub places: Vec<PartnerPlace>,
    pub keys: Vec<PartnerKey>,
    /// Its standing delivery form in words.
    pub delivery: Option<String>,
    /// Rules that deliver to it or use one of its places.
    pub rules: Vec<String>,
    pub warnings: Vec<Warning>,
    /// Its text in the book.
    pub text: String,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Person {
    pub name: String,
    pub role: String,
    pub mail: String,
    pub phone: String,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PartnerPlace {
    pub name: String,
    pub state: PlaceState,
    pub address: String,
}

#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct PartnerKey {
    pub name: String,
    pub fingerprint: Option<String>,
    pub expires: Option<String>,
    /// Why it cannot be used; that it is not imported, for one.
    pub unfit: Option<String>,
}
