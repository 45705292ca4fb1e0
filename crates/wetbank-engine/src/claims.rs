//! Who works on what: the seam between the queue and the hands.
//!
//! A claimed item is a plain value ([`Work`]). One (place, path) belongs to one item at a time;
//! rules are served in turn, each with a bound, so that a slow one cannot take every hand.

use std::{
    collections::{BTreeMap, HashMap, HashSet, VecDeque},
    sync::{Mutex, PoisonError},
};

use jiff::Timestamp;
use tokio::sync::Notify;
use wetbank_core::{FilePath, Name};
use wetbank_journal::Work;

/// Items at work at once, in all.
const HANDS: usize = 256;
/// Items of one rule at work at once: an item waits for the disk about five times, so many at
/// once let each of these waits serve many. Large files have a bound of their own.
const HANDS_PER_RULE: usize = 128;
/// Items kept in memory; the rest waits in the journal.
const IN_MEMORY: usize = 20_000;

#[derive(Debug, Default)]
pub(crate) struct Claims {
    state: Mutex<State>,
    changed: Notify,
}

#[derive(Debug, Default)]
struct State {
    /// Ready items by rule; rules take turns in `turns`.
    ready: HashMap<Name, VecDeque<Work>>,
    turns: VecDeque<Name>,
    /// Items that wait for a time.
    later: BTreeMap<(Timestamp, i64), Work>,
    /// Everything held in memory, at work or waiting.
    known: HashSet<i64>,
    /// Files taken, by which item, and the items that wait for each. An item that waits for a
    /// retry keeps its file, so that rules stay in their order.
    files: HashMap<FilePath, (i64, VecDeque<Work>)>,
    at_work: HashMap<Name, usize>,
    hands: usize,
    /// Some items are only in the journal.
    more_in_journal: bool,
    closed: bool,
}

/// What to do next.
pub(crate) enum Next {
    /// Work on this.
    Work(Box<Work>),
    /// Nothing before this time, if any.
    Wait(Option<Timestamp>),
    /// The service stops.
    Closed,
}

