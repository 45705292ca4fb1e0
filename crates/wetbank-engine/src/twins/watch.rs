//! When a pass is made by itself: something changed on a side, or its time has come.

use std::{collections::HashMap, sync::Arc, time::Duration};

use jiff::Timestamp;
use tokio::time::{Instant, sleep, sleep_until};
use tokio_util::sync::CancellationToken;
use wetbank_core::{
    Busy, Cause, Name,
    twin::{Choices, Pair, Side},
};

use super::keeper::Keeper;
use crate::{
    EngineError, LiveTwin, clock,
    effects::Passing,
    intake::{Pace, Tree},
};

/// Changes that follow each other at once are one pass.
const TOGETHER: Duration = Duration::from_millis(100);
/// Where events tell of changes both sides are looked through all the same now and then.
const LOOK_THROUGH: Duration = Duration::from_secs(600);
/// Where the kernel tells nothing of some folder.
const LOOK_BLIND: Duration = Duration::from_secs(30);
/// After something waited, or could not be done, when it is tried again.
const AGAIN: Duration = Duration::from_secs(2);
/// After failures the pause gets longer, up to this.
const LONGEST: Duration = Duration::from_secs(300);
/// A firing that comes later than this was missed.
const LATE: Duration = Duration::from_secs(60);
/// The clock of the machine is looked at this often, because it may be put forward or back.
const LOOK: Duration = Duration::from_secs(5);

/// Has one task for each twin that is on and starts by itself.
pub(super) async fn supervise(keeper: Arc<Keeper>) {
    let mut running: HashMap<Name, (i64, CancellationToken)> = HashMap::new();
    loop {
        let changed = keeper.arranged.changed();
        tokio::pin!(changed);
        changed.as_mut().enable();
        let arrangement = keeper.arranged.now();
        let starts =
            |live: &&LiveTwin| live.is_on && (live.twin.starts.change.is_some() || live.twin.starts.schedule.is_some());
        let wanted: HashMap<Name, LiveTwin> =
            arrangement.twins.iter().filter(starts).map(|live| (live.twin.name.clone(), live.clone())).collect();
        running.retain(|name, (version, stop)| {
            let stays = wanted.get(name).is_some_and(|live| live.version == *version);
            if !stays {
                stop.cancel();
            }
            stays
        });
        for (name, live) in wanted {
            running.entry(name).or_insert_with(|| {
                let (stop, version) = (keeper.cancel.child_token(), live.version);
                keeper.tracker.spawn(keep(keeper.clone(), live, stop.clone()));
                (version, stop)
            });
        }
        tokio::select! {
            () = changed => {}
            () = keeper.cancel.cancelled() => return,
        }
    }
}

/// What a twin's task waits for.
struct Waiting {
    /// When it is looked whether something changed.
    look: Option<Instant>,
    pace: Option<Pace>,
    failures: u32,
}

async fn keep(keeper: Arc<Keeper>, live: LiveTwin, stop: CancellationToken) {
    let twin = live.twin.clone();
    let mut trees = match &twin.starts.change {
        Some(_) => Pair { near: tree(&keeper, &live, Side::Near, &stop), far: tree(&keeper, &live, Side::Far, &stop) },
        None => Pair::default(),
    };
    let mut waiting = Waiting {
        look: twin.starts.change.map(|_| Instant::now()),
        pace: twin.starts.change.map(|pace| Pace::new([pace].into_iter())),
        failures: 0,
    };
    loop {
        let firing = next_firing(&keeper, &live).await;
        let at = firing.map_or(LOOK, |at| clock::until(at).min(LOOK));
        let cause = tokio::select! {
            () = told(&mut trees.near) => Cause::Arrival,
            () = told(&mut trees.far) => Cause::Arrival,
            () = until(waiting.look) => Cause::Arrival,
            () = sleep(at), if firing.is_some() => match firing {
                Some(firing) if firing <= clock::now() => {
                    if !fires(&keeper, &live, firing).await { continue }
                    Cause::Schedule
                }
                _ => continue,
            },
            () = stop.cancelled() => return,
        };
        if cause == Cause::Arrival {
            tokio::select! {
                () = sleep(TOGETHER) => {}
                () = stop.cancelled() => return,
            }
        }
        for tree in [&mut trees.near, &mut trees.far].into_iter().flatten() {
            tree.follow().await;
        }
        let (began, choices) = (Instant::now(), Choices::default());
        let passing = tokio::select! {
            passing = keeper.pass(&twin, cause, &choices) => passing,
            // What is begun goes on as items do; only this task ends.
            () = keeper.cancel.cancelled() => return,
        };
        waiting.after(&trees, &passing, began.elapsed());
        if let Err(error) = passing {
            tracing::warn!(twin = %twin.name, %error, "a pass could not be made; trying again");
        }
        if stop.is_cancelled() {
            return;
        }
    }
}

