//! The service is ended before one of the calls with which it changes the disk, for each file before
//! another of them.

use std::panic::{AssertUnwindSafe, catch_unwind};

use serde_json::Value;

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

/// Sends files their way, each cut off once or twice, at so many points spread evenly; at all that there
/// are if `WETBANK_CUTS` says a large number. Answers how many files that were.
pub fn cut_off(way: &mut impl Way, cuts: usize) -> usize {
    way.office().kill();
    way.put(0);
    let whole = way.office().start_cut(usize::MAX);
    wait_for("the first file is through, uncut", || way.is_through(1).then_some(()));
    let calls = whole.end().calls;
    assert!(calls > 50, "{calls}");
    let cuts = std::env::var("WETBANK_CUTS").map_or(cuts, |number| number.parse().unwrap()).min(calls);
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
            let service = way.office().start_cut(at);
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
