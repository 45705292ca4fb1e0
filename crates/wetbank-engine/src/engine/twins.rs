//! Twins, as the service asks for them.

use std::sync::Arc;

use jiff::{Timestamp, civil::Date};
use wetbank_core::{
    Cause, Name, RelPath,
    twin::{ASKED, Action, Choices, Counts, Line, Pair, Side, Stop, Twin},
};
use wetbank_journal::PassRecord;

use super::Engine;
use crate::{
    EngineError, LiveTwin, clock,
    effects::Passing,
    twins::{Kept, Planned},
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
    /// How many there are.
    pub all: u64,
    /// When both sides were looked at.
    pub at: Timestamp,
}

/// What a pass came to, as it is on record.
#[derive(Debug, Clone)]
pub struct PassStatus {
    /// As the journal has it.
    pub record: PassRecord,
    /// What was planned.
    pub counts: Counts,
    /// Files on each side then.
    pub files: Pair<u64>,
    /// Why it was not begun without asking.
    pub stop: Option<Stop>,
    /// Something was left out.
    pub is_part: bool,
    /// Items that ended without anything done.
    pub left: u64,
    /// Items that were held when it ended.
    pub held: u64,
}

/// How a twin is doing.
#[derive(Debug, Clone)]
pub struct TwinStatus {
    /// The twin as it is in force.
    pub live: LiveTwin,
    /// Since when a pass goes on.
    pub going: Option<Timestamp>,
    /// The last passes, newest first.
    pub passes: Vec<PassStatus>,
    /// The held item in which a person is asked, and why.
    pub question: Option<(i64, String)>,
    /// When its schedule fires next.
    pub next: Option<Timestamp>,
}

impl PassStatus {
    fn of(record: PassRecord) -> Self {
        let planned = record.plan.as_deref().and_then(|plan| serde_json::from_str::<Planned>(plan).ok());
        let Planned { counts, files, stop, is_part, left, held, .. } = planned.unwrap_or_default();
        Self { record, counts, files, stop, is_part, left, held }
    }
}

impl Engine {
    /// Looks at both sides of a twin and tells what a pass would do, at most so many lines of it. Nothing is touched.
    pub async fn compare(&self, twin: &Twin, choices: &Choices, most: usize) -> Result<Comparison, EngineError> {
        let at = clock::now();
        let looked = self.core.twins.look(twin, choices).await?;
        let (mut lines, mut reading) = (Vec::new(), looked.read().await?);
        let mut all = 0;
        while let Some(line) = reading.next().await? {
            // What is the same on both sides is only noted.
            if matches!(line.action, Action::Join | Action::Forget) {
                continue;
            }
            all += 1;
            if lines.len() < most {
                lines.push(line);
            }
        }
        let Planned { counts, files, stop, .. } = looked.planned;
        Ok(Comparison { counts, files, stop, is_first: looked.is_first, lines, all, at })
    }

    /// A pass of a twin, to its end, once no other one of it goes on.
    pub async fn pass(&self, twin: &Twin, cause: Cause, choices: &Choices) -> Result<Passing, EngineError> {
        self.core.twins.pass(twin, cause, choices).await
    }

    /// The twin of this name.
    ///
    /// # Errors
    ///
    /// If there is none.
    pub fn twin(&self, name: &str) -> Result<Arc<Twin>, EngineError> {
        self.core.twins.twin(&Name::new(name)?)
    }

    /// How every twin is doing, in the order of the book, each with so many of its last passes.
    pub async fn twins(&self, passes: i64) -> Result<Vec<TwinStatus>, EngineError> {
        let arrangement = self.core.arranged.now();
        let mut all = Vec::with_capacity(arrangement.twins.len());
        for live in &arrangement.twins {
            all.push(self.twin_status(live, passes).await?);
        }
        Ok(all)
    }

    /// How one twin is doing.
    ///
    /// # Errors
    ///
    /// If there is none of this name.
    pub async fn twin_now(&self, name: &str, passes: i64) -> Result<TwinStatus, EngineError> {
        let arrangement = self.core.arranged.now();
        let live = arrangement.twin(&Name::new(name)?).ok_or_else(|| EngineError::unknown("twin", name))?;
        self.twin_status(live, passes).await
    }

    async fn twin_status(&self, live: &LiveTwin, passes: i64) -> Result<TwinStatus, EngineError> {
        let (journal, twin) = (&self.core.journal, &live.twin);
        let passes = journal.passes(&twin.name, passes).await?.into_iter().map(PassStatus::of).collect();
        let question = journal.holds_of_branch(&twin.rule_name(), ASKED).await?.pop();
        let next = twin.starts.schedule.as_ref().filter(|_| live.is_on);
        let next = next.and_then(|schedule| schedule.next_after(clock::now(), &twin.zone));
        let going = self.core.twins.turns.going(&twin.name);
        Ok(TwinStatus { live: live.clone(), going, passes, question, next })
    }

    /// What the sides of a twin keep of what they lost, at most so much of it.
    pub async fn kept(&self, twin: &Twin, most: usize) -> Result<(Vec<Kept>, bool), EngineError> {
        self.core.twins.kept(twin, most).await
    }

    /// Brings back what a side lost on a day: these paths, files or folders, or all of it. Answers the run; nothing if
    /// nothing of it is kept.
    pub async fn restore(
        &self,
        twin: &Twin,
        side: Side,
        day: Date,
        paths: &[RelPath],
    ) -> Result<Option<i64>, EngineError> {
        self.core.twins.restore(twin, side, day, paths).await
    }

    /// Removes for good what a twin's sides keep longer than it says at this time.
    pub async fn purge_kept(&self, twin: &Twin, now: Timestamp) -> Result<(), EngineError> {
        self.core.twins.purge(twin, now).await
    }

    /// Whose a file is on each side, where its place tells that.
    pub async fn owners(&self, twin: &Twin, at: &Pair<RelPath>) -> Result<Pair<Option<String>>, EngineError> {
        self.core.twins.owners(twin, at).await
    }

    /// Both versions of a text; or why they cannot be shown as texts.
    pub async fn texts(&self, twin: &Twin, at: &Pair<RelPath>) -> Result<Result<Pair<String>, String>, EngineError> {
        self.core.twins.texts(twin, at).await
    }
}
