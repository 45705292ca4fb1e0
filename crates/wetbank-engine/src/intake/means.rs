//! What intake works with.

use std::sync::Arc;

use tokio_util::{sync::CancellationToken, task::TaskTracker};

use super::{arrivals::Arrivals, exchanges::Gatherings, offers::Offers};
use crate::{arranged::Arranged, moorings::Moorings, queue::Queue, record::Record, runner::Runner};

/// Sees what begins work, records it and queues it.
#[derive(Debug)]
pub(crate) struct Intake {
    pub record: Record,
    pub arranged: Arc<Arranged>,
    pub moorings: Arc<Moorings>,
    pub queue: Arc<Queue>,
    /// Stops runs that take too long, or that are overtaken.
    pub runner: Arc<Runner>,
    pub offers: Offers,
    pub arrivals: Arrivals,
    /// What visitors of our own server bring together.
    pub gatherings: Gatherings,
    /// Cancelled when the service stops.
    pub cancel: CancellationToken,
    pub tracker: TaskTracker,
}
