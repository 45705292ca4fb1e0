//! The machine's clock is put forward and back while the service runs.

use std::{fs, path::PathBuf, time::Duration};

use crate::support::{Office, wait_for};

/// The clock of one service, put as a person or a time server puts it.
struct Clock(PathBuf);

impl Clock {
    fn put(&self, time: &str) {
        let aside = self.0.with_extension("new");
        fs::write(&aside, format!("@{time}\n")).unwrap();
        fs::rename(aside, &self.0).unwrap();
    }
}

/// What makes a program see another clock.
fn library() -> String {
    let folders = fs::read_dir("/usr/lib").unwrap().map(|entry| entry.unwrap().path());
    let mut libraries = folders.map(|folder| folder.join("faketime/libfaketimeMT.so.1"));
    libraries.find(|library| library.exists()).expect("libfaketime is installed").display().to_string()
}

fn runs(office: &Office) -> usize {
    office.json(&["run", "list", "--rule", "daily"])["runs"].as_array().unwrap().len()
}

fn wait_runs(office: &Office, count: usize) {
    wait_for(&format!("there are {count} runs"), || (runs(office) == count).then_some(()));
}

#[test]
fn a_clock_that_is_put_forward_or_back_makes_no_firing_twice_and_loses_none() {
    let folder = tempfile::TempDir::new().unwrap();
    let clock = Clock(folder.path().join("clock"));
    clock.put("2026-03-14 05:59:55");
    let office = Office::open_with(&[
        ("LD_PRELOAD", &library()),
        ("FAKETIME_TIMESTAMP_FILE", clock.0.to_str().unwrap()),
        ("FAKETIME_NO_CACHE", "1"),
        ("FAKETIME_DONT_FAKE_MONOTONIC", "1"),
        ("TZ", "UTC"),
    ]);
    office.book(
        "[place.office]\nkind = \"folder\"\nroot = \"@/office\"\n[rule.daily]\nstarts = { schedule = { at = \"06:00\" } }\n\
         [[rule.daily.branch]]\nsteps = [ { note = { text = \"{{ now | date('%H:%M') }}\" } } ]\n",
    );
    assert_eq!(runs(&office), 0);
    // The time comes by itself.
    wait_runs(&office, 1);
    // Put back by two hours, as when a wrong clock is corrected: 06:00 comes again and is fired.
    clock.put("2026-03-14 04:00:00");
    std::thread::sleep(Duration::from_secs(7));
    assert_eq!(runs(&office), 1, "04:00 is not 06:00");
    clock.put("2026-03-14 05:59:58");
    wait_runs(&office, 2);
    // Back by a second over a firing, as time servers do: it was fired.
    clock.put("2026-03-14 05:59:59");
    std::thread::sleep(Duration::from_secs(4));
    assert_eq!(runs(&office), 2);
    // Forward over three days: what was missed is made up for once.
    clock.put("2026-03-17 12:00:00");
    wait_runs(&office, 3);
    std::thread::sleep(Duration::from_secs(2));
    assert_eq!(runs(&office), 3);
    // And from then on it goes on as ever.
    clock.put("2026-03-18 05:59:58");
    wait_runs(&office, 4);
    assert!(office.holds().is_empty());
}
