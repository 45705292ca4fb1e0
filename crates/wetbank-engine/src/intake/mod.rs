//! What begins work: files that come, change and go; the clock; other rules. Whatever it is, it is in the journal
//! before anything is done with it.

mod arrivals;
mod chain;
mod clock;
mod exchanges;
mod gather;
mod kernel;
mod ledger;
mod local;
mod markers;
mod means;
mod offers;
mod pace;
mod remote;
mod settle;
mod starting;
mod taking;
mod tree;
mod watch;
mod watched;

pub(crate) use arrivals::{Arrivals, run as note_arrivals};
pub(crate) use chain::run as chains;
pub(crate) use clock::run as clock;
pub use exchanges::Visitor;
pub(crate) use exchanges::{Exchanged, Gatherings, gatherings};
pub(crate) use means::Intake;
pub(crate) use offers::Offers;
pub(crate) use pace::Pace;
pub(crate) use settle::silence;
pub(crate) use starting::Beginning;
pub(crate) use taking::run as take_in;
pub(crate) use tree::Tree;
pub(crate) use watch::supervise;
