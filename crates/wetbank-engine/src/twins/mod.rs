//! Twins: looking at both sides, making a plan of what differs, and carrying it out as a run.

mod look;
mod pass;
mod spool;

pub(crate) use look::{Looked, look};
pub use pass::Passing;
pub(crate) use pass::{Going, pass};
