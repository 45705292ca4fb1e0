//! The figures we promise, measured.

use anyhow::Result;

use crate::{
    setup,
    steps::{build, run},
};

/// Builds the release binary and measures it against the system's own tools.
pub fn run_all(words: &[String]) -> Result<()> {
    setup::packages()?;
    build()?;
    let mut all = vec!["run", "--release", "--package", "wetbank-bench", "--"];
    all.extend(words.iter().map(String::as_str));
    run("cargo", &all)
}
