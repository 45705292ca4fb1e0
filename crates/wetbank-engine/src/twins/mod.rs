//! Twins: looking at both sides, making a plan of what differs, and carrying it out as a run.

mod differ;
mod keeper;
mod kept;
mod look;
mod marks;
mod pass;
mod questions;
mod roots;
mod spool;
mod tell;
mod watch;

pub(crate) use differ::Differ;
pub(crate) use keeper::{Keeper, Turns, run};
pub use kept::Kept;
pub(crate) use marks::Planned;
