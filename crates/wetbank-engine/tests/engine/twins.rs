//! Two folders that are kept alike: what a pass does on disk, and what it leaves to a person or to the next pass.

use std::{fs, time::Duration};

use wetbank_core::{
    Cause, ItemState, Name,
    twin::{Answer, Brake, Choices, Pair, Sameness, Scope, Settling, Stop, Twin, TwinStarts, Way},
};
use wetbank_engine::{EngineError, Passing};

use crate::support::{Office, file};

pub fn twin(way: Way) -> Twin {
    Twin {
        name: Name::new("readings").unwrap(),
        title: "Readings".to_owned(),
        why: String::new(),
        folders: Pair { near: file("office:/in"), far: file("archive:/shared") },
        way,
        settling: Settling::KeepBoth,
        same: Sameness::SizeAndTime,
        scope: Scope::all(),
        recent: None,
        settle: None,
        fits_names: false,
        keep_days: 30,
        brake: Brake::default(),
        zone: jiff::tz::TimeZone::UTC,
        starts: TwinStarts::default(),
        tell: Vec::new(),
    }
}

async fn office() -> Office {
    let office = Office::new("").await;
    fs::create_dir_all(office.path("archive/shared")).unwrap();
    office
}

async fn pass(office: &Office, twin: &Twin) -> Passing {
    office.engine.pass(twin, Cause::Hand, &Choices::default()).await.unwrap()
}

/// Everything below a folder, with what is in it; what is kept there left out.
fn below(office: &Office, folder: &str) -> Vec<(String, Option<String>)> {
    fn walk(root: &std::path::Path, at: &std::path::Path, found: &mut Vec<(String, Option<String>)>) {
        for entry in fs::read_dir(at).unwrap() {
            let path = entry.unwrap().path();
            let name = path.strip_prefix(root).unwrap().display().to_string();
            if name.starts_with(".wetbank-kept") {
                continue;
            }
            if path.is_dir() {
                found.push((name, None));
                walk(root, &path, found);
            } else {
                found.push((name, Some(fs::read_to_string(&path).unwrap())));
            }
        }
    }
    let (root, mut found) = (office.path(folder), Vec::new());
    walk(&root, &root, &mut found);
    found.sort();
    found
}

fn are_alike(office: &Office) {
    assert_eq!(below(office, "office/in"), below(office, "archive/shared"));
}

/// Every file that one side keeps, with its content.
pub fn kept(office: &Office, side: &str) -> Vec<String> {
    let mut found = Vec::new();
    let mut folders = vec![office.path(side).join(".wetbank-kept")];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(folder).into_iter().flatten() {
            let path = entry.unwrap().path();
            if path.is_dir() {
                folders.push(path);
            } else if path.extension().is_none_or(|ending| ending != "mark") {
                found.push(fs::read_to_string(path).unwrap());
            }
        }
    }
    found.sort();
    found
}

#[tokio::test(flavor = "multi_thread")]
async fn each_change_follows_to_the_other_side_and_a_second_pass_does_nothing() {
    let (office, twin) = (office().await, twin(Way::Both));
    office.put("office/in/a.csv", "a");
    office.put("office/in/2026/b.csv", "b");
    office.put("archive/shared/c.csv", "c");
    fs::create_dir_all(office.path("archive/shared/empty")).unwrap();
    let first = pass(&office, &twin).await;
    assert!(first.is_first && first.run.is_some(), "{first:?}");
    are_alike(&office);
    assert_eq!(below(&office, "office/in").len(), 5);
    let second = pass(&office, &twin).await;
    assert_eq!((second.run, second.is_first, second.counts.is_alike()), (None, false, true));
    // Changed, deleted, renamed and new, on both sides.
    office.put("office/in/a.csv", "a, changed here");
    fs::rename(office.path("office/in/2026/b.csv"), office.path("office/in/2026/renamed.csv")).unwrap();
    fs::remove_file(office.path("archive/shared/c.csv")).unwrap();
    fs::remove_dir(office.path("archive/shared/empty")).unwrap();
    office.put("archive/shared/deeper/still/d.csv", "d");
    let third = pass(&office, &twin).await;
    assert_eq!((third.counts.renamed.far, third.counts.deleted.near, third.counts.replaced.far), (1, 1, 1));
    are_alike(&office);
    let names: Vec<_> = below(&office, "archive/shared").into_iter().map(|(name, _)| name).collect();
    assert_eq!(names, ["2026", "2026/renamed.csv", "a.csv", "deeper", "deeper/still", "deeper/still/d.csv"]);
    // What was lost is kept on the side that lost it.
    assert_eq!(kept(&office, "office/in"), ["c"]);
    assert_eq!(kept(&office, "archive/shared"), ["a"]);
    assert_eq!(pass(&office, &twin).await.run, None);
    assert!(office.items().await.iter().all(|item| item.state == ItemState::Done), "{:?}", office.items().await);
}

