//! The service is ended before one of the calls with which it changes the disk, or its journal refuses one of
//! its commits, for each file another of them.

use std::{
    panic::{AssertUnwindSafe, catch_unwind},
    time::Duration,
};

use serde_json::Value;
use wetbank_testbed::{Plan, Refusing};

use super::{Office, wait_for};

/// An office in which files go a way.
pub trait Way {
    fn office(&mut self) -> &mut Office;

    /// Has a file begin the way.
    fn put(&self, number: usize);

    /// Whether so many files are at the end of it, with all that they started.
    fn is_through(&self, files: usize) -> bool;
}

pub fn wait_through(way: &mut impl Way, files: usize) {
    wait_for(&format!("{files} files are through"), || {
        assert_eq!(way.office().holds(), Vec::<Value>::new());
        way.is_through(files).then_some(())
    });
    way.office().wait_idle();
    assert_eq!(way.office().holds(), Vec::<Value>::new());
}

/// So many points of a way, or all that there are if `WETBANK_CUTS` says a large number.
fn asked(points: usize) -> usize {
    std::env::var("WETBANK_CUTS").map_or(points, |number| number.parse().unwrap())
}

/// Sends files their way; for each the journal refuses another of the commits that are made until then, spread
/// evenly over all. Answers how many files that were.
pub fn refuse_commits(way: &mut impl Way, how: Refusing, points: usize) -> usize {
    const JOURNAL: &str = "journal.db-wal";
    let refusing = |at| Plan::Refuse { file: JOURNAL, at, how };
    way.office().kill();
    way.put(0);
    let whole = way.office().start_watched(refusing(usize::MAX));
    wait_for("the first file is through, nothing refused", || way.is_through(1).then_some(()));
    let commits = whole.end().syncs;
    assert!(commits > 10, "{commits}");
    let points = asked(points).min(commits);
    let mut files = 1;
    for point in 0..points {
        way.put(files);
        files += 1;
        let at = 1 + point * commits / points;
        let service = way.office().start_watched(refusing(at));
        wait_for("a commit is refused or all is done", || {
            (service.refused() > 0 || service.is_over() || way.is_through(files)).then_some(())
        });
        if how == Refusing::UntilEnd {
            // Whatever is tried again meanwhile is refused as well.
            std::thread::sleep(Duration::from_millis(700));
        } else {
            let through = catch_unwind(AssertUnwindSafe(|| {
                wait_for("it is through all the same", || (service.is_over() || way.is_through(files)).then_some(()));
            }));
            assert!(through.is_ok(), "file {}, refused at commit {at} of {commits}", files - 1);
        }
        service.end();
        way.office().start();
        let through = catch_unwind(AssertUnwindSafe(|| wait_through(way, files)));
        assert!(through.is_ok(), "file {}, refused at commit {at} of {commits}", files - 1);
        way.office().kill();
    }
    way.office().start();
    files
}

/// Sends files their way, each cut off once or twice, at so many points spread evenly; at all that there
/// are if `WETBANK_CUTS` says a large number. Answers how many files that were.
pub fn cut_off(way: &mut impl Way, cuts: usize) -> usize {
    way.office().kill();
    way.put(0);
    let whole = way.office().start_watched(Plan::End(usize::MAX));
    wait_for("the first file is through, uncut", || way.is_through(1).then_some(()));
    let calls = whole.end().calls;
    assert!(calls > 50, "{calls}");
    let cuts = asked(cuts).min(calls);
    let mut files = 1;
    for cut in 0..cuts {
        way.put(files);
        files += 1;
        let at = 1 + cut * calls / cuts;
        let mut told = Vec::new();
        // Every third time the start after it is cut off as well.
        for at in std::iter::once(at).chain((cut % 3 == 2).then_some(1 + at % 40)) {
            if way.is_through(files) {
                break;
            }
            let service = way.office().start_watched(Plan::End(at));
            wait_for("it is cut off or done", || (service.is_over() || way.is_through(files)).then_some(()));
            told.push((at, service.end().cut));
        }
        way.office().start();
        let through = catch_unwind(AssertUnwindSafe(|| wait_through(way, files)));
        assert!(through.is_ok(), "file {}, cut off at {told:?} of {calls}", files - 1);
        way.office().kill();
    }
    way.office().start();
    files
}
