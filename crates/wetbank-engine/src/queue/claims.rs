//! Who works on what: the seam between the queue and the hands.
//!
//! A claimed item is a plain value ([`Claim`]). One (place, path) belongs to one item at a time;
//! rules are served in turn, each with a bound, so that a slow one cannot take every hand.

use std::collections::{BTreeMap, HashMap, HashSet, VecDeque};

use jiff::Timestamp;
use parking_lot::Mutex;
use tokio::sync::Notify;
use tokio_util::sync::CancellationToken;
use wetbank_core::{FilePath, Name};
use wetbank_journal::Work;

use super::claim::Claim;

/// Items at work at once, in all.
const HANDS: usize = 256;
/// Items of one rule at work at once: an item waits for the disk about five times, so many at
/// once let each of these waits serve many. Large files have a bound of their own.
const HANDS_PER_RULE: usize = 128;
/// Items kept in memory; the rest waits in the journal. Few where tests run, so that they meet the rest.
const IN_MEMORY: usize = if cfg!(debug_assertions) { 2_000 } else { 20_000 };
/// Items of which it is remembered that they came to rest: whoever read the journal before that may
/// still offer them.
const REMEMBERED: usize = 20_000;

#[derive(Debug, Default)]
pub(crate) struct Claims {
    state: Mutex<State>,
    changed: Notify,
    /// The service stops.
    cancel: CancellationToken,
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
    /// Those of them that somebody has in hand now.
    in_hand: HashMap<i64, InHand>,
    at_rest: AtRest,
    /// Files taken, by which item, and the items that wait for each. An item that waits for a
    /// retry keeps its file, so that rules stay in their order.
    files: HashMap<FilePath, (i64, VecDeque<Work>)>,
    at_work: HashMap<Name, usize>,
    hands: usize,
    /// Some items are only in the journal.
    more_in_journal: bool,
    closed: bool,
}

/// An item that somebody has in hand, and what others want of it before it is given back.
#[derive(Debug)]
struct InHand {
    rule: Name,
    run: i64,
    /// Cancelled when its run is stopped, or the service.
    stop: CancellationToken,
    /// It does not wait for its time.
    hurried: bool,
    /// It goes on as this: somebody let it while whoever brought it to rest had not yet said so.
    again: Option<Work>,
}

/// The items that came to rest lately.
#[derive(Debug, Default)]
struct AtRest {
    items: HashSet<i64>,
    order: VecDeque<i64>,
}

impl AtRest {
    fn put(&mut self, item: i64) {
        if self.items.insert(item) {
            self.order.push_back(item);
        }
        if self.order.len() > REMEMBERED
            && let Some(oldest) = self.order.pop_front()
        {
            self.items.remove(&oldest);
        }
    }
}

/// An item that somebody works on, and that is told to stop.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Told {
    pub item: i64,
    /// It had been told before.
    pub before: bool,
}

/// What to do next.
pub(crate) enum Next {
    /// Work on this, until the token is cancelled.
    Work(Claim, CancellationToken),
    /// Nothing before this time, if any.
    Wait(Option<Timestamp>),
    /// The service stops.
    Closed,
}

impl Claims {
    /// Nothing is claimed yet; `cancel` is cancelled when the service stops.
    pub fn new(cancel: CancellationToken) -> Self {
        Self { cancel, ..Self::default() }
    }