#[tokio::test(flavor = "multi_thread")]
async fn every_way_does_what_it_is_for_and_no_more() {
    for (way, near, far) in [
        (Way::Add, "changed here", ["first", "there only"]),
        (Way::Update, "changed here", ["changed here", "there only"]),
        (Way::Exact, "changed here", ["changed here", "-"]),
    ] {
        let (office, twin) = (office().await, twin(way));
        office.put("office/in/a.csv", "first");
        office.put("office/in/gone.csv", "gone");
        pass(&office, &twin).await;
        office.put("office/in/a.csv", near);
        office.put("archive/shared/b.csv", "there only");
        fs::remove_file(office.path("office/in/gone.csv")).unwrap();
        pass(&office, &twin).await;
        let read = |name: &str| fs::read_to_string(office.path(name)).unwrap_or_else(|_| "-".to_owned());
        assert_eq!([read("archive/shared/a.csv"), read("archive/shared/b.csv")], far, "{way:?}");
        assert_eq!(read("archive/shared/gone.csv") == "-", way == Way::Exact, "{way:?}");
        assert_eq!((read("office/in/a.csv"), read("office/in/b.csv")), (near.to_owned(), "-".to_owned()));
        assert_eq!(pass(&office, &twin).await.run, None, "{way:?}: a second pass does nothing");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn two_sides_that_never_met_join_what_is_the_same_and_keep_both_of_what_is_not() {
    let (office, twin) = (office().await, twin(Way::Both));
    office.put("office/in/same.csv", "the same");
    // At another time.
    tokio::time::sleep(Duration::from_millis(30)).await;
    office.put("archive/shared/same.csv", "the same");
    office.put("office/in/map.csv", "of the office");
    office.put("archive/shared/map.csv", "of the archive");
    let first = pass(&office, &twin).await;
    assert_eq!(first.counts.kept_both, 2, "only their contents tell");
    pass(&office, &twin).await;
    are_alike(&office);
    let found = below(&office, "office/in");
    let contents: Vec<_> = found.iter().map(|(_, content)| content.clone().unwrap()).collect();
    assert_eq!(contents, ["of the archive", "of the office", "the same"]);
    assert!(found[0].0.starts_with("map (far 20") && found[0].0.ends_with(").csv"), "{found:?}");
    assert!(kept(&office, "office/in").is_empty() && kept(&office, "archive/shared").is_empty());
    assert_eq!(pass(&office, &twin).await.run, None);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_differs_at_the_first_meeting_stays_a_question_however_often_it_is_passed_over() {
    let (office, twin) = (office().await, twin(Way::Exact));
    office.put("office/in/map.csv", "of the office");
    office.put("archive/shared/map.csv", "of the archive");
    office.put("archive/shared/only.csv", "there only");
    // The same content, at another time, is no question.
    office.put("office/in/same.csv", "the same");
    tokio::time::sleep(Duration::from_millis(30)).await;
    office.put("archive/shared/same.csv", "the same");
    for _ in 0..3 {
        let passing = pass(&office, &twin).await;
        assert_eq!((passing.counts.asked, passing.run), (2, None));
    }
    assert_eq!(office.read("archive/shared/map.csv"), "of the archive");
    assert!(office.is_there("archive/shared/only.csv"));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_a_growing_copy_has_already_is_joined_and_another_file_is_told() {
    let (office, twin) = (office().await, twin(Way::Add));
    for (name, near, far) in [("same.csv", "the same", "the same"), ("other.csv", "one", "two")] {
        office.put(&format!("office/in/{name}"), near);
        office.put(&format!("archive/shared/{name}"), far);
    }
    let first = office.engine.compare(&twin, &Choices::default(), 9).await.unwrap();
    let told: Vec<_> = first.lines.iter().map(|line| format!("{}: {}", line.at.near, line.why)).collect();
    assert_eq!(told, ["other.csv: another file on each side"]);
    for _ in 0..2 {
        let passing = pass(&office, &twin).await;
        assert_eq!((passing.run, passing.counts.left), (None, 1));
    }
    assert_eq!(office.read("archive/shared/other.csv"), "two");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_pass_that_would_lose_too_much_or_finds_a_side_empty_stops_before_its_first_action() {
    let (office, twin) = (office().await, twin(Way::Both));
    for number in 0..30 {
        office.put(&format!("office/in/{number}.csv"), number.to_string());
    }
    pass(&office, &twin).await;
    for number in 0..11 {
        fs::remove_file(office.path(&format!("office/in/{number}.csv"))).unwrap();
    }
    office.put("office/in/new.csv", "new");
    let stopped = pass(&office, &twin).await;
    assert!(matches!(stopped.stop, Some(Stop::TooMuch { deleted: 11, of: 30, most: 10, .. })), "{stopped:?}");
    assert_eq!((stopped.run, office.is_there("archive/shared/new.csv")), (None, false), "nothing was begun");
    let before = below(&office, "archive/shared");
    fs::rename(office.path("office/in"), office.path("office/elsewhere")).unwrap();
    // The folder is not there: nobody knows what lies in it.
    let seen = Choices { allowed: stopped.stop, ..Choices::default() };
    let error = office.engine.pass(&twin, Cause::Hand, &seen).await.unwrap_err();
    assert!(matches!(error, EngineError::Place(_)), "{error}");
    // Another disk is there instead, or none.
    fs::create_dir(office.path("office/in")).unwrap();
    let stopped = pass(&office, &twin).await;
    assert!(matches!(stopped.stop, Some(Stop::Other { .. })), "{stopped:?}");
    assert_eq!(below(&office, "archive/shared"), before);
    fs::remove_dir(office.path("office/in")).unwrap();
    fs::rename(office.path("office/elsewhere"), office.path("office/in")).unwrap();
    // Its files are gone, and the folder is the one of last time.
    fs::create_dir(office.path("office/aside")).unwrap();
    for name in office.names("office/in").iter().filter(|name| !name.starts_with('.')) {
        fs::rename(office.path(&format!("office/in/{name}")), office.path(&format!("office/aside/{name}"))).unwrap();
    }
    let stopped = pass(&office, &twin).await;
    assert!(matches!(stopped.stop, Some(Stop::Empty { were: 30, .. })), "{stopped:?}");
    for name in office.names("office/aside") {
        fs::rename(office.path(&format!("office/aside/{name}")), office.path(&format!("office/in/{name}"))).unwrap();
    }
    // A person says that it is meant.
    let done = office.engine.pass(&twin, Cause::Hand, &seen).await.unwrap();
    assert_eq!((done.stop, done.counts.deleted.far), (None, 11));
    are_alike(&office);
    assert_eq!(kept(&office, "archive/shared").len(), 11);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_comparison_touches_nothing_and_says_what_a_pass_then_does() {
    let (office, twin) = (office().await, twin(Way::Both));
    for number in 0..5 {
        office.put(&format!("office/in/{number}.csv"), "x");
    }
    let compared = office.engine.compare(&twin, &Choices::default(), 3).await.unwrap();
    assert_eq!((compared.lines.len(), compared.all, compared.counts.made.far), (3, 5, 5));
    assert_eq!(compared.lines[0].why.to_string(), "new here");
    assert!(below(&office, "archive/shared").is_empty() && office.items().await.is_empty());
    assert_eq!(pass(&office, &twin).await.counts, compared.counts);
    assert!(office.engine.compare(&twin, &Choices::default(), 3).await.unwrap().counts.is_alike());
}

#[tokio::test(flavor = "multi_thread")]
async fn what_comes_while_a_pass_runs_is_not_overwritten_and_the_next_pass_sees_to_it() {
    let (office, twin) = (office().await, twin(Way::Both));
    for number in 0..200 {
        office.put(&format!("office/in/{number:03}.csv"), "from here");
    }
    let going = {
        let (engine, twin) = (office.engine.clone(), twin.clone());
        tokio::spawn(async move { engine.pass(&twin, Cause::Hand, &Choices::default()).await })
    };
    // While it is going on somebody puts files of their own where it is about to.
    for number in (0..200).rev() {
        office.put(&format!("archive/shared/mine-{number:03}.csv"), "from there");
        let path = office.path(&format!("archive/shared/{number:03}.csv"));
        if number % 7 == 0 && fs::File::create_new(&path).is_ok() {
            fs::write(&path, "somebody's own").unwrap();
        }
    }
    going.await.unwrap().unwrap();
    let theirs = |office: &Office| {
        let contents = below(office, "archive/shared").into_iter().filter_map(|(_, content)| content);
        contents.filter(|content| content == "somebody's own").count()
    };
    let before = theirs(&office);
    for _ in 0..3 {
        pass(&office, &twin).await;
    }
    are_alike(&office);
    assert_eq!(theirs(&office), before, "what somebody wrote is still there, under its name or beside it");
    let ours = below(&office, "office/in").into_iter().filter(|(_, content)| content.as_deref() == Some("from here"));
    assert_eq!(ours.count(), 200);
}

#[tokio::test(flavor = "multi_thread")]
async fn only_one_pass_of_a_twin_goes_on_at_a_time() {
    let (office, twin) = (office().await, twin(Way::Add));
    for number in 0..300 {
        office.put(&format!("office/in/{number}.csv"), "x");
    }
    let passes = (0..4).map(|_| {
        let (engine, twin) = (office.engine.clone(), twin.clone());
        tokio::spawn(async move { engine.pass(&twin, Cause::Hand, &Choices::default()).await.unwrap() })
    });
    let mut begun = 0;
    for pass in passes.collect::<Vec<_>>() {
        begun += usize::from(pass.await.unwrap().run.is_some());
    }
    assert_eq!(begun, 1);
    assert_eq!(below(&office, "archive/shared").len(), 300);
}

#[tokio::test(flavor = "multi_thread")]
async fn no_rule_takes_what_a_twin_keeps_and_a_rule_sorts_what_a_twin_brought() {
    let office = Office::new(
        "[rule.sort]\nstarts = { arrival = { place = \"archive\", below = true } }\n[[rule.sort.branch]]\n\
         steps = [ { copy = { to = \"harbour\" } } ]\n",
    )
    .await;
    fs::create_dir_all(office.path("archive/shared")).unwrap();
    let twin = twin(Way::Exact);
    office.put("office/in/a.csv", "a");
    pass(&office, &twin).await;
    office.until("it to be sorted", |_| office.is_there("harbour/a.csv")).await;
    fs::remove_file(office.path("office/in/a.csv")).unwrap();
    office.put("office/in/b.csv", "b");
    pass(&office, &twin).await;
    office.until("the other one to be sorted", |_| office.is_there("harbour/b.csv")).await;
    tokio::time::sleep(Duration::from_millis(50)).await;
    assert_eq!(office.names("harbour"), ["a.csv", "b.csv"]);
    assert_eq!(kept(&office, "archive/shared"), ["a"]);
}

/// Numbers that look like chance and are the same for one seed.
struct Chance(u64);

impl Chance {
    fn next(&mut self, below: u64) -> u64 {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        self.0 % below
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_service_that_is_stopped_in_a_pass_goes_on_and_nothing_is_lost() {
    for seed in [3, u64::from(std::process::id()) | 1] {
        let (mut office, twin, mut chance) = (office().await, twin(Way::Both), Chance(seed));
        let twin = Twin { brake: Brake { share: 100, number: 10_000 }, ..twin };
        for number in 0..120 {
            let folder = ["office/in", "archive/shared"][usize::from(number % 2 == 1)];
            office.put(&format!("{folder}/{}/{number}.csv", number % 5), number.to_string());
        }
        pass(&office, &twin).await;
        let mut contents: std::collections::BTreeSet<String> = (0..120).map(|number| number.to_string()).collect();
        for round in 0..3 {
            for deed in 0..40 {
                let side = ["office/in", "archive/shared"][usize::from(chance.next(2) == 1)];
                let at = |chance: &mut Chance| format!("{side}/{}/{}.csv", chance.next(5), chance.next(120));
                let (one, other) = (at(&mut chance), at(&mut chance));
                match chance.next(4) {
                    0 => {
                        // What people delete or write over themselves is theirs to lose.
                        if let Ok(gone) = fs::read_to_string(office.path(&one)) {
                            contents.remove(&gone);
                        }
                        let text = format!("{seed} {round} {deed}");
                        office.put(&one, &text);
                        contents.insert(text);
                    }
                    1 => {
                        let is_free = !office.is_there(&other) && office.path(&other).parent().unwrap().is_dir();
                        if office.is_there(&one) && is_free {
                            fs::rename(office.path(&one), office.path(&other)).unwrap();
                        }
                    }
                    2 if office.is_there(&one) => {
                        contents.remove(&office.read(&one));
                        fs::remove_file(office.path(&one)).unwrap();
                    }
                    _ => {}
                }
            }
            let going = {
                let (engine, twin) = (office.engine.clone(), twin.clone());
                tokio::spawn(async move { engine.pass(&twin, Cause::Hand, &Choices::default()).await.map(|_| ()) })
            };
            tokio::time::sleep(Duration::from_micros(chance.next(60_000))).await;
            office.engine.stop().await;
            let _ = going.await.unwrap();
            office = office.started_again().await;
            for _ in 0..3 {
                pass(&office, &twin).await;
            }
            let (near, far) = (below(&office, "office/in"), below(&office, "archive/shared"));
            assert_eq!(near, far, "seed {seed}, round {round}");
            assert_eq!(pass(&office, &twin).await.run, None, "seed {seed}: a further pass does nothing");
            let there: std::collections::BTreeSet<String> = ["office/in", "archive/shared"]
                .into_iter()
                .flat_map(|side| {
                    let now = below(&office, side).into_iter().filter_map(|(_, content)| content);
                    now.chain(kept(&office, side)).collect::<Vec<_>>()
                })
                .collect();
            let lost: Vec<_> = contents.difference(&there).collect();
            assert!(lost.is_empty(), "seed {seed}: lost {lost:?}");
            // And what somebody deletes after that does not come back.
            let gone = near.iter().find_map(|(name, content)| Some((name, content.clone()?))).unwrap();
            fs::remove_file(office.path(&format!("office/in/{}", gone.0))).unwrap();
            contents.remove(&gone.1);
            pass(&office, &twin).await;
            assert!(!office.is_there(&format!("archive/shared/{}", gone.0)), "seed {seed}, round {round}");
            assert!(!office.is_there(&format!("office/in/{}", gone.0)), "seed {seed}, round {round}: it came back");
        }
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_becomes_a_folder_a_folder_a_file_and_a_link_is_left_alone() {
    let (office, twin) = (office().await, twin(Way::Both));
    office.put("office/in/file", "a file");
    office.put("office/in/folder/a.csv", "a");
    office.put("office/in/folder/deeper/b.csv", "b");
    office.put("office/secret", "not to be followed");
    std::os::unix::fs::symlink(office.path("office/secret"), office.path("office/in/link")).unwrap();
    std::os::unix::fs::symlink(office.path("office"), office.path("office/in/loop")).unwrap();
    let first = pass(&office, &twin).await;
    assert_eq!(first.counts.left, 2);
    assert!(!office.is_there("archive/shared/link") && !office.is_there("archive/shared/loop"));
    fs::remove_file(office.path("office/in/file")).unwrap();
    office.put("office/in/file/inside.csv", "inside");
    fs::remove_dir_all(office.path("archive/shared/folder")).unwrap();
    office.put("archive/shared/folder", "a file now");
    for _ in 0..2 {
        pass(&office, &twin).await;
    }
    assert_eq!(office.read("archive/shared/file/inside.csv"), "inside");
    assert_eq!(office.read("office/in/folder"), "a file now");
    assert_eq!(
        (kept(&office, "office/in"), kept(&office, "archive/shared").len()),
        (vec!["a".to_owned(), "b".to_owned()], 1)
    );
    // A link in the place of a file that both had: nobody deletes the file for it.
    fs::remove_file(office.path("office/in/file/inside.csv")).unwrap();
    std::os::unix::fs::symlink(office.path("office/secret"), office.path("office/in/file/inside.csv")).unwrap();
    pass(&office, &twin).await;
    assert_eq!(office.read("archive/shared/file/inside.csv"), "inside");
}

#[tokio::test(flavor = "multi_thread")]
async fn names_that_no_text_has_travel_and_a_folder_of_many_files_is_renamed_and_not_sent() {
    use std::os::unix::ffi::OsStrExt;
    let (office, twin) = (office().await, twin(Way::Both));
    let odd: [&[u8]; 5] = [b"caf\xe9.csv", b"new\nline", b"{{ today }}.csv", b"back\\slash", b" blank and \"quote\""];
    for name in odd {
        let path = office.path("office/in/of 2025");
        fs::create_dir_all(&path).unwrap();
        fs::write(path.join(std::ffi::OsStr::from_bytes(name)), name).unwrap();
    }
    for number in 0..500 {
        fs::write(office.path(&format!("office/in/of 2025/{number}")), format!("{number} ")).unwrap();
    }
    pass(&office, &twin).await;
    let inode = |below: &str| {
        use std::os::unix::fs::MetadataExt;
        fs::metadata(office.path(below)).unwrap().ino()
    };
    for name in odd {
        let there = office.path("archive/shared/of 2025").join(std::ffi::OsStr::from_bytes(name));
        assert_eq!(fs::read(there).unwrap(), name);
    }
    let before = inode("archive/shared/of 2025/7");
    fs::rename(office.path("office/in/of 2025"), office.path("office/in/of last year")).unwrap();
    let renamed = pass(&office, &twin).await;
    assert_eq!((renamed.counts.renamed.far, renamed.counts.deleted.far, renamed.stop), (505, 0, None));
    assert_eq!(inode("archive/shared/of last year/7"), before, "it is the very same file");
    assert!(!office.is_there("archive/shared/of 2025") && kept(&office, "archive/shared").is_empty());
    assert_eq!(pass(&office, &twin).await.run, None);
}

#[tokio::test(flavor = "multi_thread")]
async fn what_is_asked_is_done_as_it_is_answered_and_what_is_left_out_stays() {
    let (office, twin) = (office().await, Twin { settling: Settling::Ask, ..twin(Way::Both) });
    for name in ["a", "b", "c", "d"] {
        office.put(&format!("office/in/{name}.csv"), format!("{name} of the office"));
        office.put(&format!("archive/shared/{name}.csv"), format!("{name} of the archive"));
    }
    office.put("office/in/drafts/new.csv", "a draft");
    let path = |text: &str| wetbank_core::RelPath::parse(text).unwrap();
    let compared = office.engine.compare(&twin, &Choices::default(), 10).await.unwrap();
    assert_eq!(compared.counts.asked, 4);
    assert_eq!(compared.lines[0].answers(Way::Both), [Answer::Near, Answer::Both, Answer::Far]);
    let answers = [(path("a.csv"), Answer::Near), (path("b.csv"), Answer::Far), (path("c.csv"), Answer::Both)];
    let choices = Choices { answers: answers.into(), only_answered: true, ..Choices::default() };
    let settled = office.engine.pass(&twin, Cause::Hand, &choices).await.unwrap();
    assert!(settled.run.is_some());
    assert_eq!(office.read("archive/shared/a.csv"), "a of the office");
    assert_eq!(office.read("office/in/b.csv"), "b of the archive");
    assert_eq!(kept(&office, "archive/shared"), ["a of the archive"]);
    assert_eq!(kept(&office, "office/in"), ["b of the office"]);
    let there = below(&office, "archive/shared");
    assert!(
        there.iter().any(|(name, what)| name.starts_with("c (far ") && what.as_deref() == Some("c of the archive"))
    );
    assert_eq!(office.read("archive/shared/c.csv"), "c of the office");
    assert!(!office.is_there("archive/shared/drafts/new.csv"), "only what was answered is done");
    // A folder is left out this time.
    let without = Choices { without: vec![path("drafts")], ..Choices::default() };
    pass(&office, &twin).await;
    office.put("office/in/drafts/more.csv", "one more");
    fs::remove_file(office.path("office/in/drafts/new.csv")).unwrap();
    office.engine.pass(&twin, Cause::Hand, &without).await.unwrap();
    assert!(office.is_there("archive/shared/drafts/new.csv") && !office.is_there("archive/shared/drafts/more.csv"));
    assert_eq!(office.read("archive/shared/d.csv"), "d of the archive", "nobody answered");
    pass(&office, &twin).await;
    assert!(!office.is_there("archive/shared/drafts/new.csv") && office.is_there("archive/shared/drafts/more.csv"));
}

#[tokio::test(flavor = "multi_thread")]
async fn another_folder_than_last_time_is_asked_about_and_then_met_for_the_first_time() {
    let (office, twin) = (office().await, twin(Way::Both));
    for number in 0..5 {
        office.put(&format!("office/in/{number}.csv"), number.to_string());
    }
    pass(&office, &twin).await;
    // Another disk hangs there: a file is on it, and not those of last time.
    fs::rename(office.path("archive/shared"), office.path("archive/unplugged")).unwrap();
    office.put("archive/shared/other.csv", "of another disk");
    let before = below(&office, "office/in");
    let stopped = pass(&office, &twin).await;
    assert!(matches!(stopped.stop, Some(Stop::Other { side: wetbank_core::twin::Side::Far })), "{stopped:?}");
    assert_eq!(below(&office, "office/in"), before);
    // The right one is back: all goes on as if nothing had been.
    fs::rename(office.path("archive/shared"), office.path("archive/other disk")).unwrap();
    fs::rename(office.path("archive/unplugged"), office.path("archive/shared")).unwrap();
    let again = pass(&office, &twin).await;
    assert_eq!((again.stop, again.run, again.is_first), (None, None, false));
    // It is meant: nothing of either side is lost.
    fs::rename(office.path("archive/shared"), office.path("archive/unplugged")).unwrap();
    fs::rename(office.path("archive/other disk"), office.path("archive/shared")).unwrap();
    let seen = Choices { allowed: stopped.stop, ..Choices::default() };
    let meant = office.engine.pass(&twin, Cause::Hand, &seen).await.unwrap();
    assert!(meant.is_first && meant.stop.is_none(), "{meant:?}");
    are_alike(&office);
    assert_eq!(below(&office, "office/in").len(), 6);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_journal_of_last_week_deletes_and_replaces_nothing() {
    let (office, twin) = (office().await, twin(Way::Both));
    for number in 0..8 {
        office.put(&format!("office/in/{number}.csv"), number.to_string());
    }
    pass(&office, &twin).await;
    let (data, copy) = (office.path("data"), office.path("data of last week"));
    office.engine.stop().await;
    let copied = |from: &std::path::Path, to: &std::path::Path| {
        fs::create_dir_all(to).unwrap();
        for name in ["journal.db", "vault.key"] {
            let _ = fs::copy(from.join(name), to.join(name));
        }
    };
    copied(&data, &copy);
    let office = office.started_again().await;
    // A week of work: one is deleted and made anew by somebody, another deleted for good.
    for name in ["0", "1"] {
        fs::remove_file(office.path(&format!("office/in/{name}.csv"))).unwrap();
    }
    pass(&office, &twin).await;
    office.put("archive/shared/0.csv", "made anew");
    pass(&office, &twin).await;
    office.put("office/in/2.csv", "changed");
    pass(&office, &twin).await;
    are_alike(&office);
    let before = below(&office, "office/in");
    fs::remove_file(office.path("office/in/3.csv")).unwrap();
    office.engine.stop().await;
    for name in ["journal.db-wal", "journal.db-shm"] {
        let _ = fs::remove_file(data.join(name));
    }
    copied(&copy, &data);
    let office = office.started_again().await;
    let passing = pass(&office, &twin).await;
    assert!(passing.is_first && passing.stop.is_none(), "{passing:?}");
    are_alike(&office);
    assert_eq!(below(&office, "office/in"), before, "what was deleted since is back, and nothing else changed");
    assert!(!pass(&office, &twin).await.is_first);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_that_somebody_still_writes_waits_for_a_further_pass() {
    use std::io::Write;
    let (office, twin) = (office().await, twin(Way::Both));
    office.put("office/in/whole.csv", "whole");
    fs::create_dir_all(office.path("office/in")).unwrap();
    let mut open = fs::File::create(office.path("office/in/half.csv")).unwrap();
    open.write_all(b"the first half").unwrap();
    let first = pass(&office, &twin).await;
    assert_eq!((first.counts.busy, first.counts.made.far), (1, 1));
    assert!(!office.is_there("archive/shared/half.csv"));
    open.write_all(b" and the second").unwrap();
    drop(open);
    pass(&office, &twin).await;
    assert_eq!(office.read("archive/shared/half.csv"), "the first half and the second");
    // Where the twin says how long, the time that the place tells counts.
    let twin = Twin { settle: Some(Duration::from_secs(3_600)), ..twin };
    office.put("office/in/late.csv", "late");
    assert_eq!(pass(&office, &twin).await.counts.busy, 1);
}

#[tokio::test(flavor = "multi_thread")]
async fn times_travel_with_their_files_and_the_newer_one_stays() {
    let (office, twin) = (office().await, Twin { settling: Settling::Newer, ..twin(Way::Both) });
    let modified = |below: &str| fs::metadata(office.path(below)).unwrap().modified().unwrap();
    let set = |below: &str, hours: u64| {
        let at = std::time::SystemTime::now() - Duration::from_secs(hours * 3_600);
        fs::File::options().write(true).open(office.path(below)).unwrap().set_modified(at).unwrap();
    };
    for name in ["a.csv", "b.csv"] {
        office.put(&format!("office/in/{name}"), name);
        set(&format!("office/in/{name}"), 24 * 365);
    }
    pass(&office, &twin).await;
    assert_eq!(modified("archive/shared/a.csv"), modified("office/in/a.csv"));
    assert_eq!(pass(&office, &twin).await.run, None);
    for (name, near, far) in [("a.csv", 1, 2), ("b.csv", 3, 2)] {
        office.put(&format!("office/in/{name}"), "changed here");
        office.put(&format!("archive/shared/{name}"), "changed over there");
        set(&format!("office/in/{name}"), near);
        set(&format!("archive/shared/{name}"), far);
    }
    pass(&office, &twin).await;
    are_alike(&office);
    assert_eq!(
        (office.read("office/in/a.csv"), office.read("office/in/b.csv")),
        ("changed here".to_owned(), "changed over there".to_owned())
    );
    // A file that was only touched is not sent anew.
    set("office/in/a.csv", 0);
    let touched = pass(&office, &twin).await;
    assert!(touched.run.is_some_and(|_| touched.counts.replaced.far == 1));
    assert!(kept(&office, "archive/shared").iter().all(|content| content != "changed here"));
    assert_eq!(pass(&office, &twin).await.run, None);
}

#[tokio::test(flavor = "multi_thread")]
async fn three_folders_in_a_ring_and_a_folder_of_two_twins_come_to_rest() {
    let office = office().await;
    let between = |name: &str, near: &str, far: &str| Twin {
        name: Name::new(name).unwrap(),
        folders: Pair { near: file(near), far: file(far) },
        ..twin(Way::Both)
    };
    fs::create_dir_all(office.path("harbour/ring")).unwrap();
    let ring = [
        between("one", "office:/in", "archive:/shared"),
        between("two", "archive:/shared", "harbour:/ring"),
        between("three", "harbour:/ring", "office:/in"),
    ];
    office.put("office/in/a.csv", "a");
    office.put("archive/shared/b.csv", "b");
    office.put("harbour/ring/c.csv", "c");
    office.put("office/in/map.csv", "of the office");
    office.put("harbour/ring/map.csv", "of the harbour");
    let round = async || {
        let mut runs = 0;
        for twin in &ring {
            runs += usize::from(pass(&office, twin).await.run.is_some());
        }
        runs
    };
    for _ in 0..4 {
        round().await;
    }
    assert_eq!(round().await, 0, "nothing goes round and round");
    let all = below(&office, "office/in");
    assert_eq!((all.len(), &all), (5, &below(&office, "archive/shared")));
    assert_eq!(all, below(&office, "harbour/ring"));
    // A change at one corner is at the others once; what is deleted is deleted everywhere.
    office.put("harbour/ring/a.csv", "a, changed");
    fs::remove_file(office.path("archive/shared/b.csv")).unwrap();
    for _ in 0..3 {
        round().await;
    }
    assert_eq!(round().await, 0);
    for side in ["office/in", "archive/shared", "harbour/ring"] {
        let names: Vec<_> = below(&office, side).into_iter().map(|(name, _)| name).collect();
        assert_eq!((names.len(), office.read(&format!("{side}/a.csv")).as_str()), (4, "a, changed"), "{names:?}");
        assert!(!office.is_there(&format!("{side}/b.csv")));
    }
}