impl Waiting {
    /// Says when the sides are looked at again although nobody tells of a change.
    fn after(&mut self, trees: &Pair<Option<Tree>>, passing: &Result<Passing, EngineError>, took: Duration) {
        let Some(pace) = &mut self.pace else {
            self.look = None;
            return;
        };
        let is_told = Side::BOTH.into_iter().all(|side| trees.of(side).is_some());
        let is_blind = Side::BOTH.into_iter().any(|side| trees.of(side).as_ref().is_some_and(Tree::is_blind));
        let pause = match passing {
            Err(_) => {
                self.failures += 1;
                AGAIN.saturating_mul(1 << self.failures.min(8)).min(LONGEST)
            }
            Ok(passing) => {
                self.failures = 0;
                let found = pace.after(passing.run.is_some(), took);
                match () {
                    () if passing.left > 0 || passing.counts.busy > 0 => AGAIN,
                    () if is_told && is_blind => LOOK_BLIND,
                    () if is_told => LOOK_THROUGH,
                    () => found,
                }
            }
        };
        self.look = Some(Instant::now() + pause);
    }
}

fn tree(keeper: &Arc<Keeper>, live: &LiveTwin, side: Side, stop: &CancellationToken) -> Option<Tree> {
    let folder = live.twin.folders.of(side);
    let place = keeper.arranged.now().place(&folder.place).ok()?;
    let root = place.as_folder().filter(|_| place.capabilities().reports_changes)?.root().to_owned();
    Tree::of(root, folder.path.clone(), live.twin.scope.deep, &keeper.tracker, stop)
}

async fn told(tree: &mut Option<Tree>) {
    match tree {
        Some(tree) => tree.changed().await,
        None => std::future::pending().await,
    }
}

async fn until(at: Option<Instant>) {
    match at {
        Some(at) => sleep_until(at).await,
        None => std::future::pending().await,
    }
}

/// The next firing of a twin's schedule, one that was missed included.
async fn next_firing(keeper: &Keeper, live: &LiveTwin) -> Option<Timestamp> {
    let schedule = live.twin.starts.schedule.as_ref()?;
    let (rule, now) = (live.twin.rule_name(), clock::now());
    let last = keeper.record.insist(|| keeper.record.journal.fired(&rule)).await?;
    // What would have fired before it was arranged so was never missed.
    let last = match last.filter(|last| *last <= now) {
        Some(last) => last.max(live.changed),
        None => live.changed.min(now),
    };
    let missed = schedule.due(last, now, &live.twin.zone, LATE);
    missed.last().copied().or_else(|| schedule.next_after(now, &live.twin.zone))
}

/// Notes a firing before it is done: it is not done twice. Answers whether it is done.
async fn fires(keeper: &Keeper, live: &LiveTwin, firing: Timestamp) -> bool {
    let rule = live.twin.rule_name();
    let noted = keeper.record.insist(|| keeper.record.journal.note_firing(&rule, firing.max(clock::now()))).await;
    let is_going = keeper.turns.going(&live.twin.name).is_some();
    let skips = live.twin.starts.schedule.as_ref().is_some_and(|schedule| schedule.busy == Busy::Skip);
    noted.is_some() && !(is_going && skips)
}
