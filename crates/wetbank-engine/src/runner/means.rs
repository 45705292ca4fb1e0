//! What the runner works with.

use std::{sync::Arc, time::Duration};

use tokio_util::{sync::CancellationToken, task::TaskTracker};
use wetbank_core::ItemState;
use wetbank_journal::Work;

use crate::{arranged::Arranged, effects::Effects, moorings::Moorings, queue::Queue, record::Record};

/// Takes claims from the queue and has effects done.
#[derive(Debug)]
pub(crate) struct Runner {
    pub record: Record,
    pub arranged: Arc<Arranged>,
    pub moorings: Arc<Moorings>,
    pub queue: Arc<Queue>,
    pub effects: Arc<Effects>,
    /// Cancelled when the service stops.
    pub cancel: CancellationToken,
    pub tracker: TaskTracker,
}

/// After this long a server has got to all that it was asked before a connection broke.
const LATE: Duration = Duration::from_secs(10);

impl Runner {
    /// Removes once more, a little later, what an item left aside at its targets while it is held: of a connection that
    /// broke, a server may get to the last requests after what they made was removed.
    pub fn clear_later(&self, work: Work) {
        let (queue, effects, record) = (self.queue.clone(), self.effects.clone(), self.record.clone());
        let cancel = self.cancel.clone();
        self.tracker.spawn(async move {
            tokio::select! {
                () = tokio::time::sleep(LATE) => {}
                () = cancel.cancelled() => return,
            }
            // Whoever releases it meanwhile waits for this.
            if !queue.claims.keep_at_rest(&work) {
                return;
            }
            if let Ok(Some(now)) = record.journal.work(work.item).await
                && now.state == ItemState::Held
            {
                let _ = effects.clear_target(&now).await;
            }
            queue.claims.forget(&work);
        });
    }
}
