//! The journal: the one place with SQL.
//!
//! What is arranged, what was seen, what was done. Every write goes through one writer task
//! that commits what is queued in one transaction (group commit) and acknowledges after the
//! commit is on disk, so thousands of small steps a second are recorded durably.

mod acts;
mod arranged;
mod arrivals;
mod bulk;
mod error;
mod exchanges;
mod folding;
mod history;
mod intake;
mod joins;
mod ledger;
mod open;
mod outbox;
mod passes;
mod people;
mod progress;
mod records;
mod starting;
mod states;
mod threes;
mod tidy;
mod trace;
mod twins;
mod visits;
mod works;
mod writer;

pub use acts::{ActRecord, NewAct};
pub use arrivals::{ArrivalRecord, NewArrival};
pub use error::JournalError;
pub use exchanges::{DueRecord, ExchangeFilter, ExchangeRecord, NewExchange};
pub use intake::{Refusal, Sighting};
pub use joins::{Gathered, NewPart, SourceRecord, Standing, Through};
pub use open::Journal;
pub use outbox::{LateMails, MailFate, MailRecord, NewMail};
pub use passes::{PassRecord, PlannedItem, PlannedRun, Untold};
pub use people::{LinkRecord, NewSession, PasskeyRecord, Proof, Replaced, SessionRecord, TokenRecord, UserRecord};
pub use progress::{AttemptEnd, AttemptStart, Chained, Intention, ItemChange, NewHold, Outcome, Output, Progress};
pub use records::{
    AttemptRecord, Count, GoingAttempt, HoldRecord, HourCount, ItemRecord, KeyRecord, RunFilter, RunRecord, RunSummary,
    SectionRecord, TraceRecord, VersionRecord, Work,
};
pub use starting::NewRun;
pub use states::PlaceState;
pub use twins::{Seal, TwinNote};
pub use visits::{AccountPassword, NewVisit, UploadRecord, VisitRecord};
pub use writer::Trouble;
