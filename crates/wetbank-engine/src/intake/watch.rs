//! Seeing files: events are a hint, the scan is the truth.

use std::{collections::HashMap, sync::Arc};

use tokio_util::sync::CancellationToken;
use wetbank_core::Name;
use wetbank_places::Place;

use super::{
    local,
    means::Intake,
    remote,
    watched::{Watched, Watching},
};

/// Keeps one watcher for each place that enabled rules watch.
pub(crate) async fn supervise(intake: Arc<Intake>) {
    let mut running: HashMap<Name, (Watched, Arc<dyn Place>, CancellationToken)> = HashMap::new();
    loop {
        let changed = intake.arranged.changed();
        let arrangement = intake.arranged.now();
        let mut wanted: HashMap<Name, Watched> = HashMap::new();
        for live in arrangement.rules.iter().filter(|live| live.is_on) {
            let Some(arrival) = &live.rule.starts.arrival else { continue };
            let watched = wanted.entry(arrival.files.place.clone()).or_insert_with(|| Watched { rules: Vec::new() });
            let (rule, version, arrival) = (live.rule.clone(), live.version, arrival.clone());
            watched.rules.push(Watching { rule, version, arrival });
        }
        running.retain(|name, (watched, place, stop)| {
            let stays = wanted.get(name).is_some_and(|w| w.same(watched))
                && arrangement.place(name).is_ok_and(|now| Arc::ptr_eq(&now, place));
            if !stays {
                stop.cancel();
                intake.moorings.looks_no_more(name);
            }
            stays
        });
        for (name, watched) in wanted {
            if running.contains_key(&name) {
                continue;
            }
            let Ok(place) = arrangement.place(&name) else { continue };
            let stop = intake.cancel.child_token();
            running.insert(name, (watched.clone(), place.clone(), stop.clone()));
            let intake = intake.clone();
            intake.tracker.clone().spawn(async move {
                if place.as_folder().is_some() && place.capabilities().reports_changes {
                    local::watch(intake, place, watched, stop).await;
                } else {
                    remote::watch(intake, place, watched, stop).await;
                }
            });
        }
        tokio::select! {
            () = changed => {}
            () = intake.cancel.cancelled() => return,
        }
    }
}
