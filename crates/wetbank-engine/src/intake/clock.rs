//! Starting rules by the clock, and ending runs that take too long.

use std::{
    collections::{BTreeMap, HashMap},
    sync::Arc,
    time::Duration,
};

use jiff::Timestamp;
use wetbank_core::{Busy, Cause, Name};

use super::{means::Intake, starting::Beginning};
use crate::{EngineError, LiveRule, clock, queue::Stopped};

/// A firing that comes later than this was missed: nobody was there for it.
const LATE: Duration = Duration::from_secs(60);
/// The clock of the machine is looked at this often, because it may be put forward or back.
const LOOK: Duration = Duration::from_secs(5);
/// A firing that waits for the end of the run before looks for it this often.
const WAIT: Duration = Duration::from_millis(500);
/// After a firing that could not be recorded, when it is tried again.
const AGAIN: Duration = Duration::from_secs(5);

/// What is planned: the next firing of every rule.
#[derive(Debug, Default)]
struct Plan {
    next: BTreeMap<(Timestamp, Name), ()>,
    rules: HashMap<Name, (i64, Option<Timestamp>)>,
}

impl Plan {
    fn put(&mut self, live: &LiveRule, after: Timestamp) {
        let name = &live.rule.name;
        self.remove(name);
        let next = live.rule.starts.schedule.as_ref().and_then(|schedule| schedule.next_after(after, &live.rule.zone));
        if let Some(at) = next {
            self.next.insert((at, name.clone()), ());
        }
        self.rules.insert(name.clone(), (live.version, next));
    }

    /// Plans a firing that is to be tried at a time.
    fn put_at(&mut self, live: &LiveRule, at: Timestamp) {
        let name = &live.rule.name;
        self.remove(name);
        self.next.insert((at, name.clone()), ());
        self.rules.insert(name.clone(), (live.version, Some(at)));
    }

    fn remove(&mut self, name: &Name) {
        if let Some((_, Some(at))) = self.rules.remove(name) {
            self.next.remove(&(at, name.clone()));
        }
    }

    fn first(&self) -> Option<Timestamp> {
        self.next.keys().next().map(|(at, _)| *at)
    }

    fn take_due(&mut self, now: Timestamp) -> Option<Name> {
        let entry = self.next.first_entry().filter(|entry| entry.key().0 <= now)?;
        let name = entry.remove_entry().0.1;
        if let Some((_, next)) = self.rules.get_mut(&name) {
            *next = None;
        }
        Some(name)
    }
}

/// Starts what is due, until the service stops.
pub(crate) async fn run(intake: Arc<Intake>) {
    let mut plan = Plan::default();
    let mut is_first = true;
    let mut last_look = clock::now();
    loop {
        let changed = intake.arranged.changed();
        tokio::pin!(changed);
        changed.as_mut().enable();
        arrange(&intake, &mut plan, is_first).await;
        is_first = false;
        loop {
            let now = clock::now();
            if now < last_look.checked_sub(LATE).unwrap_or(last_look) {
                // The clock was put back: what was planned for then would come far too late.
                tracing::warn!(from = %last_look, to = %now, "the clock was put back");
                plan = Plan::default();
                last_look = now;
                break;
            }
            last_look = now;
            while let Some(name) = plan.take_due(now) {
                fire(&intake, &mut plan, &name, now).await;
            }
            for run in intake.queue.deadlines.take_passed(now) {
                end_in_time(&intake, run).await;
            }
            let next = [plan.first(), intake.queue.deadlines.first()].into_iter().flatten().min();
            let pause = next.map_or(LOOK, |next| clock::until(next).min(LOOK));
            tokio::select! {
                () = &mut changed => break,
                () = intake.queue.deadlines.sooner() => {}
                () = tokio::time::sleep(pause) => {}
                () = intake.cancel.cancelled() => return,
            }
        }
    }
}

/// Takes the rules that are on into the plan. What fired while the service was not there counts
/// as missed; what would have fired before a rule was switched on or changed does not.
async fn arrange(intake: &Arc<Intake>, plan: &mut Plan, is_first: bool) {
    let (arrangement, now) = (intake.arranged.now(), clock::now());
    let timed = |live: &&LiveRule| live.is_on && live.rule.starts.schedule.is_some();
    let gone: Vec<Name> = plan
        .rules
        .keys()
        .filter(|name| !arrangement.rules.iter().filter(timed).any(|live| live.rule.name == **name))
        .cloned()
        .collect();
    gone.iter().for_each(|name| plan.remove(name));
    for live in arrangement.rules.iter().filter(timed) {
        let name = &live.rule.name;
        if plan.rules.get(name).is_some_and(|(version, _)| *version == live.version) {
            continue;
        }
        let fired = if is_first {
            // What fired last decides what was missed: nothing is planned before it is known.
            let Some(fired) = intake.record.insist(|| intake.record.journal.fired(name)).await else { return };
            fired
        } else {
            None
        };
        match fired.filter(|fired| *fired <= now) {
            Some(fired) => plan.put(live, fired),
            None => {
                note(intake, name, now).await;
                plan.put(live, now);
            }
        }
    }
}

