//! What both sides of a twin had, and its passes.

use jiff::Timestamp;
use tempfile::TempDir;
use wetbank_core::{
    Cause, FilePath, Fingerprint, ItemState, Name, Position, RelPath,
    twin::{Known, Pair, State, Was},
};
use wetbank_journal::{Journal, PassRecord, PlannedItem, PlannedRun, Seal, TwinNote};

fn path(text: &str) -> RelPath {
    RelPath::parse(text).unwrap()
}

fn name(text: &str) -> Name {
    Name::new(text).unwrap()
}

fn item(at: &str, branch: usize) -> PlannedItem {
    PlannedItem {
        file: FilePath::parse(at).unwrap(),
        fingerprint: "1.2".to_owned(),
        size: 1,
        branch,
        hand: "{}".to_owned(),
    }
}

fn was(size: u64) -> Was {
    let print =
        Fingerprint { size, modified: 1_700_000_000_123_456_789, inode: Some(7), tag: Some("\"e\u{fc}".to_owned()) };
    let far = State { sum: Some([7; 32]), ..State::of(&Fingerprint { inode: None, ..print.clone() }) };
    Was::File(Pair { near: State::of(&print), far })
}

fn note(at: &str, far: &[u8], was: Was) -> TwinNote {
    let at = path(at);
    let known = Known { name: Pair { near: at.name().to_vec(), far: far.to_vec() }, was };
    TwinNote::Known { folder: at.parent(), known: Box::new(known) }
}

async fn known(journal: &Journal, folder: &str) -> Vec<Known> {
    journal.twin_known(&name("volunteers"), &path(folder)).await.unwrap()
}

#[tokio::test]
async fn what_is_known_of_a_name_is_found_again_whatever_it_is_called() {
    let folder = TempDir::new().unwrap();
    let (journal, twin) = (Journal::open(folder.path()).await.unwrap(), name("volunteers"));
    let notes = vec![
        note("a\\xff/caf\u{e9}:1", "cafe\u{301}_1".as_bytes(), was(5)),
        note("a\\xff", b"a\xff", Was::Folder),
        note("asked.csv", b"asked.csv", Was::Asked),
    ];
    journal.note_twin(&twin, notes.clone()).await.unwrap();
    drop(journal);
    let journal = Journal::open(folder.path()).await.unwrap();
    let found = known(&journal, "a\\xff").await;
    assert_eq!((&found[0].was, &found[0].name.far), (&was(5), &"cafe\u{301}_1".as_bytes().to_vec()));
    let mut top: Vec<_> = known(&journal, "").await.into_iter().map(|one| one.was).collect();
    top.sort_by_key(|was| *was == Was::Asked);
    assert_eq!(top, [Was::Folder, Was::Asked]);
    assert_eq!(journal.twin_files(&twin).await.unwrap(), 1);
    // Another twin knows nothing of it.
    assert!(journal.twin_known(&name("other"), &RelPath::root()).await.unwrap().is_empty());
    // What is noted anew takes the place of what was known.
    journal.note_twin(&twin, vec![note("asked.csv", b"asked.csv", was(9))]).await.unwrap();
    assert_eq!(journal.twin_files(&twin).await.unwrap(), 2);
}

#[tokio::test]
async fn what_is_gone_is_gone_with_all_below_it_and_with_nothing_beside_it() {
    let folder = TempDir::new().unwrap();
    let (journal, twin) = (Journal::open(folder.path()).await.unwrap(), name("volunteers"));
    let names = ["d", "d/a", "d/e", "d/e/f", "d!", "d!/a", "d0", "d0/a", "dd", "dd/a"];
    let notes = names.map(|at| {
        let is_file = at.ends_with('a') || at.ends_with('f');
        note(at, path(at).name(), if is_file { was(1) } else { Was::Folder })
    });
    journal.note_twin(&twin, notes.into()).await.unwrap();
    assert_eq!(journal.twin_files(&twin).await.unwrap(), 5);
    // In the order told: what is noted after it went is there.
    let again = note("d/new", b"new", was(2));
    journal.note_twin(&twin, vec![TwinNote::Gone(path("d")), again]).await.unwrap();
    assert_eq!(known(&journal, "d").await.len(), 1);
    assert!(known(&journal, "d/e").await.is_empty());
    let top: Vec<_> = known(&journal, "").await.into_iter().map(|one| one.name.near).collect();
    assert_eq!(top, [b"d!".to_vec(), b"d0".to_vec(), b"dd".to_vec()]);
    assert_eq!(journal.twin_files(&twin).await.unwrap(), 4);
}

#[tokio::test]
async fn sides_have_met_once_a_pass_came_to_its_end() {
    let folder = TempDir::new().unwrap();
    let (journal, twin) = (Journal::open(folder.path()).await.unwrap(), name("volunteers"));
    let at = Timestamp::from_second(1_800_000_000).unwrap();
    let ends = |id: i64, why: Option<&str>| PassRecord {
        id,
        began: at,
        ended: Some(at),
        run: Some(3),
        plan: Some("{}".to_owned()),
        why: why.map(str::to_owned),
    };
    let first = journal.begin_pass(&twin, Vec::new(), at).await.unwrap();
    assert_eq!(journal.passes(&twin, 1).await.unwrap()[0].ended, None, "it goes on");
    journal.set_pass(ends(first, Some("no file is on the near side any more"))).await.unwrap();
    let second = journal.begin_pass(&twin, Vec::new(), at).await.unwrap();
    journal.set_pass(ends(second, None)).await.unwrap();
    assert!(journal.passes(&name("other"), 1).await.unwrap().is_empty());
    let passes = journal.passes(&twin, 10).await.unwrap();
    assert_eq!(passes, [ends(second, None), ends(first, Some("no file is on the near side any more"))]);
    // One more that came to the same is the same line.
    let later = Timestamp::from_second(1_800_000_060).unwrap();
    journal.pass_again(second, later, None).await.unwrap();
    let last = journal.passes(&twin, 10).await.unwrap();
    assert_eq!((last.len(), last[0].began, last[0].ended), (2, at, Some(later)));
}

