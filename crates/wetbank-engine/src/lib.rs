//! The engine: sees files, takes them in, works them through their steps, recovers.
//!
//! It knows no protocol and no HTTP. What is decided comes from `wetbank-core`, what is done
//! goes through `wetbank-places` and `wetbank-crypt`, and every step is in `wetbank-journal`
//! before and after it has an effect, so that a stop at any instant loses nothing.

mod arrangement;
mod book;
mod calendar;
mod chain;
mod claims;
mod clock;
mod engine;
mod error;
mod events;
mod grants;
mod health;
mod join;
mod keys;
mod outbox;
mod probe;
mod reading;
mod recover;
mod runner;
mod scheduler;
mod step;
mod transfer;
mod watch;

pub use arrangement::{Arrangement, LiveRule};
pub use book::{BookChange, BookDiff, ChangeKind};
pub use engine::{
    Begun, CalendarImport, CalendarStatus, CodeToType, DatabaseStatus, Engine, EngineOptions, ExplainedFile,
    NewAgreement, NewPlaceKeys, NewPlaceValue, NextFiring, PartnerStatus, PlaceStatus, SignInOffer, SignInState,
    SignalCall, SignalRefusal, Warning, signal_proof,
};
pub use error::EngineError;
pub use events::{Event, Moving};
pub use keys::KeyStatus;
