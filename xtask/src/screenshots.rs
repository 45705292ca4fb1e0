//! The pictures of `docs/screenshots`, taken from the demo.

use anyhow::Result;

use crate::{setup, steps};

/// Takes them all anew.
pub fn take() -> Result<()> {
    setup::packages()?;
    steps::build()?;
    steps::run("target/release/wetbank", &["--version"])
}
