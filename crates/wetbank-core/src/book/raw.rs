//! The book's shape, as serde reads it. Checks that need more than the shape are in `resolve`.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::Deserialize;
use toml::Spanned;

use crate::{Attribute, IfExists};

/// A text with its position.
#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(transparent)]
pub(super) struct Text(#[schemars(with = "String")] pub Spanned<String>);

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
#[schemars(title = "Wetbank book", description = "Places, partners and rules")]
pub(super) struct Book {
    #[serde(default)]
    #[schemars(with = "BTreeMap<String, Place>")]
    pub place: BTreeMap<String, Spanned<Place>>,
    #[serde(default)]
    #[schemars(with = "BTreeMap<String, Partner>")]
    pub partner: BTreeMap<String, Spanned<Partner>>,
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
    pub certificate: Option<Text>,
    pub url: Option<Text>,
    pub bucket: Option<Text>,
    pub region: Option<Text>,
    pub addressing: Option<Text>,
    pub access_key: Option<Text>,
    pub secret_key: Option<SecretRef>,
    pub share: Option<Text>,
    pub agreement: Option<Agreement>,
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

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Rule {
    pub title: Option<String>,
    #[serde(default)]
    pub why: String,
    pub zone: Option<Text>,
    pub starts: Starts,
    pub retry: Option<Retry>,
    #[schemars(with = "Vec<Branch>")]
    pub branch: Spanned<Vec<Branch>>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub(super) enum Starts {
    Arrival(Arrival),
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Arrival {
    pub place: Text,
    pub folder: Option<Text>,
    #[serde(default)]
    pub names: Vec<Text>,
    #[serde(default)]
    pub except: Vec<Text>,
    #[serde(default)]
    pub below: bool,
    pub settle: Option<Text>,
    pub marker: Option<Text>,
    pub look_every: Option<Text>,
    #[serde(default)]
    pub own_results: bool,
    #[serde(default)]
    pub case: Case,
}

#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Retry {
    pub attempts: Option<u32>,
    pub first: Option<Text>,
    pub longest: Option<Text>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Branch {
    pub title: Option<String>,
    #[serde(rename = "if")]
    pub condition: Option<Condition>,
    #[schemars(with = "Vec<Step>")]
    pub steps: Vec<Spanned<Step>>,
    pub original: Option<Original>,
}

/// A group (`all`, `any`, `none`) or one test (`file` and one comparison).
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Condition {
    #[schemars(with = "Option<Vec<Condition>>")]
    pub all: Option<Vec<Condition>>,
    #[schemars(with = "Option<Vec<Condition>>")]
    pub any: Option<Vec<Condition>>,
    #[schemars(with = "Option<Vec<Condition>>")]
    pub none: Option<Vec<Condition>>,
    #[schemars(with = "Option<Attribute>")]
    pub file: Option<Spanned<Attribute>>,
    pub is: Option<OneOrMany>,
    pub is_not: Option<OneOrMany>,
    pub starts_with: Option<Text>,
    pub ends_with: Option<Text>,
    pub contains: Option<Text>,
    pub like: Option<Text>,
    pub matches: Option<Text>,
    pub within: Option<Text>,
    pub under: Option<Text>,
    pub over: Option<Text>,
    pub before: Option<Text>,
    pub after: Option<Text>,
    #[serde(default)]
    pub case: Case,
}

#[derive(Debug, Clone, Deserialize, JsonSchema)]
#[serde(untagged)]
pub(super) enum OneOrMany {
    One(String),
    Many(Vec<String>),
}

impl OneOrMany {
    pub fn into_list(self) -> Vec<String> {
        match self {
            Self::One(one) => vec![one],
            Self::Many(many) => many,
        }
    }
}

#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub(super) enum Case {
    #[default]
    Exact,
    Ignore,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub(super) enum Step {
    Encrypt(Encrypt),
    Decrypt(Decrypt),
    Copy(Target),
    Deliver(Deliver),
    Move(Target),
    Rename(Rename),
    Delete(Nothing),
    Hold(Hold),
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Encrypt {
    #[serde(default)]
    pub to: Vec<String>,
    pub passphrase: Option<SecretRef>,
    pub sign: Option<String>,
    #[serde(default)]
    pub armour: bool,
    #[serde(rename = "as")]
    pub name: Option<Text>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Decrypt {
    pub passphrase: Option<SecretRef>,
    #[serde(default)]
    pub signed_by: Vec<String>,
    #[serde(rename = "as")]
    pub name: Option<Text>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Target {
    pub to: Option<Text>,
    pub folder: Option<Text>,
    #[serde(rename = "as")]
    pub name: Option<Text>,
    pub exists: Option<IfExists>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Deliver {
    pub partner: Option<Text>,
    pub to: Option<Text>,
    pub folder: Option<Text>,
    #[serde(rename = "as")]
    pub name: Option<Text>,
    pub exists: Option<IfExists>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Rename {
    #[serde(rename = "as")]
    pub name: Text,
    pub exists: Option<IfExists>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields)]
pub(super) struct Nothing {}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Hold {
    pub why: String,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub(super) enum Original {
    Stays,
    Delete,
    MoveTo(Text),
}
