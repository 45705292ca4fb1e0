//! What the book says now. One change at a time: whoever changes something takes the turn, reads, changes and
//! writes while holding it, so that no change undoes another; readers get a snapshot and wait for nobody.

mod arrangement;
pub(crate) mod book;

use std::{collections::HashMap, sync::Arc};

use parking_lot::{Mutex, MutexGuard, RwLock};
use tokio::sync::{Notify, futures::Notified};
use wetbank_core::{BY_HAND, Name, Rule, parse_book, twin::twin_name};
use wetbank_journal::{Journal, JournalError, Work};

pub use arrangement::{Arrangement, LiveRule, LiveTwin};

/// Old rule versions remembered; items that need one are few and soon done.
const OLD_RULES: usize = 256;

/// The arrangement in force, and the versions of rules that were.
#[derive(Debug)]
pub(crate) struct Arranged {
    journal: Journal,
    now: RwLock<Arc<Arrangement>>,
    turn: tokio::sync::Mutex<()>,
    changed: Notify,
    old: Mutex<HashMap<(Name, i64), Arc<Rule>>>,
}

/// The turn to change the arrangement: nobody else does while this lives.
#[derive(Debug)]
pub(crate) struct Turn<'a> {
    arranged: &'a Arranged,
    _alone: tokio::sync::MutexGuard<'a, ()>,
}

/// What is known of the rule that an item follows.
#[derive(Debug)]
pub(crate) enum RuleOf {
    /// It is this.
    Rule(Arc<Rule>),
    /// It is not in the book any more.
    Gone,
    /// The item began with a version that cannot be read any more, for this reason.
    Unreadable(String),
}

impl Arranged {
    /// Nothing is arranged yet.
    pub fn new(journal: Journal) -> Self {
        let (now, turn) = (RwLock::default(), tokio::sync::Mutex::default());
        Self { journal, now, turn, changed: Notify::new(), old: Mutex::default() }
    }

    /// A snapshot.
    pub fn now(&self) -> Arc<Arrangement> {
        self.now.read().clone()
    }

    /// Waits for the turn to change something.
    pub async fn turn(&self) -> Turn<'_> {
        Turn { arranged: self, _alone: self.turn.lock().await }
    }

    /// Ends when something is changed after this call.
    pub fn changed(&self) -> Notified<'_> {
        self.changed.notified()
    }

    /// The rule that an item follows: today's if it has not begun, else the version it began with, and no other:
    /// where it stands means something in that one only.
    pub async fn rule_of(&self, work: &Work) -> Result<RuleOf, JournalError> {
        let arrangement = self.now();
        let live = arrangement.rule(&work.rule);
        let has_begun = work.branch.is_some();
        if let Some(live) = live.filter(|live| !has_begun || live.version == work.version) {
            return Ok(RuleOf::Rule(live.rule.clone()));
        }
        if !has_begun && work.rule.as_str() != BY_HAND {
            return Ok(RuleOf::Gone);
        }
        let key = (work.rule.clone(), work.version);
        if let Some(rule) = self.old().get(&key) {
            return Ok(RuleOf::Rule(rule.clone()));
        }
        let text = self.journal.version_text("rule", work.rule.as_str(), work.version).await?;
        let Some(text) = text else { return Ok(RuleOf::Unreadable("its text is not in the journal".to_owned())) };
        let mut known = arrangement.known();
        // A pass that began comes to its end although its twin is not in the book any more.
        known.twins.extend(twin_name(&work.rule));
        let rule = match parse_book(&[("journal".to_owned(), text)], &known) {
            Ok(mut book) => book.rules.pop().map(Arc::new),
            Err(problems) => {
                let said = problems.first().map_or_else(String::new, |p| format!("{} {}", p.key, p.message));
                return Ok(RuleOf::Unreadable(said));
            }
        };
        let Some(rule) = rule else { return Ok(RuleOf::Unreadable("there is no rule in it".to_owned())) };
        let mut old = self.old();
        if old.len() >= OLD_RULES {
            old.clear();
        }
        old.insert(key, rule.clone());
        Ok(RuleOf::Rule(rule))
    }

    fn old(&self) -> MutexGuard<'_, HashMap<(Name, i64), Arc<Rule>>> {
        self.old.lock()
    }
}

impl Turn<'_> {
    /// Puts another arrangement in force.
    pub fn put(&self, new: Arrangement) {
        *self.arranged.now.write() = Arc::new(new);
        // What a version could not name before may be there now, and otherwise.
        self.arranged.old().clear();
        self.arranged.changed.notify_waiters();
    }
}
