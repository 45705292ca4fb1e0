//! The lints, in the same pass as the build: `cargo clippy` beside it would compile everything twice.

use std::{path::Path, process::Command};

use anyhow::Result;

use crate::steps;

/// Lints are errors. The driver takes its own arguments with this between them.
const LINTS: &str = "-D__CLIPPY_HACKERY__warnings__CLIPPY_HACKERY__";

/// A cargo command whose compiler also lints what is ours, as `cargo clippy -- -D warnings` does.
pub fn command(cargo: &str, words: &[&str]) -> Result<Command> {
    let sysroot = steps::silent("rustc", &["--print", "sysroot"])?;
    let driver = Path::new(sysroot.trim()).join("bin/clippy-driver");
    let mut command = Command::new(cargo);
    command.args(words).env("RUSTC_WORKSPACE_WRAPPER", driver).env("CLIPPY_ARGS", LINTS);
    Ok(command)
}

/// Runs such a command and shows it.
pub fn while_building(cargo: &str, words: &[&str]) -> Result<()> {
    steps::run_command(&mut command(cargo, words)?, &format!("cargo {}, with all lints as errors", words.join(" ")))
}
