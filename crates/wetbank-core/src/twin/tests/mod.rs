use jiff::tz::TimeZone;
use proptest::prelude::*;
use unicode_normalization::UnicodeNormalization;

use super::*;
use crate::{Names, RelPath};

mod model;
mod table;

use model::{Content, World, path};

fn customs() -> Customs {
    Customs { grain: 1, keeps_times: true, tells_case: true, names: Names::Bytes, folders_are_made: true }
}

fn terms(way: Way, customs: Pair<Customs>) -> Terms {
    // Where times tell too little, contents are compared.
    let is_rough = customs.near.grain.max(customs.far.grain) > 2_000_000_000;
    Terms {
        way,
        settling: Settling::KeepBoth,
        same: if is_rough { Sameness::Content } else { Sameness::SizeAndTime },
        scope: Scope::all(),
        fits_names: true,
        zone: TimeZone::UTC,
        customs,
        is_first: false,
        young: i64::MAX,
    }
}

/// What people do to a side.
#[derive(Debug, Clone)]
enum Deed {
    Write(&'static str, Content),
    Remove(&'static str),
    RemoveBelow(&'static str),
    Rename(&'static str, &'static str),
    Touch(&'static str),
    MakeFolder(&'static str),
}

const PATHS: [&str; 12] =
    ["a", "b", "A", "caf\u{e9}", "cafe\u{301}", "d", "d/a", "d/b", "d/e", "d/e/f", "d/e/F", "x:y"];

fn deed() -> impl Strategy<Value = Deed> {
    let path = || prop::sample::select(&PATHS[..]);
    prop_oneof![
        4 => (path(), 0_u32..40).prop_map(|(path, content)| Deed::Write(path, content)),
        2 => path().prop_map(Deed::Remove),
        1 => path().prop_map(Deed::RemoveBelow),
        1 => (path(), path()).prop_map(|(from, to)| Deed::Rename(from, to)),
        1 => path().prop_map(Deed::Touch),
        1 => path().prop_map(Deed::MakeFolder),
    ]
}

fn deeds() -> impl Strategy<Value = Vec<(Side, Deed)>> {
    prop::collection::vec((prop::sample::select(&Side::BOTH[..]), deed()), 0..12)
}

fn ways() -> impl Strategy<Value = Way> {
    prop::sample::select(&[Way::Add, Way::Update, Way::Exact, Way::Both][..])
}

/// A place with ideas of its own.
fn any_customs() -> impl Strategy<Value = Customs> {
    let grain = prop::sample::select(&[1, 1_000_000_000, 2_000_000_000, 86_400_000_000_000_i64][..]);
    let names = prop::sample::select(&[Names::Bytes, Names::Share][..]);
    (grain, any::<bool>(), any::<bool>(), names, any::<bool>()).prop_map(
        |(grain, keeps_times, tells_case, names, folders_are_made)| Customs {
            grain,
            keeps_times,
            tells_case,
            names,
            folders_are_made,
        },
    )
}

fn both_customs() -> impl Strategy<Value = Pair<Customs>> {
    prop_oneof![
        2 => Just(Pair::same(customs())),
        3 => (any_customs(), any_customs()).prop_map(|(near, far)| Pair { near, far }),
    ]
}

fn happen(world: &mut World, deeds: &[(Side, Deed)]) {
    for (side, deed) in deeds {
        world.now += 5_000_000_000;
        let now = world.now;
        let shore = world.shores.of_mut(*side);
        match deed {
            Deed::Write(at, content) => {
                shore.remove(&path(at));
                shore.put(&path(at), *content, now);
            }
            Deed::Remove(at) => {
                shore.remove(&path(at));
            }
            Deed::RemoveBelow(at) => {
                let gone: Vec<RelPath> =
                    shore.files.keys().filter(|one| one.below(&path(at)).is_some()).cloned().collect();
                gone.iter().for_each(|one| {
                    shore.remove(one);
                });
                shore.folders.retain(|one| one.below(&path(at)).is_none());
            }
            Deed::Rename(from, to) => {
                shore.rename(&path(from), &path(to));
            }
            Deed::Touch(at) => {
                if let Some(file) = shore.files.get_mut(&path(at)) {
                    file.state.print.modified = now;
                }
            }
            Deed::MakeFolder(at) => {
                shore.make_folder(&path(at));
            }
        }
    }
}

/// Passes until nothing is done any more; only the first of them is a first meeting. Answers what is asked or left then.
fn at_rest(world: &mut World, terms: &Terms) -> Vec<Line> {
    let first = terms.clone();
    let terms = &Terms { is_first: false, ..terms.clone() };
    world.pass(&first, None);
    for _ in 0..5 {
        let lines = world.plan(terms);
        if !lines.iter().any(|line| line.action.touches()) {
            return lines;
        }
        world.pass(terms, None);
    }
    panic!("no end of it: {:#?}\n{}", lines(&world.plan(terms)), world.shown());
}

fn is_asked(lines: &[Line]) -> bool {
    lines.iter().any(|line| matches!(line.action, Action::Ask { .. }))
}

/// Nothing is on a side that the way does not change, but what people put there.
fn never_touched(way: Way, before: &World, after: &World) {
    for side in Side::BOTH {
        if !way.changes(side) {
            assert_eq!(before.shores.of(side).all(), after.shores.of(side).all(), "the {side} side was changed");
        }
        if !way.deletes(side) && way != Way::Update {
            assert_eq!(
                before.shores.of(side).kept,
                after.shores.of(side).kept,
                "something was lost on the {side} side"
            );
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 2_000, ..ProptestConfig::default() })]

    /// However two sides were changed, passes come to an end, nothing is lost, and both are alike as far as the way goes.
    #[test]
    fn both_sides_become_alike_and_nothing_is_lost(
        way in ways(), customs in both_customs(), first in deeds(), second in deeds()
    ) {
        let mut world = World::new(customs);
        happen(&mut world, &first);
        let mut terms = Terms { is_first: true, ..terms(way, customs) };
        let (before, contents) = (world.clone(), world.contents());
        at_rest(&mut world, &terms);
        never_touched(way, &before, &world);
        prop_assert!(world.shores.near.kept.is_empty() && world.shores.far.kept.is_empty(), "a first pass deletes nothing");
        prop_assert!(contents.is_subset(&world.contents()));
        terms.is_first = false;
        happen(&mut world, &second);
        let (before, contents) = (world.clone(), world.contents());
        let left = at_rest(&mut world, &terms);
        never_touched(way, &before, &world);
        prop_assert!(contents.is_subset(&world.contents()), "lost: {:?}", contents.difference(&world.contents()));
        if !is_asked(&left) {
            alike(way, &world, &left);
        }
    }

    /// Wherever a pass is stopped, the next ones come to what it would have come to.
    #[test]
    fn a_stop_anywhere_comes_to_the_same_end(
        way in ways(), customs in both_customs(), first in deeds(), second in deeds(), at in 0_usize..14, effects in 0_usize..4
    ) {
        let mut world = World::new(customs);
        let terms = terms(way, customs);
        happen(&mut world, &first);
        at_rest(&mut world, &Terms { is_first: true, ..terms.clone() });
        happen(&mut world, &second);
        let contents = world.contents();
        let mut whole = world.clone();
        let asked = is_asked(&at_rest(&mut whole, &terms));
        world.pass(&terms, Some((at, effects)));
        let asked = is_asked(&at_rest(&mut world, &terms)) || asked;
        prop_assert!(contents.is_subset(&world.contents()), "lost: {:?}", contents.difference(&world.contents()));
        // What a person is asked can depend on which of two came first.
        for side in Side::BOTH {
            prop_assert!(asked || files(&world, side) == files(&whole, side), "{}\nwithout a stop\n{}", world.shown(), whole.shown());
        }
    }

    /// What people do while a pass runs is never overwritten.
    #[test]
    fn what_comes_while_a_pass_runs_stays(
        way in ways(), customs in both_customs(), first in deeds(), second in deeds(), meanwhile in deeds(), at in 0_usize..10
    ) {
        let mut world = World::new(customs);
        let terms = terms(way, customs);
        happen(&mut world, &first);
        at_rest(&mut world, &Terms { is_first: true, ..terms.clone() });
        happen(&mut world, &second);
        let plan = world.plan(&terms);
        let at = at.min(plan.len());
        plan[..at].iter().for_each(|line| { world.carry_out(line, None); });
        happen(&mut world, &meanwhile);
        let contents = world.contents();
        plan[at..].iter().for_each(|line| { world.carry_out(line, None); });
        prop_assert!(contents.is_subset(&world.contents()), "lost: {:?}", contents.difference(&world.contents()));
        at_rest(&mut world, &terms);
        prop_assert!(contents.is_subset(&world.contents()), "lost: {:?}", contents.difference(&world.contents()));
    }
}

/// Lines in short.
fn lines(lines: &[Line]) -> Vec<String> {
    let action = |line: &Line| match &line.action {
        Action::Restore { .. } => unreachable!("no plan brings back what is kept"),
        Action::Make { on } => format!("make {on}"),
        Action::Replace { on } => format!("replace {on}"),
        Action::Delete { on } => format!("delete {on}"),
        Action::Rename { on, from } => format!("rename {on} from {}", from.of(*on)),
        Action::MakeFolder { on } => format!("folder {on}"),
        Action::RemoveFolder { on } => format!("no folder {on}"),
        Action::KeepBoth { renamed, to } => format!("both, {renamed} as {}", String::from_utf8_lossy(to)),
        Action::Ask { question } => format!("ask {question:?}"),
        Action::Join => "join".to_owned(),
        Action::Forget => "forget".to_owned(),
        Action::Leave => "leave".to_owned(),
    };
    lines.iter().map(|line| format!("{}: {}, {}", line.at.near, action(line), line.why)).collect()
}

/// The files of a side by their names: those that got a name beside another one without its time, without capitals
/// where a side cannot tell them, and however their letters are written.
fn files(world: &World, side: Side) -> Vec<(String, Content)> {
    let tells_case = Side::BOTH.into_iter().all(|side| world.shores.of(side).customs.tells_case);
    let named = |path: &RelPath| {
        let name: String = path.to_string().split(" (").next().unwrap_or_default().nfc().collect();
        if tells_case { name } else { name.to_lowercase() }
    };
    let mut all: Vec<_> = world.shores.of(side).files.iter().map(|(path, file)| (named(path), file.content)).collect();
    all.sort();
    all
}

/// Both sides are alike, as far as the way goes.
fn alike(way: Way, world: &World, left: &[Line]) {
    let of = |side: Side| {
        let shore = world.shores.of(side);
        let left = |path: &RelPath| left.iter().any(|line| line.at.of(side) == path);
        let mut contents: Vec<_> =
            shore.files.iter().filter(|(path, _)| !left(path)).map(|(_, file)| file.content).collect();
        contents.sort_unstable();
        contents
    };
    match way {
        Way::Both | Way::Exact => assert_eq!(of(Side::Near), of(Side::Far), "{}", world.shown()),
        Way::Add | Way::Update => {
            let far = of(Side::Far);
            assert!(of(Side::Near).iter().all(|content| far.contains(content)), "{}", world.shown());
        }
    }
}