    fn lock(&self) -> parking_lot::MutexGuard<'_, State> {
        self.state.lock()
    }

    /// Queues items that are in the journal, each for its first time since the start. What does not
    /// fit is fetched later.
    pub fn add(&self, works: impl IntoIterator<Item = Work>) {
        let mut state = self.lock();
        for work in works {
            // Offered by whoever took it in and found in the journal as well, it may be done by now.
            if state.at_rest.items.contains(&work.item) {
                continue;
            }
            if !state.take_up(work) {
                break;
            }
        }
        drop(state);
        self.changed.notify_one();
    }

    /// Queues an item that was at rest and is to go on, as the journal says.
    pub fn go_on(&self, work: Work) {
        let mut state = self.lock();
        if let Some(in_hand) = state.in_hand.get_mut(&work.item) {
            in_hand.again = Some(work);
            return;
        }
        state.at_rest.items.remove(&work.item);
        state.take_up(work);
        drop(state);
        self.changed.notify_one();
    }

    /// Whether memory has room and the journal has more.
    pub fn wants_more(&self) -> bool {
        let state = self.lock();
        state.more_in_journal && state.known.len() < IN_MEMORY / 2
    }

    /// Everything that the journal has is offered now, or could not be.
    pub fn expect_more(&self, more: bool) {
        self.lock().more_in_journal = more;
    }

    /// Whether something is only in the journal.
    pub fn has_more(&self) -> bool {
        self.lock().more_in_journal
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
                let stop = self.cancel.child_token();
                state.take_in_hand(&work, stop.clone());
                return Next::Work(Claim::new(work), stop);
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

    /// Gives a claim back until a time. Answers the item, still in hand, if its run was stopped
    /// meanwhile: then it is not to wait.
    pub fn postpone(&self, claim: Claim, due: Timestamp) -> Option<Claim> {
        let is_stopped = self.lock().in_hand.get(&claim.item).is_some_and(|in_hand| in_hand.stop.is_cancelled());
        if is_stopped && !self.cancel.is_cancelled() {
            return Some(claim);
        }
        self.put_off(claim, due);
        None
    }

    /// Gives a claim back until a time, whatever is wanted of its run.
    pub fn put_off(&self, claim: Claim, due: Timestamp) {
        let work = claim.into_work();
        let mut state = self.lock();
        state.lay_down(&work);
        match state.in_hand.remove(&work.item) {
            Some(InHand { again: Some(again), .. }) => state.queue(again),
            Some(InHand { hurried: true, .. }) => state.queue(work),
            _ => drop(state.later.insert((due, work.item), work)),
        }
        drop(state);
        self.changed.notify_one();
    }

    /// Takes out every item of a run that nobody works on, and tells those who work on the others to
    /// stop; answers also which these are. What is taken out stays known until [`Self::forget`], so
    /// that nobody queues it meanwhile.
    pub fn stop_run(&self, run: i64) -> (Vec<Work>, Vec<Told>) {
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
        let mut at_work = Vec::new();
        for (item, in_hand) in state.in_hand.iter_mut().filter(|(_, in_hand)| in_hand.run == run) {
            if let Some(again) = in_hand.again.take() {
                taken.push(again);
            } else {
                at_work.push(Told { item: *item, before: in_hand.stop.is_cancelled() });
                in_hand.stop.cancel();
            }
        }
        for work in &taken {
            state.take_in_hand(work, cancelled());
        }
        (taken, at_work)
    }

    /// Keeps an item at rest until [`Self::forget`]: whoever lets it go on meanwhile waits. Answers whether that can be,
    /// or it goes on already.
    pub fn keep_at_rest(&self, work: &Work) -> bool {
        let mut state = self.lock();
        let is_at_rest = state.known.insert(work.item);
        if is_at_rest {
            state.take_in_hand(work, cancelled());
        }
        is_at_rest
    }

    /// Takes items that are only in the journal in hand, as if they had been taken out; answers those that
    /// nobody knew.
    pub fn reserve(&self, works: Vec<Work>) -> Vec<Work> {
        let mut state = self.lock();
        let unknown = |work: &Work| !state.known.contains(&work.item) && !state.at_rest.items.contains(&work.item);
        let works: Vec<Work> = works.into_iter().filter(unknown).collect();
        for work in &works {
            state.known.insert(work.item);
            state.take_in_hand(work, cancelled());
        }
        works
    }

    /// An item that was taken out is at rest.
    pub fn forget(&self, work: &Work) {
        let mut state = self.lock();
        state.let_go(work);
        drop(state);
        self.changed.notify_one();
    }

    /// Wakes items that wait for a time, told by rule and item, because what they wait for may be there now.
    /// One that is just about to wait does not.
    pub fn hurry(&self, belongs: impl Fn(&Name, i64) -> bool) {
        let mut state = self.lock();
        for (item, in_hand) in &mut state.in_hand {
            in_hand.hurried |= belongs(&in_hand.rule, *item);
        }
        let waiting = state.later.iter().filter(|(_, work)| belongs(&work.rule, work.item));
        let keys: Vec<_> = waiting.map(|(key, _)| *key).collect();
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

/// What is taken out is not worked on.
fn cancelled() -> CancellationToken {
    let stop = CancellationToken::new();
    stop.cancel();
    stop
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

    /// Takes an item into memory; answers whether there was room.
    fn take_up(&mut self, work: Work) -> bool {
        if self.known.len() >= IN_MEMORY {
            self.more_in_journal = true;
            return false;
        }
        if self.known.insert(work.item) {
            match work.due {
                Some(due) if due > Timestamp::UNIX_EPOCH => {
                    self.files.entry(work.file.clone()).or_insert_with(|| (work.item, VecDeque::new()));
                    self.later.insert((due, work.item), work);
                }
                _ => self.queue(work),
            }
        }
        true
    }

    fn take_in_hand(&mut self, work: &Work, stop: CancellationToken) {
        let in_hand = InHand { rule: work.rule.clone(), run: work.run, stop, hurried: false, again: None };
        self.in_hand.insert(work.item, in_hand);
    }

    /// Nobody has the item in hand any more; answers with what it goes on, if somebody let it meanwhile.
    fn put_down(&mut self, item: i64) -> Option<Work> {
        self.in_hand.remove(&item)?.again
    }

    /// The item is done with; if its file was its own, those that waited for it come next.
    fn let_go(&mut self, work: &Work) {
        let again = self.put_down(work.item);
        self.known.remove(&work.item);
        if self.files.get(&work.file).is_some_and(|(owner, _)| *owner == work.item)
            && let Some((_, waiting)) = self.files.remove(&work.file)
        {
            for next in waiting {
                self.queue_first(next);
            }
        }
        match again {
            Some(again) => drop(self.take_up(again)),
            None => self.at_rest.put(work.item),
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
mod tests;
