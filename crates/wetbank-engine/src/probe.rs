//! Looking after places that failed: when a pause is over, one probe decides whether it is lifted.

use std::{sync::Arc, time::Duration};

use wetbank_core::Name;
use wetbank_places::{PlaceError, PlaceErrorKind};

use crate::{clock, engine::Core};

/// A probe that takes longer has failed.
const PATIENCE: Duration = Duration::from_secs(60);
/// Without a place that failed, looked again after this time.
const IDLE: Duration = Duration::from_secs(60);

/// Probes places whose pause is over, each by itself, until the service stops.
pub(crate) async fn run(core: Arc<Core>) {
    loop {
        let (due, next) = core.health.due(clock::now());
        for place in due {
            core.tracker.spawn(probe(core.clone(), place));
        }
        tokio::select! {
            () = tokio::time::sleep(next.map_or(IDLE, clock::until)) => {}
            () = core.place_news.notified() => {}
            () = core.cancel.cancelled() => return,
        }
    }
}

async fn probe(core: Arc<Core>, name: Name) {
    let reached = async {
        match core.arrangement().place(&name) {
            Ok(place) => tokio::time::timeout(PATIENCE, place.reach()).await.unwrap_or_else(|_| Err(silent(&name))),
            Err(error) => Err(error),
        }
    };
    let outcome = tokio::select! {
        outcome = reached => outcome,
        () = core.cancel.cancelled() => return,
    };
    core.health.probed(&name);
    match outcome {
        Err(error) => drop(core.place_failed(&error)),
        Ok(_) => {
            if core.health.well(&name) {
                core.place_well(&name);
            }
        }
    }
    core.place_news.notify_one();
}

fn silent(place: &Name) -> PlaceError {
    PlaceError {
        kind: PlaceErrorKind::Unreachable,
        place: place.clone(),
        call: "reach",
        path: wetbank_core::RelPath::root(),
        detail: format!("it did not answer within {} s", PATIENCE.as_secs()),
    }
}
