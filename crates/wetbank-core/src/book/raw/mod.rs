//! The book's shape, as it is read and as the schema tells it. Checks that need more than the shape are in
//! `resolve`.

mod account;
mod rule;
mod twin;

use std::{borrow::Cow, collections::BTreeMap};

use schemars::{JsonSchema, Schema, SchemaGenerator};
use serde::Deserialize;
use serde_json::Value;
use toml::Spanned;

use super::{SectionKind, databases};
use crate::{
    IfExists,
    place::{PlaceShape, place_schema},
    shape::{HoursShape, Text, holds},
};

pub(crate) use account::*;
pub(crate) use rule::*;
pub(crate) use twin::*;

/// What was read of a text, section by section.
#[derive(Debug, Default)]
pub(crate) struct Book {
    pub place: BTreeMap<String, Spanned<Place>>,
    pub partner: BTreeMap<String, Spanned<Partner>>,
    pub account: BTreeMap<String, Spanned<Account>>,
    pub calendar: BTreeMap<String, Spanned<Calendar>>,
    pub database: BTreeMap<String, Spanned<databases::DatabaseShape>>,
    pub twin: BTreeMap<String, Spanned<Twin>>,
    pub rule: BTreeMap<String, Spanned<Rule>>,
    /// Every section that was written, those included that cannot be read.
    pub written: Vec<(SectionKind, String)>,
}

impl Book {
    /// Sections that were written and cannot be read.
    pub fn broken(&self) -> impl Iterator<Item = (SectionKind, &str)> {
        let is_read = |kind: SectionKind, name: &String| match kind {
            SectionKind::Place => self.place.contains_key(name),
            SectionKind::Partner => self.partner.contains_key(name),
            SectionKind::Account => self.account.contains_key(name),
            SectionKind::Calendar => self.calendar.contains_key(name),
            SectionKind::Database => self.database.contains_key(name),
            SectionKind::Twin => self.twin.contains_key(name),
            SectionKind::Rule => self.rule.contains_key(name),
        };
        let unread = self.written.iter().filter(move |(kind, name)| !is_read(*kind, name));
        unread.map(|(kind, name)| (*kind, name.as_str()))
    }
}

/// The book as the schema tells it.
#[derive(JsonSchema)]
#[schemars(title = "Wetbank book", deny_unknown_fields)]
#[expect(dead_code, reason = "tells the schema; a book is read section by section")]
pub(crate) struct BookSchema {
    /// Where files are.
    #[serde(default)]
    #[schemars(title = "Places")]
    place: BTreeMap<String, Place>,
    /// With whom files are exchanged.
    #[serde(default)]
    #[schemars(title = "Partners")]
    partner: BTreeMap<String, Partner>,
    /// What partners sign in with at our own server.
    #[serde(default)]
    #[schemars(title = "Accounts")]
    account: BTreeMap<String, Account>,
    /// When an office works.
    #[serde(default)]
    #[schemars(title = "Calendars")]
    calendar: BTreeMap<String, Calendar>,
    /// Where rows are loaded into and extracted from.
    #[serde(default)]
    #[schemars(title = "Databases")]
    database: BTreeMap<String, Database>,
    /// Folders that are kept alike.
    #[serde(default)]
    #[schemars(title = "Twins")]
    twin: BTreeMap<String, Twin>,
    /// What is done with which files, and when.
    #[serde(default)]
    #[schemars(title = "Rules")]
    rule: BTreeMap<String, Rule>,
}

/// A place: what its kind asks for, and the limits that all have.
#[derive(Debug)]
pub(crate) struct Place {
    pub shape: PlaceShape,
    pub limits: Limits,
}

impl JsonSchema for Place {
    fn schema_name() -> Cow<'static, str> {
        "Place".into()
    }

    fn json_schema(generator: &mut SchemaGenerator) -> Schema {
        let limits = Limits::json_schema(generator);
        let limits = limits.get("properties").and_then(Value::as_object).cloned().unwrap_or_default();
        place_schema(generator, &limits)
    }
}

/// A database, in the schema.
pub(crate) struct Database;

impl JsonSchema for Database {
    fn schema_name() -> Cow<'static, str> {
        "Database".into()
    }

    fn json_schema(generator: &mut SchemaGenerator) -> Schema {
        databases::DatabaseShape::schema(generator)
    }
}