#[tokio::test]
async fn planned_items_are_one_run_and_know_what_is_to_be_done() {
    let folder = TempDir::new().unwrap();
    let journal = Journal::open(folder.path()).await.unwrap();
    let (rule, at) = (name("twin-volunteers"), Timestamp::from_second(1_800_000_000).unwrap());
    let of = (&rule, 1, Cause::Schedule);
    let first =
        journal.take_planned(of, PlannedRun::New, vec![item("office:/a", 0), item("office:/b", 4)], at).await.unwrap();
    let run = first[0].run;
    let more = journal.take_planned(of, PlannedRun::Known(run), vec![item("office:/d", 8)], at).await.unwrap();
    let open = journal.open_items_of(run, 0, 10).await.unwrap();
    assert_eq!(open, [first, more].concat());
    let ways: Vec<_> = open.iter().map(|work| (work.branch, work.position, work.state)).collect();
    assert_eq!(ways, [0, 4, 8].map(|branch| (Some(branch), Position::Step(0), ItemState::Queued)));
}

#[tokio::test]
async fn a_seal_of_a_folder_is_broken_by_whatever_is_noted_there() {
    let folder = TempDir::new().unwrap();
    let (journal, twin) = (Journal::open(folder.path()).await.unwrap(), name("volunteers"));
    let path = |text: &str| RelPath::parse(text).unwrap();
    let seal = Seal { state: vec![7; 40], files: Pair { near: 3, far: 4 } };
    let folders = ["", "in", "in/2026", "other"].map(path);
    let all = folders.iter().map(|folder| (folder.clone(), seal.clone())).collect();
    journal.seal_twin(&twin, all).await.unwrap();
    let sealed = async || {
        let mut sealed = Vec::new();
        for folder in &folders {
            sealed.push(journal.twin_seal(&twin, folder).await.unwrap() == Some(seal.clone()));
        }
        sealed
    };
    assert_eq!(sealed().await, [true, true, true, true]);
    let known = Known { name: Pair::same(b"x".to_vec()), was: Was::Folder };
    let note = TwinNote::Known { folder: path("other"), known: Box::new(known) };
    journal.note_twin(&twin, vec![note]).await.unwrap();
    assert_eq!(sealed().await, [true, true, true, false]);
    // With a folder all below it is gone, and the one that it was in is another.
    journal.note_twin(&twin, vec![TwinNote::Gone(path("in"))]).await.unwrap();
    assert_eq!(sealed().await, [false, false, false, false]);
}

#[tokio::test]
async fn of_whom_passes_are_still_to_be_told_is_known_until_their_mail_is_queued() {
    let folder = TempDir::new().unwrap();
    let journal = Journal::open(folder.path()).await.unwrap();
    let (twin, rule, at) = (name("charts"), name("twin-charts"), Timestamp::from_second(1_700_000_000).unwrap());
    let version = journal.keep_text("twin-charts", "text", "twin", at).await.unwrap();
    let of = (&rule, version, Cause::Hand);
    let tell = || vec!["a".to_owned(), "b".to_owned()];
    let first = journal.begin_pass(&twin, tell(), at).await.unwrap();
    let works = journal.take_planned(of, PlannedRun::OfPass(first), vec![item("office:/a", 0)], at).await.unwrap();
    // A pass is known by its run from the first item on, and what comes after does not take that away.
    let unset = PassRecord { id: first, began: at, ended: None, run: None, plan: None, why: None };
    journal.set_pass(unset).await.unwrap();
    let second = journal.begin_pass(&twin, tell(), at).await.unwrap();
    let told = journal.untold(&twin).await.unwrap();
    let short = |told: &[wetbank_journal::Untold]| -> Vec<_> {
        told.iter().map(|one| (one.notice.clone(), one.pass, one.run)).collect()
    };
    let of_both = |notice: &str| [(notice.to_owned(), first, Some(works[0].run)), (notice.to_owned(), second, None)];
    assert_eq!(short(&told), [of_both("a"), of_both("b")].concat());
    assert_eq!(journal.twins_untold().await.unwrap(), ["charts"]);
    let until = (&twin, "a".to_owned(), first);
    let queued = journal.take_notice(of, Some(item("office:/", 15)), until, at).await.unwrap();
    assert_eq!((queued.len(), queued[0].branch), (1, Some(15)));
    let none = journal.take_notice(of, None, (&twin, "b".to_owned(), second), at).await.unwrap();
    assert!(none.is_empty());
    assert_eq!(short(&journal.untold(&twin).await.unwrap()), [("a".to_owned(), second, None)]);
    assert_eq!(journal.deeds(works[0].run, 0, 9).await.unwrap(), (Vec::new(), None), "nothing is done yet");
}
