//! What steps do. Each effect is given places, keys, the work folder and its attempt, and answers what came of it;
//! of the journal it sees no more than what an attempt says there.

mod align;
mod aligned;
mod checksums;
mod errands;
mod kinds;
mod letters;
mod making;
mod means;
mod names;
mod outcome;
mod passes;
mod reading;
mod recover;
mod relocate;
mod results;
mod send;
mod sources;
mod staging;
mod step;
mod transfer;
mod watched;

pub(crate) use aligned::Aligned;
pub(crate) use letters::{mailbox, path as letter_path};
pub(crate) use means::{Effects, Slots, WorkFolder};
pub(crate) use names::numbered;
pub use outcome::REMOVED;
pub(crate) use outcome::{
    Attempt, EVENT, FailureKind, Fault, GONE, Hand, InQuestion, StepDone, StepFailure, Told, about, about_run,
};
pub(crate) use passes::{Ask, Passes};
pub use passes::{Passing, changes};
pub(crate) use reading::{Reading, Source};
pub(crate) use recover::{Found, recover};
pub(crate) use relocate::Then;
pub(crate) use send::written;
pub(crate) use step::AtStep;
