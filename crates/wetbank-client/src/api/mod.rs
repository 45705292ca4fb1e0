//! Requests and answers of `/api/v1`.

#![allow(missing_docs, reason = "field names say it; what needs more words has them")]

mod accounts;
mod book;
mod drafts;
mod partners;
mod people;
mod places;
mod rehearsals;
mod rules;
mod runs;
mod starters;
mod twins;
mod words;

use serde::{Deserialize, Serialize};
use utoipa::ToSchema;

pub use accounts::*;
pub use book::*;
pub use drafts::*;
pub use partners::*;
pub use people::*;
pub use places::*;
pub use rehearsals::*;
pub use rules::*;
pub use runs::*;
pub use starters::*;
pub use twins::*;
pub use words::*;

/// A problem, as RFC 9457 has it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Problem {
    /// A short name of the kind of problem.
    pub title: String,
    /// The HTTP status.
    pub status: u16,
    /// What is wrong, and what to do.
    pub detail: String,
    /// A stable word for programs.
    pub code: String,
    /// The mistakes of a book.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub mistakes: Vec<Mistake>,
    /// The text that is in force, of a section that was changed meanwhile.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub current: Option<String>,
    /// After so many seconds it may be tried again.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub wait: Option<u64>,
}

/// A mistake in a book.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Mistake {
    pub file: String,
    /// Counted from 1.
    pub line: usize,
    /// The section or key.
    pub key: String,
    pub message: String,
}

/// How things stand.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Status {
    pub version: String,
    /// Since when the service runs.
    pub started: String,
    pub queued: i64,
    pub working: i64,
    /// Items that wait for another attempt.
    pub waiting: i64,
    /// Items that wait for others of their run.
    pub joining: i64,
    /// Items that wait for a person.
    pub held: i64,
    pub rules_on: usize,
    pub rules_off: usize,
    /// Places that could not be reached when last tried.
    pub places_away: Vec<String>,
    pub moving: Vec<Moving>,
    /// What fires next, soonest first; at most eight.
    pub next: Vec<Firing>,
    /// Keys and the like that expire within thirty days, or did; the most urgent first.
    pub warnings: Vec<Warning>,
    pub today: Traffic,
    /// The certificate that the service shows; none where everything is sent in clear.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub certificate: Option<ShownCertificate>,
}

/// The certificate that a service shows to those who connect.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct ShownCertificate {
    /// `SHA256:AB:CD:…`
    pub fingerprint: String,
    /// The names and addresses that it is for.
    pub names: Vec<String>,
    pub ends: String,
    /// No authority vouches for it.
    pub own: bool,
}

/// Something that expires soon, or did.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Warning {
    pub what: String,
    pub until: Option<String>,
    /// Which of the warnings before the end this is: 30, 7 or 1 days; 0 once it is over.
    pub days: i64,
    pub partner: Option<String>,
    pub remedy: String,
}

impl Warning {
    /// In a few words: `key "harlan" expires within 7 days (2026-03-14)`.
    pub fn words(&self) -> String {
        let day = self.until.as_deref().and_then(|until| until.get(..10));
        match (self.days, day) {
            (0, Some(day)) => format!("{} expired on {day}", self.what),
            (1, Some(day)) => format!("{} expires within a day ({day})", self.what),
            (days, Some(day)) => format!("{} expires within {days} days ({day})", self.what),
            (_, None) => self.what.clone(),
        }
    }
}

/// A day's traffic by hour.
#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct Traffic {
    /// The day's start.
    pub from: String,
    pub done: i64,
    pub bytes: i64,
    pub hours: Vec<HourTraffic>,
}

#[derive(Debug, Clone, Default, Serialize, Deserialize, ToSchema)]
pub struct HourTraffic {
    pub hour: i64,
    pub done: i64,
    pub skipped: i64,
    pub held: i64,
    pub bytes: i64,
}

/// A file being worked on now.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Moving {
    pub run: i64,
    pub item: i64,
    pub rule: String,
    pub title: String,
    pub file: String,
    pub branch: usize,
    /// The position at work: the index of a step, or -1 for the original.
    pub step: i64,
    /// The steps of its way.
    pub steps: Vec<ItemStep>,
    pub from: String,
    pub to: String,
    pub done: u64,
    pub total: u64,
    pub since: String,
}

impl Moving {
    /// The kind of the step at work.
    pub fn step_kind(&self) -> &str {
        self.steps.iter().find(|step| step.at == self.step).map_or("", |step| &step.kind)
    }
}

/// A mail that carries no file, and so waits in the outbox without anything waiting for it.
#[derive(Debug, Clone, Serialize, Deserialize, ToSchema)]
pub struct Notice {
    pub id: i64,
    pub run: i64,
    pub rule: String,
    /// The mailbox that sends it.
    pub place: String,
    pub to: String,
    pub subject: String,
    pub state: NoticeState,
    pub queued: String,
    /// When it is tried next.
    pub due: Option<String>,
    pub tries: i64,
    /// Why it was not sent.
    pub why: Option<String>,
    pub ended: Option<String>,
}
