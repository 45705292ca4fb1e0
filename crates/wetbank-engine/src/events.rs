//! What happens, as it happens.

use std::{
    collections::HashMap,
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering},
    },
};

use jiff::Timestamp;
use parking_lot::Mutex;
use serde::Serialize;
use tokio::sync::broadcast;
use wetbank_core::{FilePath, ItemState, Name};

/// Events that a slow listener may be behind; past that it is told to look anew.
const BEHIND: usize = 1024;

/// Something changed.
#[derive(Debug, Clone, Serialize)]
#[serde(tag = "what", rename_all = "kebab-case")]
pub enum Event {
    /// An item changed its state or step.
    Item {
        /// Its run.
        run: i64,
        /// The item.
        item: i64,
        /// Its rule.
        rule: Name,
        /// Its state.
        state: ItemState,
        /// Its branch, once decided.
        branch: Option<usize>,
        /// The position it is at: the index of a step, or a negative number for what is none.
        step: i64,
    },
    /// The book changed, or a rule was switched.
    Book,
    /// A pass of a twin began or came to its end.
    Twin {
        /// Its name.
        twin: Name,
    },
    /// A place was reached, or could not be.
    Place {
        /// Its name.
        place: Name,
    },
}

/// A file being worked on now.
#[derive(Debug, Clone)]
pub struct Moving {
    /// Its run.
    pub run: i64,
    /// The item.
    pub item: i64,
    /// Its rule.
    pub rule: Name,
    /// The file that came.
    pub file: FilePath,
    /// The branch.
    pub branch: usize,
    /// The position at work: the index of a step, or a negative number for the original.
    pub step: i64,
    /// Its kind.
    pub kind: &'static str,
    /// Bytes to do, as far as known.
    pub total: u64,
    /// Bytes done.
    pub done: Arc<AtomicU64>,
    /// When the step began.
    pub since: Timestamp,
}

/// Tells listeners what happens and remembers what moves.
#[derive(Debug, Clone)]
pub(crate) struct Events {
    sender: broadcast::Sender<Event>,
    moving: Arc<Mutex<HashMap<i64, Moving>>>,
}

impl Events {
    pub fn new() -> Self {
        Self { sender: broadcast::Sender::new(BEHIND), moving: Arc::default() }
    }

    pub fn subscribe(&self) -> broadcast::Receiver<Event> {
        self.sender.subscribe()
    }

    pub fn tell(&self, event: Event) {
        // Nobody listening is no failure.
        let _ = self.sender.send(event);
    }

    /// Remembers a file as moving; answers its byte counter.
    pub fn begin(&self, moving: Moving) -> Arc<AtomicU64> {
        let done = moving.done.clone();
        self.lock().insert(moving.item, moving);
        done
    }

    pub fn end(&self, item: i64) {
        self.lock().remove(&item);
    }

    /// What moves now, oldest first.
    pub fn moving(&self) -> Vec<Moving> {
        let mut all: Vec<_> = self.lock().values().cloned().collect();
        all.sort_by_key(|moving| (moving.since, moving.item));
        all
    }

    fn lock(&self) -> parking_lot::MutexGuard<'_, HashMap<i64, Moving>> {
        self.moving.lock()
    }
}

impl Moving {
    /// Bytes done so far.
    pub fn bytes(&self) -> u64 {
        self.done.load(Ordering::Relaxed)
    }
}
