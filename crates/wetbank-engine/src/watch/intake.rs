//! From settled files to queued work, many in one transaction.

use std::{
    sync::Arc,
    time::{Duration, Instant},
};

use tokio::sync::mpsc;
use wetbank_core::{Arrival, Cause, Name};
use wetbank_journal::{Sighting, Work};

use super::gather::Gathering;
use crate::{clock, engine::Core, events::Event};

/// Settled files that may wait for their transaction.
const QUEUE: usize = 4096;
/// Files taken in at once.
const BATCH: usize = 256;
/// After the journal refused something, when it is tried again.
const AGAIN: Duration = Duration::from_secs(2);

/// Takes settled files in.
#[derive(Debug, Clone)]
pub(crate) struct Intake(mpsc::Sender<Sighting>);

impl Intake {
    pub fn new() -> (Self, mpsc::Receiver<Sighting>) {
        let (sender, receiver) = mpsc::channel(QUEUE);
        (Self(sender), receiver)
    }

    /// Hands a settled file over. A file lost here by a stop is seen again at the next start.
    pub async fn offer(&self, sighting: Sighting) {
        let _ = self.0.send(sighting).await;
    }
}

/// Journals what is offered and queues the work; what gathers waits until all of it is there.
pub(crate) async fn run(core: Arc<Core>, mut sightings: mpsc::Receiver<Sighting>) {
    let mut batch = Vec::with_capacity(BATCH);
    let mut gathering = Gathering::default();
    loop {
        // What could not be taken in waits for nothing else to come.
        let pause = if batch.is_empty() { gathering.pause(Instant::now()) } else { Some(Duration::ZERO) };
        // recv_many is cancel-safe.
        let received = tokio::select! {
            received = sightings.recv_many(&mut batch, BATCH) => Some(received),
            () = tokio::time::sleep(pause.unwrap_or(Duration::MAX)), if pause.is_some() => None,
            () = core.cancel.cancelled() => return,
        };
        if received == Some(0) {
            return;
        }
        let mut offered = std::mem::take(&mut batch);
        // A rule may have been switched off while its watcher still looked; once it is on again
        // everything is looked through.
        let arrangement = core.arrangement();
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
            match core.journal.take_together(together, Cause::Arrival, None, clock::now()).await {
                Ok(works) => queue(&core, works),
                Err(error) => {
                    tracing::error!(%error, files = refused.len(), "files cannot be taken in; trying again");
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
            match core.journal.take_in(sightings.clone(), cause, clock::now()).await {
                Ok(answers) => queue(&core, answers.into_iter().flatten().collect()),
                Err(error) => {
                    tracing::error!(%error, files = sightings.len(), "files cannot be taken in; trying again");
                    batch.extend(sightings);
                    tokio::time::sleep(AGAIN).await;
                }
            }
        }
    }
}

fn queue(core: &Core, works: Vec<Work>) {
    for work in &works {
        core.events.tell(Event::Item {
            run: work.run,
            item: work.item,
            rule: work.rule.clone(),
            state: work.state,
            branch: None,
            step: 0,
        });
    }
    core.claims.add(works);
}