/// What every kind of place takes.
#[derive(Debug, Default, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct Limits {
    /// The group it belongs to: who may act or arrange in that group only may do so with it.
    #[schemars(title = "Group", extend("seldom" = true))]
    pub group: Option<Text<holds::GroupName>>,
    /// When what failed there is tried again, for rules that do not say so themselves.
    #[schemars(title = "Try again", extend("seldom" = true))]
    pub retry: Option<Retry>,
    /// Files on their way to it at once, at most, and as many from it.
    #[schemars(title = "Transfers at once", extend("seldom" = true))]
    pub transfers: Option<u8>,
    /// How fast, in both directions together, as in `4 MB/s`.
    #[schemars(title = "Speed at most", extend("seldom" = true))]
    pub rate: Option<Text<holds::Speed>>,
    /// The same for hours of the day; of those that hold at a time the lowest counts.
    #[serde(default)]
    #[schemars(title = "Speeds by hour", extend("seldom" = true))]
    pub rates: Vec<Rate>,
}

impl Limits {
    /// The keys that every place takes besides those of its kind.
    pub const KEYS: [&str; 5] = ["group", "retry", "transfers", "rate", "rates"];
}

/// A speed at hours of the day.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct Rate {
    /// How fast, as in `500 kB/s`.
    #[schemars(title = "At most")]
    pub most: Text<holds::Speed>,
    /// The first minute; always if it is left out.
    #[schemars(title = "From")]
    pub from: Option<Text<holds::TimeOfDay>>,
    /// The first minute after.
    #[schemars(title = "Until")]
    pub until: Option<Text<holds::TimeOfDay>>,
    /// Whose clock counts.
    #[schemars(title = "Time zone", extend("default" = "UTC"))]
    pub zone: Option<Text<holds::Zone>>,
}

/// Somebody we exchange files with.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "Partner")]
pub(crate) struct Partner {
    /// Its name for people; its name in the book unless it is said.
    #[schemars(title = "Title")]
    pub title: Option<String>,
    /// What colleagues should know.
    #[serde(default)]
    #[schemars(title = "Note", extend("holds" = "lines"))]
    pub note: String,
    /// Whom to call.
    #[serde(default)]
    #[schemars(title = "People")]
    pub people: Vec<Person>,
    /// Its places.
    #[serde(default)]
    #[schemars(title = "Places")]
    pub places: Vec<Text<holds::PlaceName>>,
    /// The names of its OpenPGP keys.
    #[serde(default)]
    #[schemars(title = "Keys")]
    pub keys: Vec<Text<holds::KeyName>>,
    /// How it wants what is delivered: its standing form.
    #[schemars(title = "Delivery")]
    pub delivery: Option<Delivery>,
    /// What else expires, and when; it is told 30, 7 and 1 days before.
    #[serde(default)]
    #[schemars(title = "Expires")]
    pub expires: Vec<Expires>,
}

/// Somebody at a partner's.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct Person {
    /// Their name.
    #[schemars(title = "Name")]
    pub name: String,
    /// What they do there.
    #[serde(default)]
    #[schemars(title = "Role")]
    pub role: String,
    /// Their address for mail.
    #[serde(default)]
    #[schemars(title = "Mail", extend("holds" = "mail-address"))]
    pub mail: String,
    /// Their telephone.
    #[serde(default)]
    #[schemars(title = "Telephone")]
    pub phone: String,
}

/// A partner's standing wishes for what it is sent; a rule may say otherwise of folder, name and what is done when a
/// name is taken.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct Delivery {
    /// The place it goes to.
    #[schemars(title = "To")]
    pub to: Text<holds::PlaceName>,
    /// The folder there; its root if it is left out.
    #[schemars(title = "Folder")]
    pub folder: Option<Text<holds::FolderTemplate>>,
    /// The name there.
    #[serde(rename = "as")]
    #[schemars(title = "Name", extend("default" = "{{ file.name }}"))]
    pub name: Option<Text<holds::NameTemplate>>,
    /// What is done when the name is taken.
    #[schemars(title = "When the name is taken", extend("default" = "refuse"))]
    pub exists: Option<IfExists>,
    /// It is encrypted to all of the partner's keys.
    #[serde(default)]
    #[schemars(title = "Encrypt")]
    pub encrypt: bool,
    /// The key of ours that signs it.
    #[schemars(title = "Signed by")]
    pub sign: Option<Text<holds::KeyName>>,
    /// As letters and digits (ASCII armour).
    #[serde(default)]
    #[schemars(title = "As text")]
    pub armour: bool,
    /// Hours of each day in which nothing is delivered; it waits.
    #[schemars(title = "Quiet hours")]
    pub quiet: Option<HoursShape>,
}

/// Something of a partner's that expires on a day.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub(crate) struct Expires {
    /// What it is, as in `host key of sftp.skerrow.example`.
    #[schemars(title = "What")]
    pub what: String,
    /// The last day on which it is good.
    #[schemars(title = "Until")]
    pub until: Text<holds::Day>,
}