async fn note(intake: &Intake, rule: &Name, at: Timestamp) {
    intake.record.insist(|| intake.record.journal.note_firing(rule, at)).await;
}

async fn fire(intake: &Arc<Intake>, plan: &mut Plan, name: &Name, now: Timestamp) {
    let arrangement = intake.arranged.now();
    let Some(live) = arrangement.rule(name).filter(|live| live.is_on) else { return };
    match try_fire(intake, live, now).await {
        Ok(Fired::Done) => plan.put(live, now),
        Ok(Fired::Waits) => plan.put_at(live, clock::after(now, WAIT)),
        Err(error) => {
            tracing::error!(rule = %name, %error, "a run could not be started; trying again");
            plan.put_at(live, clock::after(now, AGAIN));
        }
    }
}

enum Fired {
    Done,
    Waits,
}

async fn try_fire(intake: &Arc<Intake>, live: &LiveRule, now: Timestamp) -> Result<Fired, EngineError> {
    let (rule, name) = (&live.rule, &live.rule.name);
    let Some(schedule) = &rule.starts.schedule else { return Ok(Fired::Done) };
    let last = intake.record.journal.fired(name).await?.unwrap_or(now);
    let due = schedule.due(last, now, &rule.zone, LATE);
    if due.is_empty() {
        intake.record.journal.note_firing(name, now).await?;
        return Ok(Fired::Done);
    }
    for firing in due {
        let open = intake.record.journal.open_runs(name).await?;
        if let Some((before, _)) = open.first() {
            match schedule.busy {
                Busy::Wait => return Ok(Fired::Waits),
                Busy::Skip => {
                    let why = format!("run {before} of this rule was still going on");
                    let run = (name, live.version);
                    intake.record.journal.skip_run(run, Cause::Schedule, why, Some(firing), now).await?;
                    continue;
                }
                Busy::Stop => {
                    for (run, _) in open {
                        let why = "it was still going on when the next run was due".to_owned();
                        intake.runner.stop_run(run, Stopped { code: "overtaken", why }).await?;
                    }
                }
            }
        }
        let beginning = Beginning { firing: Some(firing), ..Beginning::default() };
        intake.start_run(live, Cause::Schedule, beginning).await?;
    }
    Ok(Fired::Done)
}

async fn end_in_time(intake: &Arc<Intake>, run: i64) {
    // Most are long at their end by then.
    if matches!(intake.record.journal.run_goes_on(run).await, Ok(false)) {
        return;
    }
    let why = "its run took longer than the rule allows".to_owned();
    match intake.runner.stop_run(run, Stopped { code: "time-limit", why }).await {
        Ok(told) if told.held == 0 && told.at_work.is_empty() => {}
        Ok(told) => {
            let (held, at_work) = (told.held, told.at_work.len());
            tracing::warn!(run, held, at_work, "a run took longer than its rule allows");
        }
        Err(error) => {
            tracing::error!(run, %error, "a run that took too long could not be stopped; trying again");
            intake.queue.deadlines.watch(run, clock::after(clock::now(), AGAIN));
        }
    }
}

#[cfg(test)]
mod tests {
    use wetbank_core::{Known, parse_book};

    use super::*;

    fn live(text: &str) -> LiveRule {
        let known = Known { places: vec![Name::new("office").unwrap()], ..Known::default() };
        let text = format!(
            "[rule.sweep]\nstarts = {{ schedule = {text} }}\nfinds = [ {{ place = \"office\" }} ]\n[[rule.sweep.branch]]\nsteps = [ {{ delete = {{}} }} ]\n"
        );
        let book = parse_book(&[("book".to_owned(), text)], &known).unwrap_or_else(|e| panic!("{e:?}"));
        LiveRule {
            rule: Arc::new(book.rules.into_iter().next().unwrap()),
            version: 1,
            is_on: true,
            text: "".into(),
            changed: Timestamp::UNIX_EPOCH,
        }
    }

    fn time(text: &str) -> Timestamp {
        text.parse().unwrap()
    }

    #[test]
    fn a_rule_is_due_at_its_time_and_not_before_and_then_planned_anew() {
        let mut plan = Plan::default();
        let live = live("{ every = \"10 min\" }");
        plan.put(&live, time("2026-03-14T06:05:00Z"));
        assert_eq!(plan.take_due(time("2026-03-14T06:09:59Z")), None);
        assert_eq!(plan.take_due(time("2026-03-14T06:10:00Z")), Some(live.rule.name.clone()));
        assert_eq!(plan.take_due(time("2026-03-14T06:10:00Z")), None);
        plan.put(&live, time("2026-03-14T06:10:00Z"));
        assert_eq!(plan.first(), Some(time("2026-03-14T06:20:00Z")));
        plan.put_at(&live, time("2026-03-14T06:10:01Z"));
        assert_eq!(plan.next.len(), 1, "a rule is planned once");
        plan.remove(&live.rule.name);
        assert_eq!(plan.first(), None);
    }
}
