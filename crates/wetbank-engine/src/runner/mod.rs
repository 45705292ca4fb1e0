//! Working items through their rule. The runner asks the domain what comes next, has the effects do it, and
//! records what came of it. It knows no protocol.

mod brake;
mod chains;
mod failure;
mod find;
mod holds;
mod joining;
mod letter;
mod means;
mod original;
mod record;
mod seen;
mod stopping;
mod work;

pub(crate) use find::Searching;
pub(crate) use joining::run as join;
pub(crate) use means::Runner;
pub(crate) use seen::{SeenPaths, short};
pub(crate) use work::{fetch, run};
