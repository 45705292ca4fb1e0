//! Twins, as the service asks for them.

use wetbank_core::{
    Cause,
    twin::{Counts, Line, Pair, Stop, Twin},
};

use super::Engine;
use crate::{
    EngineError, clock,
    twins::{self, Passing},
};

/// What a pass would do.
#[derive(Debug, Clone)]
pub struct Comparison {
    /// What it comes to.
    pub counts: Counts,
    /// Files on each side.
    pub files: Pair<u64>,
    /// Why it would not be begun without asking.
    pub stop: Option<Stop>,
    /// Whether both sides meet for the first time.
    pub is_first: bool,
    /// The first lines of the plan.
    pub lines: Vec<Line>,
    /// Whether there are more.
    pub more: bool,
}

impl Engine {
    /// Looks at both sides of a twin and tells what a pass would do, at most so many lines of it. Nothing is touched.
    pub async fn compare(&self, twin: &Twin, most: usize) -> Result<Comparison, EngineError> {
        let is_first = !self.core.journal.has_met(&twin.name).await?;
        let looked = twins::look(&self.core.effects, twin, is_first, clock::now()).await?;
        let (mut lines, mut reading) = (Vec::new(), looked.read().await?);
        let mut more = false;
        while let Some(line) = reading.next().await? {
            if lines.len() == most {
                more = true;
                break;
            }
            lines.push(line);
        }
        let (counts, files, stop) = (looked.counts, looked.files, looked.stop);
        Ok(Comparison { counts, files, stop, is_first, lines, more })
    }

    /// A pass of a twin, to its end. With `is_allowed` it is begun although it deletes or replaces much. Nothing if one
    /// goes on already.
    pub async fn pass(&self, twin: &Twin, cause: Cause, is_allowed: bool) -> Result<Option<Passing>, EngineError> {
        let core = &self.core;
        twins::pass((&core.effects, &core.queue, &core.twins), twin, cause, is_allowed).await
    }
}
