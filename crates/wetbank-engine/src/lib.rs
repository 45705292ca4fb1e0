//! The engine: sees files, takes them in, works them through their steps, recovers.
//!
//! It knows no protocol and no HTTP. What is decided comes from `wetbank-core`, what is done
//! goes through `wetbank-places` and `wetbank-crypt`, and every step is in `wetbank-journal`
//! before and after it has an effect, so that a stop at any instant loses nothing.
//!
//! A file goes through its rooms in one direction, and each knows only those below it: `intake` takes it in,
//! `queue` has it wait for its turn, `runner` asks what comes next and records what came of it, `effects` do it, in
//! places that lie at the `moorings`, as it is `arranged`. `engine` is the front that the service calls.

mod arranged;
mod calendar;
mod clock;
mod declined;
mod effects;
mod engine;
mod error;
mod events;
mod grants;
mod guarded;
mod intake;
mod keeping;
mod keys;
mod moorings;
mod outbox;
mod queue;
mod record;
mod runner;
mod tidy;
mod twins;

pub use arranged::book::{BookChange, BookDiff, ChangeKind};
pub use arranged::{Arrangement, LiveRule, LiveTwin};
pub use declined::Declined;
pub use effects::{Passing, REMOVED, changes};
pub use engine::{
    Against, Begun, By, CalendarImport, CalendarStatus, CodeToType, Comparison, Counted, DatabaseStatus, DayCount,
    Drafted, Engine, EngineOptions, Expected, ExplainedFile, NewAgreement, NewPlaceKeys, NewPlaceValue, NextFiring,
    Only, Over, PartnerStatus, PassStatus, PlaceStatus, Played, PlayedFile, Proposed, Rehearsed, RuleOnFile,
    SectionNow, Show, SignInOffer, SignInState, SignalCall, SignalRefusal, StoppedRun, TwinStatus, Warning, WayCount,
    signal_proof,
};
pub use error::EngineError;
pub use events::{Event, Moving};
pub use intake::Visitor;
pub use keeping::Keeping;
pub use keys::KeyStatus;
pub use twins::Kept;
