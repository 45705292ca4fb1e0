//! Runs the tests and tells which took longest, so that nobody has to look for them.

use std::{
    io::{BufRead, BufReader},
    process::Stdio,
    time::Duration,
};

use anyhow::{Context, Result, bail};

use crate::{lints, steps::say};

/// So many are told.
const TOLD: usize = 10;

/// Cargo's test runner over everything but the examples in documentation.
///
/// The runner tells how long each test took only to those who ask for what is not stable yet; the programs are
/// compiled as always.
pub fn tests(cargo: &str) -> Result<()> {
    // Most tests wait for a service or a server most of the time.
    let words = ["test", "--workspace", "--all-targets", "--", "--test-threads", "4"];
    let asking = ["-Z", "unstable-options", "--report-time"];
    say(&format!("\n$ cargo {}", words.join(" ")));
    let runner = "target.'cfg(all())'.runner = ['env', 'RUSTC_BOOTSTRAP=1']";
    let mut command = lints::command(cargo, &["--config", runner])?;
    let mut running = command.args(words).args(asking).stdout(Stdio::piped()).spawn().context("cargo")?;
    let mut times = Vec::new();
    for line in BufReader::new(running.stdout.take().context("a pipe")?).lines() {
        let line = line?;
        times.extend(time_of(&line));
        say(&line);
    }
    let status = running.wait()?;
    times.sort();
    say(&format!("\nthe {TOLD} slowest of {} tests:", times.len()));
    for (time, test) in times.iter().rev().take(TOLD) {
        say(&format!("  {:6.1} s  {test}", time.as_secs_f64()));
    }
    if !status.success() {
        bail!("tests failed ({status})");
    }
    Ok(())
}

/// The time that a line like `test name ... ok <1.234s>` tells.
fn time_of(line: &str) -> Option<(Duration, String)> {
    let (test, end) = line.strip_prefix("test ")?.split_once(" ... ")?;
    let seconds: f64 = end.split_once('<')?.1.strip_suffix("s>")?.parse().ok()?;
    Some((Duration::try_from_secs_f64(seconds).ok()?, test.to_owned()))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn times_are_read_where_they_are_told() {
        let (time, test) = time_of("test kill::of_a_share ... ok <12.5s>").unwrap();
        assert_eq!((time, test.as_str()), (Duration::from_millis(12_500), "kill::of_a_share"));
        assert!(time_of("test kill::of_a_share ... ignored").is_none());
        assert!(time_of("running 5 tests").is_none());
    }
}
