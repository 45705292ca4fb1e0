//! The book's shape, as serde reads it. Checks that need more than the shape are in `resolve`.

mod rule;
mod steps;

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::Deserialize;
use toml::Spanned;

use super::errands::DatabaseShape;
use crate::IfExists;

pub(super) use rule::*;
pub(super) use steps::*;

/// A text with its position.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(transparent)]
pub(super) struct Text(#[schemars(with = "String")] pub Spanned<String>);

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(title = "Wetbank book", description = "Places, partners, calendars, databases and rules")]
pub(super) struct Book {
    #[serde(default)]
    #[schemars(with = "BTreeMap<String, Place>")]
    pub place: BTreeMap<String, Spanned<Place>>,
    #[serde(default)]
    #[schemars(with = "BTreeMap<String, Partner>")]
    pub partner: BTreeMap<String, Spanned<Partner>>,
    #[serde(default)]
    #[schemars(with = "BTreeMap<String, Calendar>")]
    pub calendar: BTreeMap<String, Spanned<Calendar>>,
    #[serde(default)]
    #[schemars(with = "BTreeMap<String, DatabaseShape>")]
    pub database: BTreeMap<String, Spanned<DatabaseShape>>,
    #[serde(default)]
    #[schemars(with = "BTreeMap<String, Rule>")]
    pub rule: BTreeMap<String, Spanned<Rule>>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Place {
    pub kind: Text,
    pub root: Option<Text>,
    pub mount: Option<Text>,
    pub host: Option<Text>,
    pub port: Option<u16>,
    pub user: Option<Text>,
    pub password: Option<SecretRef>,
    pub key: Option<SecretRef>,
    pub host_key: Option<Text>,
    pub security: Option<Text>,
    pub active: Option<bool>,
    pub certificate: Option<Text>,
    pub url: Option<Text>,
    pub bucket: Option<Text>,
    pub region: Option<Text>,
    pub addressing: Option<Text>,
    pub access_key: Option<Text>,
    pub secret_key: Option<SecretRef>,
    pub share: Option<Text>,
    pub agreement: Option<Agreement>,
    pub send_by: Option<Text>,
    pub send_security: Option<Text>,
    pub sender: Option<Text>,
    pub send_certificate: Option<Text>,
    pub staged: Option<bool>,
    pub connections: Option<u8>,
    pub timeout: Option<Text>,
    pub retry: Option<Retry>,
    pub transfers: Option<u8>,
    pub rate: Option<Text>,
    #[serde(default)]
    pub rates: Vec<Rate>,
}

/// What a person agrees to with an authorization server (OAuth 2.0).
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Agreement {
    pub server: Text,
    pub client: Text,
    pub client_secret: Option<SecretRef>,
    #[serde(default)]
    pub rights: Vec<Text>,
    pub grant: SecretRef,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Rate {
    pub most: Text,
    pub from: Option<Text>,
    pub until: Option<Text>,
    pub zone: Option<Text>,
}

#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct SecretRef {
    pub secret: Text,
    pub passphrase: Option<Box<SecretRef>>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Partner {
    pub title: Option<String>,
    #[serde(default)]
    pub note: String,
    #[serde(default)]
    pub people: Vec<Person>,
    #[serde(default)]
    pub places: Vec<Text>,
    #[serde(default)]
    pub keys: Vec<String>,
    pub delivery: Option<Delivery>,
    #[serde(default)]
    pub expires: Vec<Expires>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Person {
    pub name: String,
    #[serde(default)]
    pub role: String,
    #[serde(default)]
    pub mail: String,
    #[serde(default)]
    pub phone: String,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Delivery {
    pub to: Text,
    pub folder: Option<Text>,
    #[serde(rename = "as")]
    pub name: Option<Text>,
    pub exists: Option<IfExists>,
    #[serde(default)]
    pub encrypt: bool,
    pub sign: Option<String>,
    #[serde(default)]
    pub armour: bool,
    pub quiet: Option<Hours>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Hours {
    pub from: Text,
    pub until: Text,
    pub zone: Option<Text>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Expires {
    pub what: String,
    pub until: Text,
}
