//! Items that wait for others of their run: who is complete goes on.

use std::{
    collections::{BTreeSet, HashMap},
    sync::{Arc, Mutex, MutexGuard, PoisonError},
    time::Duration,
};

use tokio::sync::Notify;
use wetbank_core::{ItemState, Name, OnFault};
use wetbank_journal::Through;

use crate::{EngineError, engine::Core, runner};

/// Items that go on together.
const PAGE: i64 = 256;
/// After the journal refused something, when it is tried again.
const AGAIN: Duration = Duration::from_secs(5);

/// Runs in which items wait for others, and whether something happened there since the last look.
#[derive(Debug, Default)]
pub(crate) struct Joins {
    runs: Mutex<HashMap<i64, bool>>,
    changed: Notify,
}

impl Joins {
    /// Items of this run wait for others from now on.
    pub fn expect(&self, run: i64) {
        self.runs().insert(run, true);
        self.changed.notify_one();
    }

    /// An item of this run came to rest.
    pub fn news(&self, run: i64) {
        if let Some(news) = self.runs().get_mut(&run) {
            *news = true;
            self.changed.notify_one();
        }
    }

    /// The runs in which something happened, which are looked at now.
    fn take(&self) -> BTreeSet<i64> {
        let mut runs = self.runs();
        runs.iter_mut().filter_map(|(run, news)| std::mem::take(news).then_some(*run)).collect()
    }

    /// Nothing waits in this run any more, unless something happened there since it was taken.
    fn forget(&self, run: i64) {
        let mut runs = self.runs();
        if runs.get(&run) == Some(&false) {
            runs.remove(&run);
        }
    }

    fn runs(&self) -> MutexGuard<'_, HashMap<i64, bool>> {
        self.runs.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

/// Lets items go on as soon as those they wait for are so far, until the service stops.
pub(crate) async fn run(core: Arc<Core>) {
    let mut known = false;
    loop {
        if !known {
            match core.journal.joining_runs().await {
                Ok(runs) => {
                    known = true;
                    runs.into_iter().for_each(|run| core.joins.expect(run));
                }
                Err(error) => tracing::error!(%error, "items that wait for others cannot be read"),
            }
        }
        let mut failed = !known;
        for run in core.joins.take() {
            if let Err(error) = check(&core, run).await {
                tracing::error!(run, %error, "items that wait for others of their run cannot go on; trying again");
                core.joins.news(run);
                failed = true;
            }
        }
        tokio::select! {
            () = core.joins.changed.notified(), if !failed => {}
            () = tokio::time::sleep(AGAIN), if failed => {}
            () = core.cancel.cancelled() => return,
        }
    }
}

async fn check(core: &Arc<Core>, run: i64) -> Result<(), EngineError> {
    loop {
        let page = core.journal.through(run, PAGE).await?;
        if page.is_empty() {
            break;
        }
        let each = page.into_iter().map(|through| go_on(core, through));
        futures_util::future::try_join_all(each).await?;
    }
    if !core.journal.joining_runs().await?.contains(&run) {
        core.joins.forget(run);
        return Ok(());
    }
    let gathered = core.journal.gathered(run).await?;
    let standing = core.journal.standing(run).await?;
    // Whoever stops a run wants nothing more of it, whatever the rule says of faults.
    if standing.open || standing.stopped || (standing.held && fault_of(core, run).await? != OnFault::GoOn) {
        return Ok(());
    }
    for at in gathered {
        if let Some(work) = core.journal.join(run, at, format!("together-{run}"), crate::clock::now()).await? {
            core.claims.add([work]);
        }
    }
    Ok(())
}

/// What a held file means for the others of the run.
async fn fault_of(core: &Core, run: i64) -> Result<OnFault, EngineError> {
    let record = core.journal.run(run).await?;
    let name = record.and_then(|run| Name::new(&run.rule).ok());
    let arrangement = core.arrangement();
    Ok(name.and_then(|name| arrangement.rule(&name)).map_or(OnFault::Wait, |live| live.rule.fault))
}

/// Everything made of an item is at its end: so is the item, but for its original.
async fn go_on(core: &Arc<Core>, through: Through) -> Result<(), EngineError> {
    let Some(mut work) = core.journal.work(through.item).await? else { return Ok(()) };
    if work.state != ItemState::Joining {
        return Ok(());
    }
    match through.skipped {
        // Its content did not arrive: the original stays where it is.
        Some(why) => runner::leave(core, &mut work, format!("what was made of it was left out: {why}")).await,
        None => runner::resume(core, work).await,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn taken(joins: &Joins) -> Vec<i64> {
        joins.take().into_iter().collect()
    }

    #[test]
    fn only_runs_in_which_something_waits_are_looked_at() {
        let joins = Joins::default();
        joins.news(7);
        assert!(taken(&joins).is_empty());
        joins.expect(7);
        assert_eq!(taken(&joins), [7]);
        assert!(taken(&joins).is_empty());
        joins.news(7);
        assert_eq!(taken(&joins), [7]);
        joins.forget(7);
        joins.news(7);
        assert!(taken(&joins).is_empty());
    }

    #[test]
    fn what_happens_during_a_look_is_looked_at_next() {
        let joins = Joins::default();
        joins.expect(7);
        assert_eq!(taken(&joins), [7]);
        joins.news(7);
        joins.forget(7);
        assert_eq!(taken(&joins), [7]);
        joins.expect(7);
        joins.forget(7);
        assert_eq!(taken(&joins), [7]);
    }
}
