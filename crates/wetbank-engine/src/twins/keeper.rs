//! Who makes passes: one of a twin at a time, for whoever asks.

use std::{
    collections::{BTreeMap, HashMap},
    sync::Arc,
};

use jiff::Timestamp;
use parking_lot::Mutex;
use tokio::sync::mpsc;
use tokio_util::{sync::CancellationToken, task::TaskTracker};
use wetbank_core::{
    Cause, Name,
    twin::{Choices, Twin},
};

use super::{differ::Differ, look::Looked, watch};
use crate::{
    EngineError,
    arranged::Arranged,
    clock,
    effects::{Ask, Effects, Passing},
    events::Event,
    queue::Queue,
    record::Record,
    runner::Runner,
};

/// What passes are made with.
#[derive(Debug)]
pub(crate) struct Keeper {
    pub record: Record,
    pub arranged: Arc<Arranged>,
    pub queue: Arc<Queue>,
    pub effects: Arc<Effects>,
    pub runner: Arc<Runner>,
    /// Cancelled when the service stops.
    pub cancel: CancellationToken,
    pub tracker: TaskTracker,
    pub turns: Turns,
    pub differ: Differ,
}

/// Whose turn it is: a twin's passes follow each other.
#[derive(Debug, Default)]
pub(crate) struct Turns {
    turns: Mutex<HashMap<Name, Arc<tokio::sync::Mutex<()>>>>,
    going: Mutex<BTreeMap<Name, Timestamp>>,
}

impl Turns {
    async fn take(&self, twin: &Name) -> tokio::sync::OwnedMutexGuard<()> {
        let turn = self.turns.lock().entry(twin.clone()).or_default().clone();
        turn.lock_owned().await
    }

    /// Its turn, if no pass goes on.
    pub(super) fn take_free(&self, twin: &Name) -> Option<tokio::sync::OwnedMutexGuard<()>> {
        let turn = self.turns.lock().entry(twin.clone()).or_default().clone();
        turn.try_lock_owned().ok()
    }

    /// Since when a pass of a twin does something.
    pub fn going(&self, twin: &Name) -> Option<Timestamp> {
        self.going.lock().get(twin).copied()
    }
}

impl Keeper {
    /// A pass, from the look at both sides to the end of its run, once no other one of the twin goes on.
    pub async fn pass(&self, twin: &Twin, cause: Cause, choices: &Choices) -> Result<Passing, EngineError> {
        let _turn = self.turns.take(&twin.name).await;
        let passing = self.pass_in_turn(twin, cause, choices).await;
        if self.turns.going.lock().remove(&twin.name).is_some() {
            self.tell(&twin.name);
            // Who could not be told is told later.
            if let Err(error) = self.give_notice(twin).await {
                tracing::warn!(twin = %twin.name, %error, "nobody could be told of a pass yet; trying again");
            }
        }
        passing
    }

    /// A pass does something from here on: a look alone is nobody's news.
    pub(super) fn acts(&self, twin: &Name) {
        self.turns.going.lock().insert(twin.clone(), clock::now());
        self.tell(twin);
    }

    /// What a pass would do. Nothing is touched.
    pub async fn look(&self, twin: &Twin, choices: &Choices) -> Result<Looked, EngineError> {
        super::look::look((&self.effects, &self.differ), twin, choices, clock::now()).await
    }

    /// The twin of this name.
    pub fn twin(&self, name: &Name) -> Result<Arc<Twin>, EngineError> {
        let arrangement = self.arranged.now();
        let live = arrangement.twin(name).ok_or_else(|| EngineError::unknown("twin", name))?;
        Ok(live.twin.clone())
    }

    pub(super) fn tell(&self, twin: &Name) {
        self.effects.events.tell(Event::Twin { twin: twin.clone() });
    }
}

/// Makes what is asked for, until the service stops.
pub(crate) async fn run(keeper: Arc<Keeper>, mut asks: mpsc::UnboundedReceiver<Ask>) {
    keeper.tracker.spawn(watch::supervise(keeper.clone()));
    keeper.tracker.spawn(super::kept::run(keeper.clone()));
    keeper.tracker.spawn(super::tell::run(keeper.clone()));
    loop {
        let ask = tokio::select! {
            ask = asks.recv() => ask,
            () = keeper.cancel.cancelled() => return,
        };
        let Some(Ask { twin, cause, choices, reply }) = ask else { return };
        let keeper = keeper.clone();
        keeper.tracker.clone().spawn(async move {
            let passing = match keeper.twin(&twin) {
                Ok(twin) => keeper.pass(&twin, cause, &choices).await,
                Err(error) => Err(error),
            };
            // Whoever asked may have gone; the pass is on record all the same.
            let _ = reply.send(passing);
        });
    }
}
