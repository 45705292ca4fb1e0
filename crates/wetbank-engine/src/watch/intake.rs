//! From settled files to queued work, many in one transaction.

use std::sync::Arc;

use tokio::sync::mpsc;
use wetbank_journal::Sighting;

use crate::{clock, engine::Core, events::Event};

/// Settled files that may wait for their transaction.
const QUEUE: usize = 4096;
/// Files taken in at once.
const BATCH: usize = 256;

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

/// Journals what is offered and queues the work.
pub(crate) async fn run(core: Arc<Core>, mut sightings: mpsc::Receiver<Sighting>) {
    let mut batch = Vec::with_capacity(BATCH);
    loop {
        // recv_many is cancel-safe.
        let received = tokio::select! {
            received = sightings.recv_many(&mut batch, BATCH) => received,
            () = core.cancel.cancelled() => return,
        };
        if received == 0 {
            return;
        }
        let mut offered = std::mem::take(&mut batch);
        // A rule may have been switched off while its watcher still looked; once it is on again
        // everything is looked through.
        let arrangement = core.arrangement();
        offered.retain(|seen| seen.by_hand || arrangement.rule(&seen.rule).is_some_and(|live| live.is_on));
        if offered.is_empty() {
            continue;
        }
        match core.journal.take_in(offered.clone(), clock::now()).await {
            Ok(answers) => {
                let works: Vec<_> = answers.into_iter().flatten().collect();
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
            Err(error) => {
                tracing::error!(%error, files = offered.len(), "files cannot be taken in; trying again");
                batch = offered;
                tokio::time::sleep(std::time::Duration::from_secs(2)).await;
            }
        }
    }
}
