//! The project's own commands: set-up, build, test, demo, screenshots, bench.
//!
//! `cargo xtask test` and `cargo xtask demo` need nothing but Rust and Node.js on a Debian
//! machine: what else is missing they install.

mod bench;
mod browser;
mod lints;
mod screenshots;
mod setup;
mod slowest;
mod steps;

use anyhow::{Result, bail};

const HELP: &str = "cargo xtask COMMAND

  setup        install what is missing: system packages, npm packages
  build        build the console and the release binary with the console in it
  test         check format, lints, types; run every test, real servers and browser included
  demo         build everything and open the demo; further words go to `wetbank demo`
  screenshots  take the pictures of docs/screenshots anew from the demo; --built with the binary that is there
  bench        measure the figures we promise and print them as a table
  types        write the API's description and the console's types anew
  queries      check the journal's queries anew and write .sqlx";

fn main() -> Result<()> {
    let mut words = std::env::args().skip(1);
    let command = words.next().unwrap_or_default();
    let rest: Vec<String> = words.collect();
    std::env::set_current_dir(steps::root())?;
    match command.as_str() {
        "setup" => setup::everything(),
        "build" => steps::build(),
        "test" => steps::test(),
        "demo" => steps::demo(&rest),
        "screenshots" => screenshots::take(&rest),
        "bench" => bench::run_all(&rest),
        "types" => steps::types(),
        "queries" => steps::queries(),
        "" | "help" | "--help" => {
            steps::say(HELP);
            Ok(())
        }
        other => bail!("there is no command {other:?}\n\n{HELP}"),
    }
}
