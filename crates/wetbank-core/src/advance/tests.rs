use std::collections::HashSet;

use proptest::prelude::*;

use super::*;
use crate::{Known, Name, Original, Planned, Step, Template, parse_book, step::Note};

/// A branch as the model needs it: its steps' ways on, how many are on the main way, and whether something
/// is to become of the original.
#[derive(Debug, Clone)]
struct Shape {
    paths: Vec<Option<usize>>,
    main: usize,
    keeps: bool,
}

fn planned(next: Next, on_failure: Option<usize>) -> Planned {
    let text = Template::new("seen").unwrap();
    Planned {
        step: Step::Note(Box::new(Note { text })),
        condition: None,
        retry: None,
        next,
        on_failure,
        is_wished: false,
    }
}

fn branch(shape: &Shape) -> Branch {
    let (main, all) = (shape.main, shape.paths.len());
    let steps = shape.paths.iter().enumerate().map(|(at, path)| match at {
        at if at + 1 == main => planned(Next::Original, *path),
        at if at < main => planned(Next::Step(at + 1), *path),
        at if at + 1 == all => planned(Next::Failed, None),
        at => planned(Next::Step(at + 1), None),
    });
    Branch {
        title: String::new(),
        condition: None,
        steps: steps.collect(),
        main,
        original: if shape.keeps { Original::Stays } else { Original::Delete },
    }
}

fn rule(shapes: &[Shape]) -> Rule {
    let known = Known { places: vec![Name::new("office").unwrap()], ..Known::default() };
    let text = "[rule.model]\nstarts = { hand = {} }\nfinds = [ { place = \"office\" } ]\n[[rule.model.branch]]\nsteps = [ { delete = {} } ]\n";
    let book = parse_book(&[("book".to_owned(), text.to_owned())], &known).unwrap();
    Rule { branches: shapes.iter().map(branch).collect(), ..book.rules.into_iter().next().unwrap() }
}

fn straight() -> Rule {
    rule(&[Shape { paths: vec![None, Some(2), None, None], main: 2, keeps: false }])
}

#[test]
fn an_item_goes_step_by_step_to_its_original_and_to_its_end() {
    let rule = straight();
    let mut at = (None, Position::Branching);
    let mut way = Vec::new();
    for outcome in [Outcome::Taken(0), Outcome::Done, Outcome::Done, Outcome::Done] {
        let next = advance(&rule, at, outcome, false).unwrap();
        at = (Some(next.branch), next.position);
        way.push(next.position);
    }
    assert_eq!(way, [Position::Step(0), Position::Step(1), Position::Original, Position::End]);
    assert_eq!(advance(&rule, at, Outcome::Done, false), Err(Stuck::NotThere), "behind the end there is nothing");
}

#[test]
fn where_nothing_becomes_of_the_original_the_last_step_leads_to_the_end() {
    let next = advance(&straight(), (Some(0), Position::Step(1)), Outcome::Done, true).unwrap();
    assert_eq!(next.position, Position::End);
    let empty = rule(&[Shape { paths: vec![], main: 0, keeps: false }]);
    let next = advance(&empty, (None, Position::Branching), Outcome::Taken(0), false).unwrap();
    assert_eq!(next.position, Position::Original);
}

#[test]
fn a_failure_takes_the_path_that_is_arranged_and_else_asks_a_person() {
    let rule = straight();
    assert_eq!(advance(&rule, (Some(0), Position::Step(0)), Outcome::Failed, false), Err(Stuck::NoPath));
    let next = advance(&rule, (Some(0), Position::Step(1)), Outcome::Failed, false).unwrap();
    assert_eq!(next.position, Position::Step(2));
    let next = advance(&rule, (Some(0), Position::Step(3)), Outcome::Done, false).unwrap();
    assert_eq!((next.position, next.position.state()), (Position::Failed, ItemState::Skipped));
    assert_eq!(advance(&rule, (Some(0), Position::Original), Outcome::Failed, false), Err(Stuck::NoPath));
}

#[test]
fn a_rule_that_is_shorter_now_holds_what_was_behind_its_end() {
    let rule = straight();
    assert_eq!(advance(&rule, (Some(3), Position::Step(0)), Outcome::Done, false), Err(Stuck::NoBranch(3)));
    assert_eq!(advance(&rule, (Some(0), Position::Step(9)), Outcome::Done, false), Err(Stuck::NotThere));
}

#[test]
fn every_position_reads_back_from_the_journal() {
    let all = [Position::Step(0), Position::Step(7), Position::Original, Position::End, Position::Failed];
    for position in all {
        assert_eq!(Position::from_code(Some(1), position.code()), position);
    }
    assert_eq!(Position::from_code(None, Position::Branching.code()), Position::Branching);
    assert_eq!(Position::from_code(None, Position::Original.code()), Position::Original, "a letter has no branch");
}

#[test]
fn positions_of_older_journals_are_told_apart_from_steps() {
    let read = |code| Position::from_code(Some(0), code).within(2);
    assert_eq!([0, 1, 2, 3, 4].map(read), {
        use Position::{End, Failed, Original, Step};
        [Step(0), Step(1), Original, End, Failed]
    });
}

/// What the model has on record of its item.
#[derive(Debug, Clone, PartialEq)]
struct Recorded {
    branch: Option<usize>,
    position: Position,
    state: ItemState,
}

/// What happens in one turn of the work on the item.
#[derive(Debug, Clone, Copy)]
enum Turn {
    /// The effect does what it should.
    Done,
    /// It fails for good.
    Fails,
    /// Another branch is to go on, if one comes behind.
    Continues,
    /// The effect is done, its record is refused, and accepted when it is tried again.
    Refused,
    /// Its record is refused and the service is ended.
    RefusedAndKilled,
    /// The service is ended before the effect, or between it and its record.
    Killed,
}

