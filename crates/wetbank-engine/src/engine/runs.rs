//! Starting a whole rule: by the clock or by hand.

use jiff::Timestamp;
use wetbank_core::{Cause, Name};

use super::Engine;
use crate::{Declined, EngineError, clock, intake::Beginning};

/// A firing of a schedule that is to come.
#[derive(Debug, Clone)]
pub struct NextFiring {
    /// The rule.
    pub rule: Name,
    /// When.
    pub at: Timestamp,
}

impl Engine {
    /// Runs a rule now on every file that it is about; with `all` also on those that it took
    /// before. Answers the run's number.
    pub async fn run_rule(&self, rule: &str, all: bool) -> Result<i64, EngineError> {
        let arrangement = self.core.arranged.now();
        let name = Name::new(rule).map_err(|_| EngineError::unknown("rule", rule))?;
        let live = arrangement.rule(&name).ok_or_else(|| EngineError::unknown("rule", rule))?;
        if live.rule.finds.is_empty() && live.rule.starts.chain.is_some() {
            return Err(Declined::LooksForNone.into());
        }
        let begun = self.core.intake.start_run(live, Cause::Hand, Beginning { all, ..Beginning::default() }).await?;
        Ok(begun.unwrap_or_default())
    }

    /// The next firings of a rule's schedule, at most so many.
    pub fn firings(&self, rule: &Name, most: usize) -> Vec<Timestamp> {
        let arrangement = self.core.arranged.now();
        let Some(live) = arrangement.rule(rule) else { return Vec::new() };
        let schedule = live.rule.starts.schedule.as_ref();
        schedule.map(|schedule| schedule.sample(clock::now(), &live.rule.zone, most)).unwrap_or_default()
    }

    /// The next firing of every rule and every twin that is on, soonest first, at most so many.
    pub fn next_firings(&self, most: usize) -> Vec<NextFiring> {
        let (arrangement, now) = (self.core.arranged.now(), clock::now());
        let on = arrangement.rules.iter().filter(|live| live.is_on);
        let rules = on.filter_map(|live| {
            let at = live.rule.starts.schedule.as_ref()?.next_after(now, &live.rule.zone)?;
            Some(NextFiring { rule: live.rule.name.clone(), at })
        });
        let twins = arrangement.twins.iter().filter(|live| live.is_on).filter_map(|live| {
            let at = live.twin.starts.schedule.as_ref()?.next_after(now, &live.twin.zone)?;
            Some(NextFiring { rule: live.twin.rule_name(), at })
        });
        let mut firings: Vec<NextFiring> = rules.chain(twins).collect();
        firings.sort_by_key(|firing| firing.at);
        firings.truncate(most);
        firings
    }
}
