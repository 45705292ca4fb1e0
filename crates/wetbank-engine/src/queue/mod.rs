//! Work that waits: who works on what, in which turn, for what it waits, and until when.

mod claim;
mod claims;
mod deadlines;
mod joins;
mod stopping;

use tokio::sync::Notify;

use crate::events::Events;
pub(crate) use claim::{Claim, Moved, Refused};
pub(crate) use claims::{Claims, Next, Told};
pub(crate) use deadlines::Deadlines;
pub(crate) use joins::Joins;
pub(crate) use stopping::{Stopped, Stopping};

/// Everything that waits.
#[derive(Debug)]
pub(crate) struct Queue {
    pub claims: Claims,
    /// Items that wait for others.
    pub joins: Joins,
    pub deadlines: Deadlines,
    pub stopping: Stopping,
    pub events: Events,
    /// Something happened that starts other rules.
    pub chains: Notify,
    /// A mail was put into the outbox.
    pub mails: Notify,
}

impl Queue {
    pub fn new(events: Events, claims: Claims) -> Self {
        Self {
            claims,
            joins: Joins::default(),
            deadlines: Deadlines::default(),
            stopping: Stopping::default(),
            events,
            chains: Notify::new(),
            mails: Notify::new(),
        }
    }
}