fn shape() -> impl Strategy<Value = Shape> {
    (0..5usize, 0..3usize, any::<bool>(), proptest::collection::vec(any::<bool>(), 5)).prop_map(
        |(main, behind, keeps, fails)| {
            let path = |at: usize| (behind > 0 && at < main && fails[at]).then_some(main);
            Shape { paths: (0..main + behind).map(path).collect(), main, keeps }
        },
    )
}

fn turn() -> impl Strategy<Value = Turn> {
    prop_oneof![
        4 => Just(Turn::Done),
        1 => Just(Turn::Fails),
        1 => Just(Turn::Continues),
        2 => Just(Turn::Refused),
        1 => Just(Turn::RefusedAndKilled),
        1 => Just(Turn::Killed),
    ]
}

/// A journal that may refuse, and an item's way as it was recorded.
struct Model {
    rule: Rule,
    recorded: Recorded,
    /// Steps whose end is on record.
    ended: HashSet<(usize, usize)>,
    released: bool,
}

impl Model {
    fn new(rule: Rule) -> Self {
        let recorded = Recorded { branch: None, position: Position::Branching, state: ItemState::Queued };
        Self { rule, recorded, ended: HashSet::new(), released: false }
    }

    /// The state changes as the life of an item allows, or the test fails.
    fn record(&mut self, to: Recorded) {
        self.recorded.state.become_(to.state).unwrap_or_else(|error| panic!("{:?} to {to:?}: {error}", self.recorded));
        self.recorded = to;
    }

    fn keeps(&self, branch: Option<usize>) -> bool {
        branch.and_then(|at| self.rule.branches.get(at)).is_none_or(|branch| branch.original == Original::Stays)
    }

    /// One turn from what is on record, as after a start; answers whether the item is at rest.
    fn turn(&mut self, turn: Turn) {
        if matches!(self.recorded.state, ItemState::Queued | ItemState::Waiting) {
            let working = Recorded { state: ItemState::Working, ..self.recorded.clone() };
            self.record(working);
        }
        let (branch, position) = (self.recorded.branch, self.recorded.position);
        let continues = |at: Option<usize>| at.map(|at| at + 1).filter(|next| *next < self.rule.branches.len());
        let outcome = match (position, turn) {
            (Position::Branching, _) => Outcome::Taken(0),
            (_, Turn::Fails) => Outcome::Failed,
            (Position::Step(_), Turn::Continues) => continues(branch).map_or(Outcome::Done, Outcome::Continued),
            _ => Outcome::Done,
        };
        if let (Some(branch), Position::Step(step)) = (branch, position) {
            assert!(!self.ended.contains(&(branch, step)), "step {step} is done again although its end is on record");
        }
        let keeps = self.keeps(match outcome {
            Outcome::Taken(branch) | Outcome::Continued(branch) => Some(branch),
            _ => branch,
        });
        let next = match advance(&self.rule, (branch, position), outcome, keeps) {
            Ok(next) => Recorded { branch: Some(next.branch), position: next.position, state: next.position.state() },
            Err(Stuck::NoPath) => Recorded { state: ItemState::Held, ..self.recorded.clone() },
            Err(stuck) => panic!("{position:?} of {branch:?} is stuck: {stuck}"),
        };
        match turn {
            // What the journal refused has not happened: the item is where it was.
            Turn::RefusedAndKilled | Turn::Killed => return,
            Turn::Refused | Turn::Done | Turn::Fails | Turn::Continues => {}
        }
        if next.state != ItemState::Held
            && let (Some(branch), Position::Step(step)) = (branch, position)
        {
            self.ended.insert((branch, step));
        }
        self.record(next);
    }

    /// Every step before the end on the way taken has its record.
    fn is_complete(&self) -> bool {
        let Some(branch) = self.recorded.branch else { return false };
        let main = self.rule.branches[branch].main;
        let through =
            |steps: std::ops::Range<usize>| steps.into_iter().all(|step| self.ended.contains(&(branch, step)));
        match self.recorded.position {
            Position::End => through(0..main) || self.rule.branches.len() > 1,
            Position::Failed => through(main..self.rule.branches[branch].steps.len()),
            _ => false,
        }
    }
}

proptest! {
    #[test]
    fn whatever_is_refused_or_cut_off_every_item_ends_and_no_step_is_passed_or_repeated(
        shapes in proptest::collection::vec(shape(), 1..4),
        turns in proptest::collection::vec(turn(), 0..40),
        dismisses in any::<bool>(),
    ) {
        let mut model = Model::new(rule(&shapes));
        // Whatever comes is followed by a time in which nothing is refused.
        let calm = std::iter::repeat_n(Turn::Done, 60);
        for turn in turns.into_iter().chain(calm) {
            match model.recorded.state {
                ItemState::Done | ItemState::Skipped => break,
                ItemState::Held if dismisses && model.released => {
                    let dismissed = Recorded { state: ItemState::Skipped, ..model.recorded.clone() };
                    model.record(dismissed);
                }
                ItemState::Held => {
                    model.released = true;
                    let released = Recorded { state: ItemState::Queued, ..model.recorded.clone() };
                    model.record(released);
                }
                _ => model.turn(turn),
            }
        }
        let state = model.recorded.state;
        prop_assert!(matches!(state, ItemState::Done | ItemState::Skipped), "it never ended: {:?}", model.recorded);
        let dismissed = state == ItemState::Skipped && model.recorded.position != Position::Failed;
        prop_assert!(dismissed || model.is_complete(), "a step was passed: {:?} {:?}", model.recorded, model.ended);
    }
}
