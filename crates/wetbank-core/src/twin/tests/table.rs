//! What follows from what, case by case.

use super::{model::World, *};

/// A world in which both sides were alike in these files, before `then` happened.
fn after(way: Way, both: &[&'static str], then: &[(Side, Deed)]) -> (World, Terms) {
    let customs = Pair::same(customs());
    let (mut world, terms) = (World::new(customs), terms(way, customs));
    let there: Vec<_> =
        both.iter().enumerate().map(|(at, name)| (Side::Near, Deed::Write(name, at as Content))).collect();
    happen(&mut world, &there);
    world.pass(&Terms { is_first: true, ..terms.clone() }, None);
    happen(&mut world, then);
    (world, terms)
}

fn told(way: Way, both: &[&'static str], then: &[(Side, Deed)]) -> Vec<String> {
    let (world, terms) = after(way, both, then);
    lines(&world.plan(&terms))
}

use Side::{Far, Near};

/// A way, what happened, and what follows.
type Case = (Way, &'static [(Side, Deed)], &'static str);

#[test]
fn of_a_file_that_both_had_each_way_follows_what_it_is_for() {
    let cases: [Case; 22] = [
        (Way::Add, &[(Near, Deed::Write("a", 9))], "leave, changed here"),
        (Way::Update, &[(Near, Deed::Write("a", 9))], "replace far, changed here"),
        (Way::Exact, &[(Near, Deed::Write("a", 9))], "replace far, changed here"),
        (Way::Both, &[(Near, Deed::Write("a", 9))], "replace far, changed here"),
        (Way::Add, &[(Far, Deed::Write("a", 9))], "leave, changed there"),
        (Way::Update, &[(Far, Deed::Write("a", 9))], "leave, changed there"),
        (Way::Exact, &[(Far, Deed::Write("a", 9))], "replace far, changed there"),
        (Way::Both, &[(Far, Deed::Write("a", 9))], "replace near, changed there"),
        (Way::Add, &[(Far, Deed::Remove("a"))], "make far, missing there"),
        (Way::Update, &[(Far, Deed::Remove("a"))], "make far, missing there"),
        (Way::Exact, &[(Far, Deed::Remove("a"))], "make far, missing there"),
        (Way::Both, &[(Far, Deed::Remove("a"))], "delete near, deleted there"),
        (Way::Add, &[(Near, Deed::Remove("a"))], "leave, deleted here"),
        (Way::Update, &[(Near, Deed::Remove("a"))], "leave, deleted here"),
        (Way::Exact, &[(Near, Deed::Remove("a"))], "delete far, deleted here"),
        (Way::Both, &[(Near, Deed::Remove("a"))], "delete far, deleted here"),
        (
            Way::Both,
            &[(Near, Deed::Write("a", 9)), (Far, Deed::Remove("a"))],
            "make far, changed here and deleted there: what was changed stays",
        ),
        (
            Way::Both,
            &[(Near, Deed::Remove("a")), (Far, Deed::Write("a", 9))],
            "make near, changed there and deleted here: what was changed stays",
        ),
        (
            Way::Both,
            &[(Near, Deed::Write("a", 8)), (Far, Deed::Write("a", 9))],
            "both, far as a (far 1970-01-01 0017), changed on both sides",
        ),
        (
            Way::Update,
            &[(Near, Deed::Write("a", 8)), (Far, Deed::Write("a", 9))],
            "both, far as a (far 1970-01-01 0017), changed on both sides",
        ),
        (Way::Exact, &[(Near, Deed::Remove("a")), (Far, Deed::Write("a", 9))], "delete far, deleted here"),
        (Way::Both, &[(Near, Deed::Remove("a")), (Far, Deed::Remove("a"))], "forget, on neither side any more"),
    ];
    for (way, then, expected) in cases {
        assert_eq!(told(way, &["a", "z"], then), [format!("a: {expected}")], "{way:?} {then:?}");
    }
}

#[test]
fn what_is_on_one_side_only_goes_as_far_as_the_way() {
    let only = |side: Side| [(side, Deed::Write("b", 9))];
    for way in [Way::Add, Way::Update, Way::Exact, Way::Both] {
        assert_eq!(told(way, &["a"], &only(Near)), ["b: make far, new here"], "{way:?}");
    }
    let of = |way: Way| told(way, &["a"], &only(Far));
    assert_eq!(of(Way::Add), ["b: leave, not here"]);
    assert_eq!(of(Way::Update), ["b: leave, not here"]);
    assert_eq!(of(Way::Exact), ["b: delete far, not here"]);
    assert_eq!(of(Way::Both), ["b: make near, new there"]);
}

#[test]
fn on_a_first_meeting_the_same_is_joined_and_what_differs_is_kept_or_asked() {
    let deeds = [
        (Near, Deed::Write("a", 1)),
        (Far, Deed::Write("a", 2)),
        (Far, Deed::Write("b", 3)),
        (Far, Deed::MakeFolder("d")),
    ];
    let first = |way: Way| {
        let (mut world, terms) = after(way, &[], &deeds);
        // The same file, with the same time.
        let same = world.shores.far.files[&path("b")].clone();
        world.shores.near.put(&path("x:y"), same.content, same.state.print.modified);
        world.shores.far.put(&path("x:y"), same.content, same.state.print.modified);
        lines(&world.plan(&Terms { is_first: true, ..terms }))
    };
    assert_eq!(
        first(Way::Both),
        [
            "a: both, far as a (far 1970-01-01 0016), another file on each side",
            "b: make near, new there",
            "d: folder near, new there",
            "x:y: join, the same on both sides"
        ]
    );
    assert_eq!(
        first(Way::Exact),
        [
            "a: ask Differ, another file on each side",
            "b: ask OnlyThere, not here",
            "d: ask OnlyThere, not here",
            "x:y: join, the same on both sides"
        ]
    );
    assert_eq!(first(Way::Update)[..2], ["a: ask Differ, another file on each side", "b: leave, not here"]);
    assert_eq!(first(Way::Add)[..2], ["a: leave, another file on each side", "b: leave, not here"]);
}

#[test]
fn a_file_that_was_only_touched_or_shifted_by_an_hour_is_compared_and_not_sent() {
    let (mut world, terms) = after(Way::Both, &["a"], &[]);
    let file = world.shores.far.files.get_mut(&path("a")).unwrap();
    file.state.print.modified += 3_600_000_000_000;
    let plan = world.plan(&terms);
    assert_eq!(lines(&plan), ["a: replace near, changed there"]);
    assert!(plan[0].if_differs, "the content decides");
    let before = world.shores.near.all();
    at_rest(&mut world, &terms);
    assert!(world.shores.near.all() == before && world.shores.near.kept.is_empty());
}

#[test]
fn times_that_a_place_rounds_are_no_change() {
    let rough = Customs { grain: 2_000_000_000, ..customs() };
    let both = Pair { near: customs(), far: rough };
    let (mut world, terms) = (World::new(both), terms(Way::Both, both));
    world.shores.near.put(&path("a"), 1, 1_700_000_001_999_999_999);
    at_rest(&mut world, &Terms { is_first: true, ..terms.clone() });
    assert_eq!(lines(&world.plan(&terms)), [""; 0]);
    // What is known is lost: they are the same all the same.
    world.known.clear();
    assert_eq!(lines(&world.plan(&Terms { is_first: true, ..terms })), ["a: join, the same on both sides"]);
}

#[test]
fn what_is_known_from_long_ago_deletes_nothing() {
    let (mut world, terms) = after(Way::Both, &["a", "b", "d/a"], &[]);
    let old = world.known.clone();
    happen(&mut world, &[(Near, Deed::Remove("b")), (Near, Deed::Write("d/b", 7))]);
    at_rest(&mut world, &terms);
    happen(&mut world, &[(Far, Deed::Write("b", 5)), (Near, Deed::Remove("d/a"))]);
    world.known = old;
    let plan = world.plan(&Terms { is_first: true, ..terms });
    let bad = |line: &&Line| matches!(line.action, Action::Delete { .. } | Action::Replace { .. });
    assert_eq!(plan.iter().filter(bad).count(), 0, "{:?}", lines(&plan));
}

#[test]
fn a_folder_that_is_removed_takes_what_was_in_it_and_nothing_else() {
    let gone = [(Near, Deed::RemoveBelow("d"))];
    assert_eq!(
        told(Way::Both, &["a", "d/a", "d/e/f"], &gone),
        [
            "d/a: delete far, deleted here",
            "d/e/f: delete far, deleted here",
            "d/e: no folder far, deleted here",
            "d: no folder far, deleted here"
        ]
    );
    let changed = [(Near, Deed::RemoveBelow("d")), (Far, Deed::Write("d/e/f", 9))];
    assert_eq!(
        told(Way::Both, &["a", "d/a", "d/e/f"], &changed),
        ["d/a: delete far, deleted here", "d/e/f: make near, changed there and deleted here: what was changed stays"]
    );
    // In a bucket there is no folder without a file: that it is not there says nothing of the folder here.
    let bucket = Pair { near: customs(), far: Customs { folders_are_made: false, ..customs() } };
    let (mut world, terms) = (World::new(bucket), terms(Way::Both, bucket));
    happen(&mut world, &[(Near, Deed::Write("d/a", 1)), (Near, Deed::MakeFolder("b"))]);
    at_rest(&mut world, &Terms { is_first: true, ..terms.clone() });
    assert_eq!(lines(&world.plan(&terms)), [""; 0]);
    happen(&mut world, &[(Far, Deed::Remove("d/a"))]);
    at_rest(&mut world, &terms);
    assert_eq!(world.shores.near.all(), [(path("b"), None), (path("d"), None)].into());
}

#[test]
fn a_file_that_became_a_folder_and_a_folder_that_became_a_file_follow() {
    let (mut world, terms) = after(Way::Both, &["a"], &[]);
    world.shores.near.remove(&path("a"));
    world.shores.near.put(&path("a/b"), 7, 5);
    assert_eq!(
        lines(&world.plan(&terms)),
        [
            "a: delete far, a folder here and a file there"
                .replace("a folder here and a file there", "a file there and a folder here"),
            "a: folder far, a file there and a folder here".to_owned(),
            "a/b: make far, new here".to_owned()
        ]
    );
    at_rest(&mut world, &terms);
    assert_eq!(world.shores.far.all(), [(path("a"), None), (path("a/b"), Some(7))].into());
    // And back again.
    happen(&mut world, &[(Far, Deed::RemoveBelow("a")), (Far, Deed::Write("a", 8))]);
    at_rest(&mut world, &terms);
    assert_eq!(world.shores.near.all(), [(path("a"), Some(8))].into());
    // What somebody changed in the folder meanwhile is not deleted for it: a person is asked.
    let (mut world, terms) =
        after(Way::Both, &["d/a", "d/b"], &[(Far, Deed::RemoveBelow("d")), (Far, Deed::Write("d", 8))]);
    happen(&mut world, &[(Near, Deed::Write("d/b", 9))]);
    assert_eq!(
        lines(&world.plan(&terms)),
        [
            "d/a: delete near, deleted there",
            "d/b: ask Kinds, a file there and a folder here",
            "d: ask Kinds, a file there and a folder here"
        ]
    );
}

#[test]
fn renames_are_found_by_what_cannot_be_the_same_by_chance() {
    let both = ["d/a", "d/b", "a"];
    assert_eq!(told(Way::Both, &both, &[(Near, Deed::Rename("d/a", "b"))]), ["b: rename far from d/a, renamed here"]);
    // Where a place has nothing but sizes and times, it is deleted and sent anew.
    let (mut world, terms) = after(Way::Both, &both, &[]);
    for file in world.shores.near.files.values_mut() {
        file.state.print.inode = None;
    }
    for known in world.known.values_mut() {
        if let Was::File(states) = &mut known.was {
            states.near.print.inode = None;
        }
    }
    happen(&mut world, &[(Near, Deed::Rename("d/a", "b"))]);
    let moved = world.shores.near.files.get_mut(&path("b")).unwrap();
    moved.state.print.inode = None;
    assert_eq!(lines(&world.plan(&terms)), ["b: make far, new here", "d/a: delete far, deleted here"]);
    // What was changed over there meanwhile is another file.
    let changed = [(Near, Deed::Rename("d/a", "b")), (Far, Deed::Write("d/a", 9))];
    assert_eq!(told(Way::Exact, &both, &changed), ["b: make far, new here", "d/a: delete far, deleted here"]);
    // A copy is no rename, and of two that could be it nobody knows which.
    let (mut world, terms) = after(Way::Both, &both, &[]);
    let twice = world.shores.near.files[&path("d/a")].clone();
    world.shores.near.files.remove(&path("d/a"));
    for name in ["b", "x:y"] {
        world.shores.near.files.insert(path(name), twice.clone());
    }
    let plan = lines(&world.plan(&terms));
    assert!(!plan.iter().any(|line| line.contains("rename")), "{plan:?}");
}

#[test]
fn a_whole_folder_that_is_renamed_travels_not_at_all() {
    let customs = Pair::same(customs());
    let (mut world, terms) = (World::new(customs), terms(Way::Both, customs));
    for number in 0..3_000 {
        world.shores.near.put(&path(&format!("soundings/2025/{number}")), number, i64::from(number));
    }
    world.pass(&Terms { is_first: true, ..terms.clone() }, None);
    for number in 0..3_000 {
        let (from, to) = (format!("soundings/2025/{number}"), format!("soundings/of 2025/{number}"));
        assert!(world.shores.near.rename(&path(&from), &path(&to)));
    }
    world.shores.near.folders.remove(&path("soundings/2025"));
    let plan = world.plan(&terms);
    let mut counts = Counts::default();
    plan.iter().for_each(|line| counts.add(line));
    assert_eq!((counts.renamed.far, counts.made.far, counts.deleted.far), (3_000, 0, 0));
    assert_eq!(Brake::default().stops(&counts, Pair::same(3_000), 3_000), None, "nothing is deleted by it");
    at_rest(&mut world, &terms);
    assert_eq!(world.shores.near.all(), world.shores.far.all());
    assert!(world.shores.far.kept.is_empty());
}

#[test]
fn a_name_that_the_other_side_cannot_tell_or_have_is_asked_about() {
    let blind = Pair { near: customs(), far: Customs { tells_case: false, names: Names::Share, ..customs() } };
    let of = |way: Way, fits_names: bool, names: &[&'static str]| {
        let (mut world, terms) = (World::new(blind), Terms { fits_names, ..terms(way, blind) });
        let there: Vec<_> = names.iter().map(|name| (Near, Deed::Write(name, 1))).collect();
        happen(&mut world, &there);
        let first = lines(&world.plan(&Terms { is_first: true, ..terms.clone() }));
        at_rest(&mut world, &Terms { is_first: true, ..terms.clone() });
        (first, world, terms)
    };
    let (told, world, _) = of(Way::Exact, true, &["A", "a", "b"]);
    let asked = "a: ask SameName, another file has this name there, where A and a are one";
    assert_eq!(told, ["A: make far, new here", asked, "b: make far, new here"]);
    assert_eq!(world.shores.near.files.len(), 3);
    let (told, _, _) = of(Way::Both, false, &["x:y"]);
    assert_eq!(told, ["x:y: ask BadName, the name is not possible there"]);
    // If names may be fitted, both names are remembered as one file.
    let (told, mut world, terms) = of(Way::Both, true, &["x:y"]);
    assert_eq!(told, ["x:y: make far, new here"]);
    assert_eq!(world.shores.far.all(), [(path("x_y"), Some(1))].into());
    assert_eq!(lines(&world.plan(&terms)), [""; 0]);
    world.now += 9_000_000_000;
    let now = world.now;
    world.shores.far.remove(&path("x_y"));
    world.shores.far.put(&path("x_y"), 5, now);
    at_rest(&mut world, &terms);
    assert_eq!(world.shores.near.all(), [(path("x:y"), Some(5))].into());
}

#[test]
fn one_name_written_in_two_ways_is_one_file_and_two_files_stay_two() {
    let customs = Pair::same(customs());
    let (mut world, terms) = (World::new(customs), terms(Way::Both, customs));
    world.shores.near.put(&path("caf\u{e9}"), 1, 5);
    world.shores.far.put(&path("cafe\u{301}"), 1, 5);
    assert_eq!(
        lines(&world.plan(&Terms { is_first: true, ..terms.clone() })),
        ["caf\u{e9}: join, the same on both sides"]
    );
    world.shores.near.put(&path("cafe\u{301}"), 2, 6);
    let first = Terms { is_first: true, ..terms };
    at_rest(&mut world, &first);
    assert_eq!(world.shores.near.contents().len(), 2);
    assert_eq!(world.shores.near.contents(), world.shores.far.contents());
}

#[test]
fn what_a_twin_is_not_about_is_as_if_it_were_not_there() {
    let pattern = |text: &str| globset::Glob::new(text).unwrap().compile_matcher();
    let scope = Scope {
        names: vec![pattern("*.csv")],
        hidden: false,
        except: vec![(pattern("old-*"), false), (pattern("d/e/**"), true)],
        ..Scope::all()
    };
    let customs = Pair::same(customs());
    let (mut world, terms) = (World::new(customs), Terms { scope, ..terms(Way::Exact, customs) });
    for name in ["a.csv", "a.txt", ".b.csv", "old-a.csv", "d/c.csv", "d/e/f.csv"] {
        world.shores.near.put(&path(name), 1, 1);
        world.shores.far.put(&path(&format!("more/{name}")), 1, 1);
    }
    assert_eq!(
        lines(&world.plan(&terms)),
        [
            "a.csv: make far, new here",
            "d: folder far, new here",
            "d/c.csv: make far, new here",
            "d/e: folder far, new here",
            "more/a.csv: delete far, not here",
            "more/d/c.csv: delete far, not here",
            "more/d/e/f.csv: delete far, not here",
            "more/d/e: no folder far, not here",
            "more/d: no folder far, not here"
        ]
    );
    // Only what changed lately is taken up; what both have goes on being kept alike.
    let since = Terms { scope: Scope { since: Some(50), ..Scope::all() }, ..self::terms(Way::Both, customs) };
    let (mut world, _) = (World::new(customs), ());
    world.shores.near.put(&path("a"), 1, 49);
    world.shores.near.put(&path("b"), 1, 50);
    assert_eq!(
        lines(&world.plan(&since)),
        ["a: leave, last changed before the days that are looked back", "b: make far, new here"]
    );
}

#[test]
fn too_much_at_once_and_an_empty_side_stop_a_pass() {
    let brake = Brake::default();
    let counts = |deleted: u64, replaced: u64| Counts {
        deleted: Pair { near: 0, far: deleted },
        replaced: Pair { near: 0, far: replaced },
        ..Counts::default()
    };
    let stops = |deleted: u64, replaced: u64, of: u64| brake.stops(&counts(deleted, replaced), Pair::same(of), of);
    for (deleted, replaced, of, does) in [
        (10, 0, 12, false),
        (11, 0, 12, true),
        (20, 0, 100, false),
        (10, 11, 100, true),
        (200, 0, 5_000, false),
        (0, 201, 1_000_000, true),
    ] {
        assert_eq!(stops(deleted, replaced, of).is_some(), does, "{deleted} + {replaced} of {of}");
    }
    let words = stops(214, 0, 380).unwrap().to_string();
    assert_eq!(words, "it would delete 214 of 380 files on the far side; up to 76 are done without asking");
    let empty = brake.stops(&Counts::default(), Pair { near: 0, far: 3 }, 3);
    assert_eq!(empty, Some(Stop::Empty { side: Near, were: 3 }));
    assert_eq!(brake.stops(&Counts::default(), Pair::same(0), 0), None, "two empty sides that never had anything");
}

#[test]
fn two_hundred_levels_and_a_hundred_thousand_names_are_gone_through() {
    let customs = Pair::same(customs());
    let terms = terms(Way::Both, customs);
    let mut walk = Walk::new(&terms);
    let mut depth = 0;
    let state = |at: u32| State {
        print: crate::Fingerprint { size: 1, modified: i64::from(at), inode: None, tag: None },
        sum: None,
    };
    let many: Vec<Seen> =
        (0..100_000).map(|at| Seen { name: format!("gauge-{at}").into_bytes(), lies: Lies::File(state(at)) }).collect();
    let mut lines = 0;
    loop {
        match walk.next() {
            Next::End => break,
            Next::Do(_) => lines += 1,
            Next::Look(_) if depth < 200 => {
                depth += 1;
                let folder = vec![Seen { name: b"deeper".to_vec(), lies: Lies::Folder }];
                walk.told(Pair { near: folder, far: Vec::new() }, Vec::new());
            }
            Next::Look(_) => {
                walk.told(Pair { near: many.clone(), far: Vec::new() }, Vec::new());
            }
        }
    }
    assert_eq!((depth, lines, walk.files().near), (200, 100_200, 100_000));
}

#[test]
fn what_was_changed_a_moment_ago_is_not_told_by_size_and_time() {
    let customs = Pair::same(customs());
    let old = Terms { young: 100, ..terms(Way::Both, customs) };
    let state =
        |modified: i64, inode: u64| State::of(&crate::Fingerprint { size: 5, modified, inode: Some(inode), tag: None });
    let verdict = |terms: &Terms, near: State, far: State, was: Option<Pair<State>>| {
        let known = was.map(Was::File);
        super::super::decide::decide(terms, Pair { near: Some(&near), far: Some(&far) }, known.as_ref())
    };
    let joined = verdict(&old, state(99, 1), state(99, 2), None).unwrap();
    assert_eq!((joined.action, joined.if_differs), (Action::Join, false));
    // Both were written within one tick: only their contents tell.
    let young = verdict(&old, state(100, 1), state(100, 2), None).unwrap();
    assert!(young.if_differs && young.action != Action::Join, "{young:?}");
    // Another file took the place of a known one within one tick.
    let was = |modified: i64| Some(Pair { near: state(modified, 1), far: state(modified, 2) });
    assert_eq!(verdict(&old, state(99, 7), state(99, 2), was(99)), None);
    let replaced = verdict(&old, state(100, 7), state(100, 2), was(100)).unwrap();
    assert_eq!((replaced.action, replaced.if_differs), (Action::Replace { on: Far }, true));
}

#[test]
fn a_name_that_comes_to_be_written_as_on_the_other_side_is_one_file_again() {
    let customs = Pair::same(customs());
    let mut world = World::new(customs);
    let terms = terms(Way::Update, customs);
    let (composed, decomposed) = ("caf\u{e9}", "cafe\u{301}");
    happen(&mut world, &[(Far, Deed::Write(decomposed, 0)), (Near, Deed::Write(composed, 0))]);
    at_rest(&mut world, &Terms { is_first: true, ..terms.clone() });
    happen(&mut world, &[(Far, Deed::Remove(decomposed)), (Near, Deed::Rename(composed, decomposed))]);
    let left = at_rest(&mut world, &terms);
    assert!(left.is_empty(), "{left:?}");
    assert_eq!(world.known.len(), 1);
    alike(Way::Update, &world, &left);
}
