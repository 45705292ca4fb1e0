//! Rules that are started by what other rules do.

use std::{sync::Arc, time::Duration};

use super::means::Intake;
use crate::clock;

/// Files on which rules are started in one transaction.
const BATCH: u32 = 256;
/// After the journal refused something, when it is tried again.
const AGAIN: Duration = Duration::from_secs(5);

/// Starts rules on what the journal has for them, until the service stops.
pub(crate) async fn run(intake: Arc<Intake>) {
    loop {
        let arrangement = intake.arranged.now();
        let on = arrangement.rules.iter().filter(|live| live.is_on).map(|live| live.rule.name.clone()).collect();
        let pause = match intake.record.journal.take_chained(BATCH, on, clock::now()).await {
            Ok((works, more)) => {
                intake.queue.claims.add(works);
                if more {
                    continue;
                }
                None
            }
            Err(error) => {
                tracing::error!(%error, "rules that others start cannot be started; trying again");
                Some(AGAIN)
            }
        };
        tokio::select! {
            () = intake.queue.chains.notified() => {}
            () = tokio::time::sleep(pause.unwrap_or(Duration::MAX)), if pause.is_some() => {}
            () = intake.cancel.cancelled() => return,
        }
    }
}
