//! The book's shape, as serde reads it. Checks that need more than the shape are in `resolve`.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::Deserialize;
use toml::Spanned;

use super::errands::{CallShape, DatabaseShape, ExtractShape, LoadShape, MailShape, ProgramShape};
use crate::{Attribute, Busy, ChainEvent, Compression, IfExists, Missed, OnFault, PackForm};

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
    #[schemars(with = "Starts")]
    pub starts: Spanned<Starts>,
    #[serde(default)]
    pub finds: Vec<Find>,
    pub on_fault: Option<OnFault>,
    pub limit: Option<Text>,
    pub retry: Option<Retry>,
    #[schemars(with = "Vec<Branch>")]
    pub branch: Spanned<Vec<Branch>>,
}

/// What starts a rule: one of these or several. A person can start every rule.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Starts {
    pub arrival: Option<Arrival>,
    #[schemars(with = "Option<Schedule>")]
    pub schedule: Option<Spanned<Schedule>>,
    pub chain: Option<Chain>,
    pub signal: Option<Signal>,
    pub mail: Option<Letters>,
    pub hand: Option<Nothing>,
}

/// Another system says so.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Signal {
    pub secret: Text,
}

/// A letter comes into a mailbox; its attachments are the files.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Letters {
    pub place: Text,
    pub folder: Option<Text>,
    #[serde(default)]
    pub names: Vec<Text>,
    #[serde(default)]
    pub except: Vec<Text>,
    pub most: Option<Text>,
    pub file_in: Option<Text>,
    pub look_every: Option<Text>,
    #[serde(default)]
    pub case: Case,
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
    pub of: Option<Vec<Of>>,
    pub gather: Option<Gather>,
    #[serde(default)]
    pub case: Case,
}

/// What happened to a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub(super) enum Of {
    New,
    Changed,
    Gone,
}

/// Until when files wait for each other: one of these.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) enum Gather {
    Quiet(Text),
    Count(#[schemars(with = "usize")] Spanned<usize>),
    Marker(Text),
    OneOfEach(Vec<Text>),
}

/// What another rule did with a file.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Chain {
    pub after: Vec<ChainEvent>,
    #[serde(default)]
    pub rules: Vec<Text>,
    #[serde(default)]
    pub from: Vec<Text>,
    #[serde(default)]
    pub to: Vec<Text>,
    #[serde(default)]
    pub partners: Vec<Text>,
}

/// Times: one of `every`, `at` and `cron`.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Schedule {
    pub every: Option<Text>,
    #[schemars(with = "Option<OneOrMany>")]
    pub at: Option<Spanned<OneOrMany>>,
    pub cron: Option<Text>,
    #[schemars(with = "Option<OneOrMany>")]
    pub on: Option<Spanned<OneOrMany>>,
    pub from: Option<Text>,
    pub until: Option<Text>,
    pub calendar: Option<Text>,
    pub missed: Option<Missed>,
    pub busy: Option<Busy>,
}

/// Files to look for when a run starts.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Find {
    pub place: Text,
    pub folder: Option<Text>,
    #[serde(default)]
    pub names: Vec<Text>,
    #[serde(default)]
    pub except: Vec<Text>,
    #[serde(default)]
    pub below: bool,
    #[serde(default)]
    pub only_new: bool,
    #[serde(default)]
    pub least: usize,
    #[serde(default)]
    pub case: Case,
}

/// Days that an office works.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Calendar {
    pub title: Option<String>,
    pub week: Option<Vec<Text>>,
    #[serde(default)]
    pub off: Vec<Text>,
}

/// One text or several, each with the position of all.
pub(super) fn texts(list: &Spanned<OneOrMany>) -> Vec<Text> {
    list.as_ref().clone().into_list().into_iter().map(|one| Text(Spanned::new(list.span(), one))).collect()
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
    pub run: Option<Text>,
    pub chain: Option<Text>,
    pub signal: Option<Text>,
    pub mail: Option<Text>,
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

/// One thing to do, and for which files, and what follows when it fails.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Step {
    #[serde(rename = "if")]
    pub condition: Option<Condition>,
    pub retry: Option<Retry>,
    #[schemars(with = "Option<Vec<Step>>")]
    pub on_failure: Option<Vec<Spanned<Step>>>,
    pub then: Option<Then>,
    pub encrypt: Option<Encrypt>,
    pub decrypt: Option<Decrypt>,
    pub sign: Option<Sign>,
    pub verify: Option<Verify>,
    pub compress: Option<Compress>,
    pub expand: Option<Expand>,
    pub pack: Option<Pack>,
    pub unpack: Option<Unpack>,
    pub manifest: Option<Manifest>,
    pub check_manifest: Option<Manifest>,
    pub copy: Option<Target>,
    pub fetch: Option<Target>,
    pub deliver: Option<Deliver>,
    #[serde(rename = "move")]
    pub move_to: Option<Target>,
    pub rename: Option<Rename>,
    pub delete: Option<Nothing>,
    pub make_folder: Option<MakeFolder>,
    pub mail: Option<MailShape>,
    pub call: Option<CallShape>,
    pub program: Option<ProgramShape>,
    pub load: Option<LoadShape>,
    pub extract: Option<ExtractShape>,
    pub note: Option<Note>,
    #[serde(rename = "continue")]
    pub go_on: Option<Continue>,
    pub hold: Option<Hold>,
}

/// What follows a failure path.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub(super) enum Then {
    End,
    GoOn,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Compress {
    pub with: Option<Compression>,
    #[serde(rename = "as")]
    pub name: Option<Text>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Expand {
    #[serde(rename = "as")]
    pub name: Option<Text>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Pack {
    #[serde(rename = "as")]
    pub name: Text,
    pub form: Option<PackForm>,
    pub passphrase: Option<SecretRef>,
    #[serde(default)]
    pub folders: bool,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Unpack {
    pub passphrase: Option<SecretRef>,
    pub files: Option<usize>,
    pub most: Option<Text>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Manifest {
    #[serde(rename = "as")]
    pub name: Option<Text>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct MakeFolder {
    pub to: Option<Text>,
    pub folder: Text,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Note {
    pub text: Text,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Continue {
    pub branch: Text,
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
    #[serde(default)]
    pub fit_name: bool,
    pub sha256: Option<bool>,
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
    #[serde(default)]
    pub fit_name: bool,
    pub sha256: Option<bool>,
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
    Mark(Text),
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Sign {
    pub by: String,
    #[serde(default)]
    pub armour: bool,
    #[serde(rename = "as")]
    pub name: Option<Text>,
}

#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(super) struct Verify {
    pub by: Vec<String>,
    #[serde(rename = "as")]
    pub name: Option<Text>,
}
