//! From settled files to queued work, many in one transaction.

use std::{
    sync::Arc,
    time::{Duration, Instant},
};

use tokio::sync::mpsc;
use wetbank_core::{Arrival, Cause, Name};
use wetbank_journal::{Sighting, Work};

use super::gather::Gathering;
use super::means::Intake;
use crate::{clock, events::Event};

/// Files taken in at once.
const BATCH: usize = 256;
/// After the journal refused something, when it is tried again.
const AGAIN: Duration = Duration::from_secs(2);

/// Journals what is offered and queues the work; what gathers waits until all of it is there.
pub(crate) async fn run(intake: Arc<Intake>, mut sightings: mpsc::Receiver<Sighting>) {
    let mut batch = Vec::with_capacity(BATCH);
    let mut gathering = Gathering::default();
    // What is complete, but could not be taken in, waits for nothing else to come.
    let mut refused_together = false;
    loop {
        let is_idle = batch.is_empty() && !std::mem::take(&mut refused_together);
        let pause = if is_idle { gathering.pause(Instant::now()) } else { Some(Duration::ZERO) };
        // recv_many is cancel-safe.
        let received = tokio::select! {
            received = sightings.recv_many(&mut batch, BATCH) => Some(received),
            () = tokio::time::sleep(pause.unwrap_or(Duration::MAX)), if pause.is_some() => None,
            () = intake.cancel.cancelled() => return,
        };
        if received == Some(0) {
            return;
        }
        let mut offered = std::mem::take(&mut batch);
        // A rule may have been switched off while its watcher still looked; once it is on again
        // everything is looked through.
        let arrangement = intake.arranged.now();
        let is_on = |rule: &Name| arrangement.rule(rule).is_some_and(|live| live.is_on);
        offered.retain(|seen| seen.again || is_on(&seen.rule));
        let arrival = |rule: &Name| arrangement.rule(rule).and_then(|live| live.rule.starts.arrival.as_ref());
        let (mut mails, mut files) = (Vec::new(), Vec::new());
        for seen in offered {
            match arrival(&seen.rule) {
                Some(Arrival { letter: Some(_), .. }) => mails.push(seen),
                Some(Arrival { gather: Some(gather), .. }) if !seen.note_only => {
                    gathering.put(seen, gather, Instant::now());
                }
                _ => files.push(seen),
            }
        }
        for together in gathering.take_complete(Instant::now(), is_on) {
            let refused = together.clone();
            match intake.record.journal.take_together(together, Cause::Arrival, None, clock::now()).await {
                Ok(works) => queue(&intake, works),
                Err(error) => {
                    tracing::error!(%error, files = refused.len(), "files cannot be taken in; trying again");
                    refused_together = true;
                    for seen in refused {
                        if let Some(Arrival { gather: Some(gather), .. }) = arrival(&seen.rule) {
                            gathering.put(seen, gather, Instant::now());
                        }
                    }
                    tokio::time::sleep(AGAIN).await;
                }
            }
        }
        for (sightings, cause) in [(files, Cause::Arrival), (mails, Cause::Mail)] {
            if sightings.is_empty() {
                continue;
            }
            match intake.record.journal.take_in(sightings.clone(), cause, clock::now()).await {
                Ok(answers) => queue(&intake, answers.into_iter().flatten().collect()),
                Err(error) => {
                    tracing::error!(%error, files = sightings.len(), "files cannot be taken in; trying again");
                    batch.extend(sightings);
                    tokio::time::sleep(AGAIN).await;
                }
            }
        }
    }
}

fn queue(intake: &Intake, works: Vec<Work>) {
    for work in &works {
        intake.queue.events.tell(Event::Item {
            run: work.run,
            item: work.item,
            rule: work.rule.clone(),
            state: work.state,
            branch: None,
            step: 0,
        });
    }
    intake.queue.claims.add(works);
}
