//! The commands, step by step; each step says what it runs.

use std::{
    io::Write,
    path::{Path, PathBuf},
    process::{Command, Stdio},
    time::{Instant, SystemTime},
};

use anyhow::{Context, Result, bail};

use crate::{lints, setup, slowest};

const DESCRIPTION: &str = "console/src/shared/api/openapi.json";

/// The project's root: of the tree that Cargo was started in, which can share what is built with another one.
pub fn root() -> PathBuf {
    let package = std::env::var_os("CARGO_MANIFEST_DIR").unwrap_or_else(|| env!("CARGO_MANIFEST_DIR").into());
    Path::new(&package).parent().map(Path::to_owned).unwrap_or_default()
}

/// A line for the person who started this.
pub fn say(text: &str) {
    let _ = writeln!(std::io::stdout(), "{text}");
}

fn cargo() -> String {
    std::env::var("CARGO").unwrap_or_else(|_| "cargo".to_owned())
}

/// Runs a command and shows it and what it prints.
pub fn run(program: &str, words: &[&str]) -> Result<()> {
    let name = Path::new(program).file_name().map(|n| n.to_string_lossy().into_owned()).unwrap_or_default();
    run_command(Command::new(program).args(words), &format!("{name} {}", words.join(" ")))
}

/// Runs a command and shows it in these words, and what it prints.
pub fn run_command(command: &mut Command, shown: &str) -> Result<()> {
    say(&format!("\n$ {shown}"));
    let began = Instant::now();
    let status = command.status().with_context(|| format!("{shown} cannot be started"))?;
    if !status.success() {
        bail!("{shown} failed ({status})");
    }
    say(&format!("  {:.1} s", began.elapsed().as_secs_f64()));
    Ok(())
}

/// Runs a command for what it prints.
pub fn silent(program: &str, words: &[&str]) -> Result<String> {
    let output = Command::new(program)
        .args(words)
        .stderr(Stdio::inherit())
        .output()
        .with_context(|| format!("{program} cannot be started"))?;
    if !output.status.success() {
        bail!("{program} {} failed ({})", words.join(" "), output.status);
    }
    Ok(String::from_utf8_lossy(&output.stdout).into_owned())
}

/// When the newest of these files was changed, and of all below them.
fn newest(path: &Path) -> Result<SystemTime> {
    let metadata = std::fs::metadata(path)?;
    let mut latest = metadata.modified()?;
    if metadata.is_dir() {
        for entry in std::fs::read_dir(path)? {
            latest = latest.max(newest(&entry?.path())?);
        }
    }
    Ok(latest)
}

fn build_console() -> Result<()> {
    let sources =
        ["src", "public", "index.html", "package.json", "package-lock.json", "tsconfig.json", "vite.config.ts"];
    let mut changed = SystemTime::UNIX_EPOCH;
    for source in sources {
        changed = changed.max(newest(&Path::new("console").join(source))?);
    }
    // Building it anew would make the binary be built anew.
    if newest(Path::new("console/dist/index.html")).is_ok_and(|built| built > changed) {
        return Ok(());
    }
    run("npm", &["--prefix", "console", "run", "--silent", "build"])
}

/// The release binary with the console in it.
pub fn build() -> Result<()> {
    setup::console()?;
    build_console()?;
    run(&cargo(), &["build", "--release", "--package", "wetbank"])?;
    say("built target/release/wetbank");
    Ok(())
}

/// Everything that must hold before a change is kept.
pub fn test() -> Result<()> {
    setup::everything()?;
    let cargo = cargo();
    run(&cargo, &["fmt", "--all", "--check"])?;
    build_console()?;
    run("npm", &["--prefix", "console", "run", "--silent", "check"])?;
    run("npm", &["--prefix", "console", "run", "--silent", "lint"])?;
    lints::while_building(&cargo, &["test", "--workspace", "--all-targets", "--no-run"])?;
    description_is_fresh()?;
    slowest::tests(&cargo)?;
    // With the same lints, or everything would be compiled once more without them.
    lints::while_building(&cargo, &["test", "--workspace", "--doc"])
}

/// What the demo takes; it is told without building anything.
const DEMO: &str = "cargo xtask demo [WORDS]

  Installs what is missing, builds the console and a binary that is quick to build, and opens the demo: sample files, the
  servers they go to, all on this machine, and a link to the console.

  --check             run the whole example by itself, check what became of every file, and end
  --still             give the sample files all at once and no more after them
  --folder DIR        where to keep the demo's files; a new folder for temporary files if left out
  --listen ADDRESS    where to listen";

/// The demo, from nothing to an address to open.
pub fn demo(words: &[String]) -> Result<()> {
    if words.iter().any(|word| word == "--help" || word == "-h") {
        say(DEMO);
        return Ok(());
    }
    setup::packages()?;
    setup::console()?;
    build_console()?;
    run(&cargo(), &["build", "--profile", "demo", "--package", "wetbank"])?;
    let mut all = vec!["demo"];
    all.extend(words.iter().map(String::as_str));
    run("target/demo/wetbank", &all)
}

/// The API's description, as the program that was built last tells it.
fn description() -> Result<String> {
    // Not `cargo run`: for one package alone cargo would build half of everything anew.
    let built = std::env::var_os("CARGO_TARGET_DIR").map_or_else(|| root().join("target"), PathBuf::from);
    silent(&built.join("debug/wetbank").display().to_string(), &["openapi"])
}

/// Writes the API's description; the console's types are made from it whenever the console is built.
pub fn types() -> Result<()> {
    setup::console()?;
    run(&cargo(), &["build", "--workspace"])?;
    std::fs::write(DESCRIPTION, description()?)?;
    run("npm", &["--prefix", "console", "run", "--silent", "types"])
}

fn description_is_fresh() -> Result<()> {
    if std::fs::read_to_string(DESCRIPTION)? != description()? {
        bail!("{DESCRIPTION} is older than the API: run cargo xtask types");
    }
    Ok(())
}

/// Checks the journal's queries against its migrations and writes what `sqlx` needs to build
/// without a database.
pub fn queries() -> Result<()> {
    let database = std::env::temp_dir().join(format!("wetbank-queries-{}.db", std::process::id()));
    let make = format!(
        // The system's SQLite may be older than ours; what queries ask for is the same without that option.
        "import sqlite3, glob\nc = sqlite3.connect({:?})\nfor f in sorted(glob.glob('crates/wetbank-journal/migrations/*.sql')): c.executescript(open(f).read().replace('contentless_delete = 1, ', ''))",
        database.display().to_string()
    );
    silent("python3", &["-c", &make])?;
    let folder = root().join(".sqlx");
    let _ = std::fs::remove_dir_all(&folder);
    std::fs::create_dir_all(&folder)?;
    // Only a changed source file makes the macros run again.
    silent("touch", &["crates/wetbank-journal/src/lib.rs"])?;
    let status = Command::new(cargo())
        .args(["build", "--workspace"])
        .env("DATABASE_URL", format!("sqlite:{}", database.display()))
        .env("SQLX_OFFLINE_DIR", &folder)
        .status()?;
    std::fs::remove_file(database)?;
    if !status.success() {
        bail!("some query does not fit the tables");
    }
    Ok(())
}