impl Claims {
    fn lock(&self) -> std::sync::MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
    }

    /// Queues items that are in the journal. What does not fit is fetched later.
    pub fn add(&self, works: impl IntoIterator<Item = Work>) {
        let mut state = self.lock();
        for work in works {
            if state.known.len() >= IN_MEMORY {
                state.more_in_journal = true;
                break;
            }
            if !state.known.insert(work.item) {
                continue;
            }
            match work.due {
                Some(due) if due > Timestamp::UNIX_EPOCH => {
                    state.files.entry(work.file.clone()).or_insert_with(|| (work.item, VecDeque::new()));
                    state.later.insert((due, work.item), work);
                }
                _ => state.queue(work),
            }
        }
        drop(state);
        self.changed.notify_one();
    }

    /// Whether memory has room and the journal has more.
    pub fn wants_more(&self) -> bool {
        let state = self.lock();
        state.more_in_journal && state.known.len() < IN_MEMORY / 2
    }

    /// Everything that the journal has was offered.
    pub fn has_all(&self) {
        self.lock().more_in_journal = false;
    }

    /// Claims the next item, if a hand is free.
    pub fn next(&self, now: Timestamp) -> Next {
        let mut state = self.lock();
        if state.closed {
            return Next::Closed;
        }
        while let Some(entry) = state.later.first_entry() {
            if entry.key().0 > now {
                break;
            }
            let work = entry.remove();
            state.queue(work);
        }
        if state.hands < HANDS {
            // Rules with all their hands full are passed over, each once.
            let mut passed = 0;
            while passed < state.turns.len() {
                let Some(rule) = state.turns.pop_front() else { break };
                if state.at_work.get(&rule).copied().unwrap_or(0) >= HANDS_PER_RULE {
                    state.turns.push_back(rule);
                    passed += 1;
                    continue;
                }
                let work = state.ready.get_mut(&rule).and_then(VecDeque::pop_front);
                if state.ready.get(&rule).is_some_and(|queue| !queue.is_empty()) {
                    state.turns.push_back(rule.clone());
                } else {
                    state.ready.remove(&rule);
                }
                let Some(work) = work else { continue };
                let (owner, waiting) =
                    state.files.entry(work.file.clone()).or_insert_with(|| (work.item, VecDeque::new()));
                if *owner != work.item {
                    waiting.push_back(work);
                    continue;
                }
                *state.at_work.entry(rule).or_default() += 1;
                state.hands += 1;
                return Next::Work(Box::new(work));
            }
        }
        Next::Wait(state.later.keys().next().map(|(due, _)| *due))
    }

    /// Gives a claim back: the item is at rest.
    pub fn finish(&self, work: &Work) {
        let mut state = self.lock();
        state.lay_down(work);
        state.let_go(work);
        drop(state);
        self.changed.notify_one();
    }

    /// Gives a claim back until a time.
    pub fn postpone(&self, work: Work, due: Timestamp) {
        let mut state = self.lock();
        state.lay_down(&work);
        state.later.insert((due, work.item), work);
        drop(state);
        self.changed.notify_one();
    }

    /// Takes out every item of a run that nobody works on. They stay known until [`Self::forget`],
    /// so that nobody queues them meanwhile.
    pub fn take_out(&self, run: i64) -> Vec<Work> {
        let mut state = self.lock();
        let mut taken = Vec::new();
        for queue in state.ready.values_mut() {
            let (of_run, rest) = std::mem::take(queue).into_iter().partition(|work: &Work| work.run == run);
            *queue = rest;
            taken.extend::<VecDeque<Work>>(of_run);
        }
        let keys: Vec<_> = state.later.iter().filter(|(_, work)| work.run == run).map(|(key, _)| *key).collect();
        taken.extend(keys.iter().filter_map(|key| state.later.remove(key)).collect::<Vec<_>>());
        for (_, waiting) in state.files.values_mut() {
            let (of_run, rest) = std::mem::take(waiting).into_iter().partition(|work: &Work| work.run == run);
            *waiting = rest;
            taken.extend::<VecDeque<Work>>(of_run);
        }
        taken
    }

    /// Items that were taken out are to be worked on after all.
    pub fn put_back(&self, works: impl IntoIterator<Item = Work>) {
        let mut state = self.lock();
        works.into_iter().for_each(|work| state.queue(work));
        drop(state);
        self.changed.notify_one();
    }

    /// An item that was taken out is at rest.
    pub fn forget(&self, work: &Work) {
        let mut state = self.lock();
        state.let_go(work);
        drop(state);
        self.changed.notify_one();
    }

    /// Wakes items that wait for a time, because what they wait for may be there now.
    pub fn hurry(&self, belongs: impl Fn(&Work) -> bool) {
        let mut state = self.lock();
        let keys: Vec<_> = state.later.iter().filter(|(_, work)| belongs(work)).map(|(key, _)| *key).collect();
        for key in keys {
            if let Some(work) = state.later.remove(&key) {
                state.queue(work);
            }
        }
        drop(state);
        self.changed.notify_one();
    }

    /// Returns after something changed.
    pub async fn changed(&self) {
        self.changed.notified().await;
    }

    /// No more claims are given.
    pub fn close(&self) {
        self.lock().closed = true;
        self.changed.notify_one();
    }
}

impl State {
    fn lay_down(&mut self, work: &Work) {
        if let Some(count) = self.at_work.get_mut(&work.rule) {
            *count -= 1;
            if *count == 0 {
                self.at_work.remove(&work.rule);
            }
        }
        self.hands -= 1;
    }

    /// The item is done with; if its file was its own, those that waited for it come next.
    fn let_go(&mut self, work: &Work) {
        self.known.remove(&work.item);
        if self.files.get(&work.file).is_some_and(|(owner, _)| *owner == work.item)
            && let Some((_, waiting)) = self.files.remove(&work.file)
        {
            for next in waiting {
                self.queue_first(next);
            }
        }
    }

    fn queue(&mut self, work: Work) {
        if !self.ready.contains_key(&work.rule) {
            self.turns.push_back(work.rule.clone());
        }
        self.ready.entry(work.rule.clone()).or_default().push_back(work);
    }

    fn queue_first(&mut self, work: Work) {
        if !self.ready.contains_key(&work.rule) {
            self.turns.push_front(work.rule.clone());
        }
        self.ready.entry(work.rule.clone()).or_default().push_front(work);
    }
}

#[cfg(test)]
mod tests {
    use wetbank_core::{Cause, ItemKind, ItemState, RelPath};

    use super::*;

    fn work(item: i64, rule: &str, path: &str) -> Work {
        Work {
            item,
            run: item,
            rule: Name::new(rule).unwrap(),
            version: 1,
            file: FilePath { place: Name::new("office").unwrap(), path: RelPath::parse(path).unwrap() },
            fingerprint: String::new(),
            size: 0,
            state: ItemState::Queued,
            branch: None,
            step: 0,
            hand: None,
            failures: 0,
            due: None,
            depth: 0,
            taken: Timestamp::UNIX_EPOCH,
            started: Timestamp::UNIX_EPOCH,
            kind: ItemKind::File,
            cause: Cause::Arrival,
            about: None,
        }
    }

