use wetbank_core::{Cause, ItemKind, ItemState, Position, RelPath};

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
        position: Position::Branching,
        hand: None,
        failures: 0,
        due: None,
        depth: 0,
        taken: Timestamp::UNIX_EPOCH,
        started: Timestamp::UNIX_EPOCH,
        kind: ItemKind::File,
        cause: Cause::Arrival,
        about: None,
        unclear: false,
    }
}

fn claim(claims: &Claims) -> Option<Claim> {
    match claims.next(Timestamp::UNIX_EPOCH) {
        Next::Work(claim, _) => Some(claim),
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
    let released = || Work { position: Position::Step(3), ..work(1, "rule", "a") };
    claims.add([work(1, "rule", "a")]);
    let first = claim(&claims).unwrap();
    claims.go_on(released());
    assert!(claim(&claims).is_none(), "two never work on it at once");
    claims.finish(&first);
    let second = claim(&claims).unwrap();
    assert_eq!(second.position, Position::Step(3), "as the journal has it now");
    claims.finish(&second);
    assert!(claim(&claims).is_none());
    // Nor is it lost while a run is stopped.
    claims.add([Work { run: 7, ..work(2, "rule", "b") }]);
    let (stopped, _) = claims.stop_run(7);
    claims.go_on(Work { run: 7, position: Position::Step(3), ..work(2, "rule", "b") });
    claims.forget(&stopped[0]);
    assert_eq!(claim(&claims).unwrap().position, Position::Step(3));
}

#[test]
fn what_is_told_of_an_item_before_it_is_given_back_is_not_lost() {
    let claims = Claims::default();
    let soon = Timestamp::from_second(10).unwrap();
    claims.add([work(1, "rule", "a"), work(2, "rule", "b"), work(3, "rule", "c")]);
    let (hurried, calm, stopped) = (claim(&claims).unwrap(), claim(&claims).unwrap(), claim(&claims).unwrap());
    claims.hurry(|_, item| item == 1);
    assert!(claims.postpone(hurried, soon).is_none() && claims.postpone(calm, soon).is_none());
    assert_eq!(claim(&claims).unwrap().item, 1, "it does not wait");
    assert!(claim(&claims).is_none());
    let told = |before| vec![Told { item: 3, before }];
    assert_eq!(claims.stop_run(3).1, told(false));
    assert_eq!(claims.stop_run(3).1, told(true), "it is still at work");
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
    claims.go_on(Work { position: Position::Step(3), ..work(1, "rule", "a") });
    let (taken, told) = claims.stop_run(1);
    assert_eq!((taken.len(), taken[0].position, told.len()), (1, Position::Step(3), 0));
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
    assert_eq!(told.len(), 1, "who works on the first is told");
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
fn a_postponed_item_comes_back_at_its_time() {
    let claims = Claims::default();
    claims.add([work(1, "rule", "a")]);
    let first = claim(&claims).unwrap();
    assert!(claims.postpone(first, Timestamp::from_second(10).unwrap()).is_none());
    assert!(matches!(claims.next(Timestamp::from_second(9).unwrap()), Next::Wait(Some(_))));
    assert!(matches!(claims.next(Timestamp::from_second(10).unwrap()), Next::Work(..)));
}

#[test]
fn what_is_kept_at_rest_goes_on_only_after_it_was_let() {
    let claims = Claims::default();
    let held = work(1, "keep", "a");
    assert!(claims.keep_at_rest(&held));
    assert!(!claims.keep_at_rest(&held), "once");
    claims.go_on(held.clone());
    assert!(claim(&claims).is_none());
    claims.forget(&held);
    assert!(claim(&claims).is_some());
    assert!(!claims.keep_at_rest(&held), "somebody works on it");
}
