//! What a newcomer waits for, and what the project weighs.

use std::{fs, path::Path, process::Command};

use anyhow::{Result, bail, ensure};

use super::{BINARY, Figure};
use crate::steps::{run, say};

pub(crate) fn light(figures: &mut Vec<Figure>) -> Result<()> {
    binary(figures)?;
    tests(figures)?;
    demo(figures)
}

fn binary(figures: &mut Vec<Figure>) -> Result<()> {
    let megabytes = fs::metadata(BINARY)?.len() as f64 / 1e6;
    figures.push(Figure {
        what: "the binary, with the console in it".to_owned(),
        ours: format!("{megabytes:.1} MB"),
        theirs: "–".to_owned(),
        ratio: "–".to_owned(),
        promised: "under 35 MB",
        kept: megabytes < 35.0,
    });
    Ok(())
}

/// Lines of Rust: all of them, and those of tests.
#[derive(Default)]
struct Lines {
    all: usize,
    tests: usize,
}

/// Counts the lines below a folder. Tests are what lies in a folder or file of tests, in the testbed, and in a module of
/// tests at the end of a file.
fn count(folder: &Path, lines: &mut Lines) -> Result<()> {
    for entry in fs::read_dir(folder)? {
        let path = entry?.path();
        if path.is_dir() {
            count(&path, lines)?;
            continue;
        }
        if path.extension().is_none_or(|extension| extension != "rs") {
            continue;
        }
        let text = fs::read_to_string(&path)?;
        let written = text.lines().count();
        let is_test = |part: &std::ffi::OsStr| part == "tests" || part == "tests.rs" || part == "wetbank-testbed";
        lines.all += written;
        lines.tests += if path.iter().any(is_test) {
            written
        } else {
            written - text.find("#[cfg(test)]\nmod ").map_or(written, |at| text[..at].lines().count())
        };
    }
    Ok(())
}

fn tests(figures: &mut Vec<Figure>) -> Result<()> {
    let mut lines = Lines::default();
    for folder in ["crates", "xtask/src"] {
        count(Path::new(folder), &mut lines)?;
    }
    let share = lines.tests as f64 * 100.0 / lines.all as f64;
    figures.push(Figure {
        what: "tests, of the lines of Rust".to_owned(),
        ours: format!("{share:.1} %"),
        theirs: format!("{} of {}", lines.tests, lines.all),
        ratio: "–".to_owned(),
        promised: "at least 27 %",
        kept: share >= 27.0,
    });
    Ok(())
}

/// The demo as somebody has it who just cloned the project: everything is built, and the whole example checked.
fn demo(figures: &mut Vec<Figure>) -> Result<()> {
    let folder = tempfile::tempdir()?;
    let clone = folder.path().join("wetbank");
    run("git", &["clone", "--quiet", ".", &clone.display().to_string()])?;
    say("building the demo of a clean clone");
    let timed = "TIMEFORMAT='%U %S %R'; time cargo xtask demo --check >/dev/null 2>log";
    let output =
        Command::new("bash").args(["-c", timed]).current_dir(&clone).env_remove("CARGO_TARGET_DIR").output()?;
    let told = String::from_utf8_lossy(&output.stderr).into_owned();
    let last = || fs::read_to_string(clone.join("log")).unwrap_or_default();
    ensure!(output.status.success(), "the demo of a clean clone failed: {}", last());
    let seconds: Vec<f64> = told.split_whitespace().filter_map(|word| word.parse().ok()).collect();
    let [user, system, real] = seconds[..] else { bail!("bash told no times: {told}") };
    let minutes = (user + system) / 60.0;
    figures.push(Figure {
        what: "the demo of a clean clone, built and checked".to_owned(),
        ours: format!("{minutes:.1} min of processor"),
        theirs: format!("{:.1} min by the clock", real / 60.0),
        ratio: "–".to_owned(),
        promised: "at most 20 min of processor",
        kept: minutes <= 20.0,
    });
    Ok(())
}
