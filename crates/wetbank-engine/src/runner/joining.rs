//! Items that wait for others of their run: who is complete goes on.

use std::{sync::Arc, time::Duration};

use wetbank_core::{ItemState, Name, OnFault};
use wetbank_journal::Through;

use super::{means::Runner, work};
use crate::{EngineError, queue::Claim};

/// Items that go on together.
const PAGE: i64 = 256;
/// After the journal refused something, when it is tried again.
const AGAIN: Duration = Duration::from_secs(5);

/// Lets items go on as soon as those they wait for are so far, until the service stops.
pub(crate) async fn run(runner: Arc<Runner>) {
    let mut known = false;
    loop {
        if !known {
            match runner.record.journal.joining_runs().await {
                Ok(runs) => {
                    known = true;
                    runs.into_iter().for_each(|run| runner.queue.joins.expect(run));
                }
                Err(error) => tracing::error!(%error, "items that wait for others cannot be read"),
            }
        }
        let mut failed = !known;
        for run in runner.queue.joins.take() {
            if let Err(error) = check(&runner, run).await {
                tracing::error!(run, %error, "items that wait for others of their run cannot go on; trying again");
                runner.queue.joins.news(run);
                failed = true;
            }
        }
        tokio::select! {
            () = runner.queue.joins.changed(), if !failed => {}
            () = tokio::time::sleep(AGAIN), if failed => {}
            () = runner.cancel.cancelled() => return,
        }
    }
}

async fn check(runner: &Arc<Runner>, run: i64) -> Result<(), EngineError> {
    loop {
        let page = runner.record.journal.through(run, PAGE).await?;
        if page.is_empty() {
            break;
        }
        let each = page.into_iter().map(|through| go_on(runner, through));
        futures_util::future::try_join_all(each).await?;
    }
    if !runner.record.journal.joining_runs().await?.contains(&run) {
        runner.queue.joins.forget(run);
        return Ok(());
    }
    let gathered = runner.record.journal.gathered(run).await?;
    let standing = runner.record.journal.standing(run).await?;
    // Whoever stops a run wants nothing more of it, whatever the rule says of faults.
    if standing.open || standing.stopped || (standing.held && fault_of(runner, run).await? != OnFault::GoOn) {
        return Ok(());
    }
    for at in gathered {
        if let Some(work) = runner.record.journal.join(run, at, format!("together-{run}"), crate::clock::now()).await? {
            runner.queue.claims.add([work]);
        }
    }
    Ok(())
}

/// What a held file means for the others of the run.
async fn fault_of(runner: &Runner, run: i64) -> Result<OnFault, EngineError> {
    let record = runner.record.journal.run(run).await?;
    let name = record.and_then(|run| Name::new(&run.rule).ok());
    let arrangement = runner.arranged.now();
    Ok(name.and_then(|name| arrangement.rule(&name)).map_or(OnFault::Wait, |live| live.rule.fault))
}

/// Everything made of an item is at its end: so is the item, but for its original.
async fn go_on(runner: &Arc<Runner>, through: Through) -> Result<(), EngineError> {
    let Some(work) = runner.record.journal.work(through.item).await? else { return Ok(()) };
    if work.state != ItemState::Joining {
        return Ok(());
    }
    let claim = Claim::new(work);
    match through.skipped {
        // Its content did not arrive: the original stays where it is.
        Some(why) => work::leave(runner, claim, format!("what was made of it was left out: {why}")).await,
        None => work::resume(runner, claim).await?,
    }
    Ok(())
}
