//! What the runner works with.

use std::sync::Arc;

use tokio_util::{sync::CancellationToken, task::TaskTracker};

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