    fn claim(claims: &Claims) -> Option<Work> {
        match claims.next(Timestamp::UNIX_EPOCH) {
            Next::Work(work) => Some(*work),
            _ => None,
        }
    }

    #[test]
    fn one_file_belongs_to_one_item_at_a_time() {
        let claims = Claims::default();
        claims.add([work(1, "first", "a"), work(2, "second", "a"), work(3, "second", "b")]);
        let first = claim(&claims).unwrap();
        assert_eq!(first.item, 1);
        assert_eq!(claim(&claims).unwrap().item, 3);
        assert!(claim(&claims).is_none());
        claims.finish(&first);
        assert_eq!(claim(&claims).unwrap().item, 2);
    }

    #[test]
    fn a_busy_rule_leaves_hands_for_others() {
        let claims = Claims::default();
        claims.add((0..1000).map(|n| work(n, "busy", &format!("f{n}"))));
        let taken = std::iter::from_fn(|| claim(&claims)).count();
        assert_eq!(taken, HANDS_PER_RULE);
        claims.add([work(5000, "calm", "x")]);
        assert_eq!(claim(&claims).unwrap().item, 5000);
    }

    #[test]
    fn an_item_is_queued_once_however_often_it_is_offered() {
        let claims = Claims::default();
        claims.add([work(1, "rule", "a")]);
        claims.add([work(1, "rule", "a")]);
        let first = claim(&claims).unwrap();
        claims.add([work(1, "rule", "a")]);
        claims.finish(&first);
        assert!(claim(&claims).is_none());
    }

    #[test]
    fn an_item_that_waits_for_a_retry_keeps_its_file() {
        let claims = Claims::default();
        claims.add([work(1, "first", "a"), work(2, "second", "a")]);
        let first = claim(&claims).unwrap();
        claims.postpone(first, Timestamp::from_second(10).unwrap());
        assert!(claim(&claims).is_none());
        let Next::Work(first) = claims.next(Timestamp::from_second(10).unwrap()) else { panic!() };
        claims.finish(&first);
        assert_eq!(claim(&claims).unwrap().item, 2);
    }

    #[test]
    fn a_run_is_taken_out_wherever_its_items_wait_and_their_files_are_free_then() {
        let claims = Claims::default();
        let of_run = |item, path| Work { run: 7, ..work(item, "first", path) };
        claims.add([of_run(1, "a"), of_run(2, "b"), of_run(3, "c"), work(4, "second", "a")]);
        let (at_work, later) = (claim(&claims).unwrap(), claim(&claims).unwrap());
        assert_eq!((at_work.item, later.item), (1, 2), "the other rule waits for the file of the first");
        claims.postpone(later, Timestamp::from_second(10).unwrap());
        let taken = claims.take_out(7);
        assert_eq!(taken.iter().map(|w| w.item).collect::<Vec<_>>(), [3, 2]);
        taken.iter().for_each(|work| claims.forget(work));
        claims.add([work(5, "second", "b")]);
        assert_eq!(claim(&claims).unwrap().item, 5, "the file of the postponed item is free");
        claims.finish(&at_work);
        assert_eq!(claim(&claims).unwrap().item, 4);
        assert!(claims.take_out(7).is_empty(), "the item at work is not taken out");
    }

    #[test]
    fn what_was_taken_out_and_put_back_is_worked_on() {
        let claims = Claims::default();
        claims.add([work(1, "rule", "a"), work(2, "rule", "b")]);
        let taken = claims.take_out(2);
        assert_eq!(taken.len(), 1);
        claims.put_back(taken);
        assert_eq!([claim(&claims).unwrap().item, claim(&claims).unwrap().item], [1, 2]);
    }

    #[test]
    fn a_postponed_item_comes_back_at_its_time() {
        let claims = Claims::default();
        claims.add([work(1, "rule", "a")]);
        let first = claim(&claims).unwrap();
        claims.postpone(first, Timestamp::from_second(10).unwrap());
        assert!(matches!(claims.next(Timestamp::from_second(9).unwrap()), Next::Wait(Some(_))));
        assert!(matches!(claims.next(Timestamp::from_second(10).unwrap()), Next::Work(_)));
    }
}
