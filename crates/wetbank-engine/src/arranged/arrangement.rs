//! What is arranged now: rules and places, ready to use.

use std::{
    collections::{BTreeMap, HashMap},
    sync::Arc,
};

use wetbank_core::{
    Account, Calendar, Database, Known, Limits, Name, Partner, PlaceSpec, Rule, SectionKind, section_group, twin::Twin,
};
use wetbank_places::{Place, PlaceError};

/// A rule in force.
#[derive(Debug, Clone)]
pub struct LiveRule {
    /// The rule.
    pub rule: Arc<Rule>,
    /// Its version.
    pub version: i64,
    /// Whether it takes files.
    pub is_on: bool,
    /// Its text.
    pub text: Arc<str>,
    /// When it was changed.
    pub changed: jiff::Timestamp,
}

/// A twin in force.
#[derive(Debug, Clone)]
pub struct LiveTwin {
    /// The twin.
    pub twin: Arc<Twin>,
    /// The rule that its passes are.
    pub rule: Arc<Rule>,
    /// Its version.
    pub version: i64,
    /// Whether passes are made by themselves.
    pub is_on: bool,
    /// Its text.
    pub text: Arc<str>,
    /// When it was changed.
    pub changed: jiff::Timestamp,
}

/// A snapshot of everything arranged. Work that began with one may end with the next.
#[derive(Debug, Clone, Default)]
pub struct Arrangement {
    /// Rules in the order they are asked.
    pub rules: Vec<LiveRule>,
    /// Partners.
    pub partners: Vec<Partner>,
    /// Accounts of our own server.
    pub accounts: Vec<Arc<Account>>,
    /// Calendars.
    pub calendars: Vec<Calendar>,
    /// Databases.
    pub databases: Vec<Database>,
    /// Twins, in the order of the book.
    pub twins: Vec<LiveTwin>,
    /// Places by name.
    pub specs: BTreeMap<Name, PlaceSpec>,
    /// The limits of places that have any.
    pub limits: BTreeMap<Name, Limits>,
    /// The places' texts.
    pub texts: BTreeMap<Name, String>,
    /// Places that can be used, or why not.
    pub(crate) places: HashMap<Name, Result<Arc<dyn Place>, PlaceError>>,
}

impl Arrangement {
    /// The group that a section belongs to, if it says one.
    pub fn group(&self, kind: SectionKind, name: &str) -> Option<String> {
        let text = match kind {
            SectionKind::Rule => self.rules.iter().find(|live| live.rule.name.as_str() == name).map(|live| &*live.text),
            SectionKind::Twin => self.twins.iter().find(|live| live.twin.name.as_str() == name).map(|live| &*live.text),
            SectionKind::Place => self.texts.get(name).map(String::as_str),
            SectionKind::Partner | SectionKind::Account | SectionKind::Calendar | SectionKind::Database => None,
        };
        section_group(kind, text?)
    }

    /// What a part of a book may name besides what is in it.
    pub(crate) fn known(&self) -> Known {
        Known {
            places: self.specs.keys().cloned().collect(),
            partners: self.partners.clone(),
            accounts: self.accounts.iter().map(|account| account.name.clone()).collect(),
            calendars: self.calendars.clone(),
            databases: self.databases.iter().map(|database| database.name.clone()).collect(),
            twins: self.twins.iter().map(|live| live.twin.name.clone()).collect(),
            rules: self.rules.iter().map(|live| live.rule.name.clone()).collect(),
        }
    }

    /// A rule by name.
    pub fn rule(&self, name: &Name) -> Option<&LiveRule> {
        self.rules.iter().find(|live| live.rule.name == *name)
    }

    /// A twin by name.
    pub fn twin(&self, name: &Name) -> Option<&LiveTwin> {
        self.twins.iter().find(|live| live.twin.name == *name)
    }

    /// The twin whose passes run under this name.
    pub fn twin_of(&self, rule: &Name) -> Option<&LiveTwin> {
        self.twins.iter().find(|live| live.twin.rule_name() == *rule)
    }

    /// A place ready to use.
    pub fn place(&self, name: &Name) -> Result<Arc<dyn Place>, PlaceError> {
        match self.places.get(name) {
            Some(place) => place.clone(),
            None => Err(PlaceError {
                kind: wetbank_places::PlaceErrorKind::NoPlace,
                place: name.clone(),
                call: "use",
                path: wetbank_core::RelPath::root(),
                detail: String::new(),
                secret: None,
            }),
        }
    }
}
