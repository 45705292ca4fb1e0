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
use tokio_util::sync::CancellationToken;
use wetbank_core::{FilePath, Name};
use wetbank_journal::Work;

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
    /// As it was claimed.
    work: Work,
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

/// What to do next.
pub(crate) enum Next {
    /// Work on this, until the token is cancelled.
    Work(Box<Work>, CancellationToken),
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

    fn lock(&self) -> std::sync::MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(PoisonError::into_inner)
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
                state.take_in_hand(work.clone(), stop.clone());
                return Next::Work(Box::new(work), stop);
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
    pub fn postpone(&self, work: Work, due: Timestamp) -> Option<Work> {
        let is_stopped = self.lock().in_hand.get(&work.item).is_some_and(|in_hand| in_hand.stop.is_cancelled());
        if is_stopped && !self.cancel.is_cancelled() {
            return Some(work);
        }
        self.put_off(work, due);
        None
    }

    /// Gives a claim back until a time, whatever is wanted of its run.
    pub fn put_off(&self, work: Work, due: Timestamp) {
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
    /// stop; answers also how many these are. What is taken out stays known until [`Self::forget`], so
    /// that nobody queues it meanwhile.
    pub fn stop_run(&self, run: i64) -> (Vec<Work>, usize) {
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
        let mut at_work = 0;
        for in_hand in state.in_hand.values_mut().filter(|in_hand| in_hand.work.run == run) {
            if let Some(again) = in_hand.again.take() {
                taken.push(again);
            } else if !in_hand.stop.is_cancelled() {
                in_hand.stop.cancel();
                at_work += 1;
            }
        }
        for work in &taken {
            state.take_in_hand(work.clone(), cancelled());
        }
        (taken, at_work)
    }

    /// Takes items that are only in the journal in hand, as if they had been taken out; answers those that
    /// nobody knew.
    pub fn reserve(&self, works: Vec<Work>) -> Vec<Work> {
        let mut state = self.lock();
        let unknown = |work: &Work| !state.known.contains(&work.item) && !state.at_rest.items.contains(&work.item);
        let works: Vec<Work> = works.into_iter().filter(unknown).collect();
        for work in &works {
            state.known.insert(work.item);
            state.take_in_hand(work.clone(), cancelled());
        }
        works
    }

    /// Items that were taken out are to be worked on after all.
    pub fn put_back(&self, works: impl IntoIterator<Item = Work>) {
        let mut state = self.lock();
        for work in works {
            let again = state.in_hand.remove(&work.item).and_then(|in_hand| in_hand.again);
            state.queue(again.unwrap_or(work));
        }
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

    /// Wakes items that wait for a time, because what they wait for may be there now. One that is just
    /// about to wait does not.
    pub fn hurry(&self, belongs: impl Fn(&Work) -> bool) {
        let mut state = self.lock();
        for in_hand in state.in_hand.values_mut() {
            in_hand.hurried |= belongs(&in_hand.work);
        }
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

    fn take_in_hand(&mut self, work: Work, stop: CancellationToken) {
        self.in_hand.insert(work.item, InHand { work, stop, hurried: false, again: None });
    }

    /// The item is done with; if its file was its own, those that waited for it come next.
    fn let_go(&mut self, work: &Work) {
        let again = self.in_hand.remove(&work.item).and_then(|in_hand| in_hand.again);
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
            Next::Work(work, _) => Some(*work),
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
    fn an_item_that_came_to_rest_is_not_worked_on_again_because_somebody_read_of_it_before() {
        let claims = Claims::default();
        claims.add([work(1, "rule", "a")]);
        claims.finish(&claim(&claims).unwrap());
        claims.add([work(1, "rule", "a"), work(2, "rule", "b")]);
        assert_eq!(claim(&claims).unwrap().item, 2);
        assert!(claim(&claims).is_none());
        claims.go_on(work(1, "rule", "a"));
        assert_eq!(claim(&claims).unwrap().item, 1, "but when it is let go on");
    }

    #[test]
    fn an_item_let_go_on_before_it_was_given_back_goes_on_then() {
        let claims = Claims::default();
        let released = || Work { step: 3, ..work(1, "rule", "a") };
        claims.add([work(1, "rule", "a")]);
        let first = claim(&claims).unwrap();
        claims.go_on(released());
        assert!(claim(&claims).is_none(), "two never work on it at once");
        claims.finish(&first);
        let second = claim(&claims).unwrap();
        assert_eq!(second.step, 3, "as the journal has it now");
        claims.finish(&second);
        assert!(claim(&claims).is_none());
        // Nor is it lost while a run is stopped.
        claims.add([Work { run: 7, ..work(2, "rule", "b") }]);
        let (stopped, _) = claims.stop_run(7);
        claims.go_on(Work { run: 7, step: 3, ..work(2, "rule", "b") });
        claims.forget(&stopped[0]);
        assert_eq!(claim(&claims).unwrap().step, 3);
    }

    #[test]
    fn what_is_told_of_an_item_before_it_is_given_back_is_not_lost() {
        let claims = Claims::default();
        let soon = Timestamp::from_second(10).unwrap();
        claims.add([work(1, "rule", "a"), work(2, "rule", "b"), work(3, "rule", "c")]);
        let (hurried, calm, stopped) = (claim(&claims).unwrap(), claim(&claims).unwrap(), claim(&claims).unwrap());
        claims.hurry(|work| work.item == 1);
        assert!(claims.postpone(hurried, soon).is_none() && claims.postpone(calm, soon).is_none());
        assert_eq!(claim(&claims).unwrap().item, 1, "it does not wait");
        assert!(claim(&claims).is_none());
        assert_eq!(claims.stop_run(3).1, 1);
        assert_eq!(claims.stop_run(3).1, 0, "once is enough");
        let stopped = claims.postpone(stopped, soon).expect("it is not to wait but to be held");
        claims.finish(&stopped);
        let Next::Work(calm, stop) = claims.next(soon) else { panic!() };
        assert!(calm.item == 2 && !stop.is_cancelled(), "other runs go on");
    }

    #[test]
    fn an_item_that_was_let_go_on_and_stopped_at_once_is_taken_out() {
        let claims = Claims::default();
        claims.add([work(1, "rule", "a")]);
        let first = claim(&claims).unwrap();
        claims.go_on(Work { step: 3, ..work(1, "rule", "a") });
        let (taken, told) = claims.stop_run(1);
        assert_eq!((taken.len(), taken[0].step, told), (1, 3, 0));
        claims.forget(&taken[0]);
        claims.finish(&first);
        assert!(claim(&claims).is_none());
        claims.go_on(work(1, "rule", "a"));
        assert_eq!(claim(&claims).unwrap().item, 1);
    }

    #[test]
    fn only_so_much_is_remembered_of_what_came_to_rest() {
        let claims = Claims::default();
        for item in 0..30_000 {
            claims.add([work(item, "rule", "a")]);
            claims.finish(&claim(&claims).unwrap());
        }
        let state = claims.lock();
        assert_eq!((state.at_rest.items.len(), state.at_rest.order.len()), (REMEMBERED, REMEMBERED));
        assert!(state.known.is_empty() && state.in_hand.is_empty() && state.files.is_empty());
    }

    #[test]
    fn an_item_that_waits_for_a_retry_keeps_its_file() {
        let claims = Claims::default();
        claims.add([work(1, "first", "a"), work(2, "second", "a")]);
        let first = claim(&claims).unwrap();
        assert!(claims.postpone(first, Timestamp::from_second(10).unwrap()).is_none());
        assert!(claim(&claims).is_none());
        let Next::Work(first, _) = claims.next(Timestamp::from_second(10).unwrap()) else { panic!() };
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
        assert!(claims.postpone(later, Timestamp::from_second(10).unwrap()).is_none());
        let (taken, told) = claims.stop_run(7);
        assert_eq!(told, 1, "who works on the first is told");
        assert_eq!(taken.iter().map(|w| w.item).collect::<Vec<_>>(), [3, 2]);
        taken.iter().for_each(|work| claims.forget(work));
        claims.add([work(5, "second", "b")]);
        assert_eq!(claim(&claims).unwrap().item, 5, "the file of the postponed item is free");
        claims.finish(&at_work);
        assert_eq!(claim(&claims).unwrap().item, 4);
        assert!(claims.stop_run(7).0.is_empty(), "the item at work is not taken out");
    }

    #[test]
    fn what_does_not_fit_is_asked_for_once_there_is_room() {
        let claims = Claims::default();
        let many = i64::try_from(IN_MEMORY).unwrap() + 10;
        claims.add((0..many).map(|item| work(item, "rule", &format!("f{item}"))));
        assert!(claims.has_more() && !claims.wants_more(), "not while it is full");
        for _ in 0..IN_MEMORY / 2 + 1 {
            claims.finish(&claim(&claims).unwrap());
        }
        assert!(claims.wants_more());
        claims.expect_more(false);
        claims.add((0..many).map(|item| work(item, "rule", &format!("f{item}"))));
        assert!(!claims.has_more(), "everything is offered");
        let rest = std::iter::from_fn(|| claim(&claims).inspect(|work| claims.finish(work))).count();
        assert_eq!(rest, IN_MEMORY / 2 - 1 + 10, "and nothing twice");
    }

    #[test]
    fn what_is_only_in_the_journal_is_taken_out_too_and_what_somebody_knows_is_not() {
        let claims = Claims::default();
        claims.add([work(1, "rule", "a"), work(2, "rule", "b")]);
        claims.finish(&claim(&claims).unwrap());
        let reserved = claims.reserve([1, 2, 3].map(|item| work(item, "rule", "c")).to_vec());
        assert_eq!(reserved.iter().map(|work| work.item).collect::<Vec<_>>(), [3]);
        claims.add(reserved.clone());
        assert_eq!(claim(&claims).unwrap().item, 2);
        assert!(claim(&claims).is_none(), "nobody queues it meanwhile");
        claims.forget(&reserved[0]);
        claims.go_on(work(3, "rule", "c"));
        assert_eq!(claim(&claims).unwrap().item, 3);
    }

    #[test]
    fn what_was_taken_out_and_put_back_is_worked_on() {
        let claims = Claims::default();
        claims.add([work(1, "rule", "a"), work(2, "rule", "b")]);
        let (taken, _) = claims.stop_run(2);
        assert_eq!(taken.len(), 1);
        claims.put_back(taken);
        assert_eq!([claim(&claims).unwrap().item, claim(&claims).unwrap().item], [1, 2]);
    }

    #[test]
    fn a_postponed_item_comes_back_at_its_time() {
        let claims = Claims::default();
        claims.add([work(1, "rule", "a")]);
        let first = claim(&claims).unwrap();
        assert!(claims.postpone(first, Timestamp::from_second(10).unwrap()).is_none());
        assert!(matches!(claims.next(Timestamp::from_second(9).unwrap()), Next::Wait(Some(_))));
        assert!(matches!(claims.next(Timestamp::from_second(10).unwrap()), Next::Work(..)));
    }
}
