//! The machine's clock is put forward and back while the service runs.

use crate::support::{Office, clock::Clock, wait_for};

fn runs(office: &Office, rule: &str) -> Vec<i64> {
    let runs = office.json(&["run", "list", "--rule", rule])["runs"].as_array().unwrap().clone();
    runs.iter().map(|run| run["id"].as_i64().unwrap()).collect()
}

fn wait_daily(office: &Office, count: usize) {
    wait_for(&format!("there are {count} runs"), || (runs(office, "daily").len() == count).then_some(()));
}

/// Waits until the scheduler has looked at the clock more than once: what fires each second fired twice.
fn looked(office: &Office) {
    let before = runs(office, "tick").first().copied().unwrap_or_default();
    wait_for("what fires each second", || {
        (runs(office, "tick").iter().filter(|id| **id > before).count() >= 2).then_some(())
    });
}

#[test]
fn a_clock_that_is_put_forward_or_back_makes_no_firing_twice_and_loses_none() {
    let clock = Clock::at("2026-03-14 05:59:55");
    let office = Office::open_with(&clock.environment());
    office.book(
        "[place.office]\nkind = \"folder\"\nroot = \"@/office\"\n\
         [rule.daily]\nstarts = { schedule = { at = \"06:00\" } }\n\
         [[rule.daily.branch]]\nsteps = [ { note = { text = \"{{ now | date('%H:%M') }}\" } } ]\n\
         [rule.tick]\nstarts = { schedule = { every = \"1s\" } }\n\
         [[rule.tick.branch]]\nsteps = [ { note = { text = \"tick\" } } ]\n",
    );
    assert_eq!(runs(&office, "daily").len(), 0);
    // The time comes by itself.
    wait_daily(&office, 1);
    // Put back by two hours, as when a wrong clock is corrected: 06:00 comes again and is fired.
    clock.put("2026-03-14 04:00:00");
    looked(&office);
    assert_eq!(runs(&office, "daily").len(), 1, "04:00 is not 06:00");
    clock.put("2026-03-14 05:59:58");
    wait_daily(&office, 2);
    // Back by a second over a firing, as time servers do: it was fired.
    clock.put("2026-03-14 05:59:59");
    looked(&office);
    assert_eq!(runs(&office, "daily").len(), 2);
    // Forward over three days: what was missed is made up for once.
    clock.put("2026-03-17 12:00:00");
    wait_daily(&office, 3);
    looked(&office);
    assert_eq!(runs(&office, "daily").len(), 3);
    // And from then on it goes on as ever.
    clock.put("2026-03-18 05:59:58");
    wait_daily(&office, 4);
    assert!(office.holds().is_empty());
}
