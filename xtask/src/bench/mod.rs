//! The figures we promise, measured on the release binary against the system's own tools, in
//! one run on one machine. Ratios mean something; absolute times belong to the machine.

mod errands;
mod files;
mod history;
mod light;
mod rehearse;
mod servers;
mod sshd;
mod twins;

use std::{
    fs,
    io::Write,
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
    thread::sleep,
    time::{Duration, Instant},
};

use anyhow::{Context, Result, bail};
use serde_json::Value;
use tempfile::TempDir;

use crate::{
    setup,
    steps::{build, say},
};

const BINARY: &str = "target/release/wetbank";
const MIB: usize = 1 << 20;
/// Nothing that is measured here takes longer, or it hangs.
const PATIENCE: Duration = Duration::from_secs(300);

pub(crate) struct Figure {
    pub what: String,
    pub ours: String,
    pub theirs: String,
    pub ratio: String,
    pub promised: &'static str,
    pub kept: bool,
}

type Measure = fn(&mut Vec<Figure>) -> Result<()>;

/// What is measured, by the names that choose it.
const FIGURES: [(&str, Measure); 23] = [
    ("pieces", pieces),
    ("large", files::large_copy),
    ("small", files::small_copies),
    ("burst", files::burst),
    ("one", files::one_file),
    ("sftp", sshd::sftp),
    ("openpgp", files::openpgp),
    ("idle", files::idle),
    ("share", servers::share),
    ("ftp", servers::ftp),
    ("webdav", servers::webdav),
    ("bucket", servers::bucket),
    ("entries", servers::entries),
    ("schedules", errands::schedules),
    ("zip", errands::zip),
    ("table", errands::table),
    ("rehearse", rehearse::rehearse),
    ("alike", twins::alike),
    ("sent", twins::sent),
    ("follows", twins::follows),
    ("shapes", twins::shapes),
    ("history", history::history),
    ("light", light::light),
];
/// With this the release binary is measured that is there.
const BUILT: &str = "--built";

/// Builds the release binary and measures. Words choose figures by their beginning.
pub fn run_all(words: &[String]) -> Result<()> {
    let chosen: Vec<&String> = words.iter().filter(|word| *word != BUILT).collect();
    if let Some(unknown) = chosen.iter().find(|word| !FIGURES.iter().any(|(name, _)| name.starts_with(word.as_str()))) {
        let names = FIGURES.map(|(name, _)| name).join(" ");
        bail!(
            "no figure begins with {unknown:?}. cargo xtask bench [{BUILT}] [FIGURE…], of these, by their beginning:\n{names}"
        );
    }
    setup::packages()?;
    setup::compared()?;
    if !words.iter().any(|word| word == BUILT) {
        build()?;
    }
    let mut figures = Vec::new();
    for (name, measure) in FIGURES {
        if chosen.is_empty() || chosen.iter().any(|word| name.starts_with(word.as_str())) {
            say(&format!("measuring: {name}"));
            measure(&mut figures)?;
        }
    }
    say("");
    say("| figure | wetbank | compared with | ratio | promised | |");
    say("|---|---|---|---|---|---|");
    for f in &figures {
        let sign = if f.kept { "✓" } else { "✗" };
        say(&format!("| {} | {} | {} | {} | {} | {sign} |", f.what, f.ours, f.theirs, f.ratio, f.promised));
    }
    Ok(())
}

/// What the places do by themselves, without rules and journal.
fn pieces(figures: &mut Vec<Figure>) -> Result<()> {
    let output = Command::new("cargo").args(["bench", "--workspace", "--bench", "pieces"]).output()?;
    if !output.status.success() {
        bail!("the bench of the places: {}", String::from_utf8_lossy(&output.stderr));
    }
    for line in String::from_utf8_lossy(&output.stdout).lines().filter(|line| line.starts_with('|')) {
        let fields: Vec<&str> = line.split('|').map(str::trim).collect();
        let [_, what, ours, theirs, ratio, promised, sign, _] = fields[..] else { bail!("a strange line: {line}") };
        figures.push(Figure {
            what: what.to_owned(),
            ours: ours.to_owned(),
            theirs: theirs.to_owned(),
            ratio: ratio.to_owned(),
            promised: promised.to_owned().leak(),
            kept: sign == "✓",
        });
    }
    Ok(())
}

/// A service on a data folder of its own.
pub(crate) struct Office {
    pub(crate) folder: TempDir,
    service: Child,
}

impl Drop for Office {
    fn drop(&mut self) {
        let _ = self.service.kill();
        let _ = self.service.wait();
    }
}

impl Office {
    pub(crate) fn open(folders: &[&str], book: &str, secrets: &[(&str, &str)]) -> Result<Self> {
        Self::open_in(Self::folder()?, folders, book, secrets)
    }

    pub(crate) fn folder() -> Result<TempDir> {
        Ok(tempfile::Builder::new().prefix("wetbank-bench-").tempdir_in("target")?)
    }

    /// The same with a folder in which the data may lie already.
    pub(crate) fn open_in(folder: TempDir, folders: &[&str], book: &str, secrets: &[(&str, &str)]) -> Result<Self> {
        for name in folders {
            fs::create_dir_all(folder.path().join(name))?;
        }
        let service = Command::new(fs::canonicalize(BINARY)?)
            .args(["serve", "--listen", "127.0.0.1:0", "--data"])
            .arg(fs::canonicalize(folder.path())?.join("data"))
            .env("WETBANK_LOG", "error,wetbank_journal=debug")
            .stdout(Stdio::null())
            .stderr(fs::File::create(folder.path().join("log"))?)
            .spawn()?;
        let office = Self { folder, service };
        wait(|| office.path("data/address").exists())?;
        for (name, value) in secrets {
            office.wetbank(&["secret", "set", name], value)?;
        }
        let root = fs::canonicalize(office.folder.path())?;
        fs::write(office.path("book.toml"), book.replace('@', &root.display().to_string()))?;
        office.wetbank(&["book", "apply", &office.path("book.toml").display().to_string()], "")?;
        Ok(office)
    }

    pub(crate) fn path(&self, below: &str) -> PathBuf {
        self.folder.path().join(below)
    }

    pub(crate) fn wetbank(&self, words: &[&str], input: &str) -> Result<Value> {
        let mut child = Command::new(BINARY)
            .arg("--json")
            .args(words)
            .env("WETBANK_DATA", self.path("data"))
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()?;
        child.stdin.take().context("a pipe")?.write_all(input.as_bytes())?;
        let output = child.wait_with_output()?;
        if !output.status.success() {
            bail!("wetbank {words:?}: {}", String::from_utf8_lossy(&output.stderr));
        }
        Ok(serde_json::from_slice(&output.stdout).unwrap_or(Value::Null))
    }

    /// Waits until so many files are done and journalled.
    pub(crate) fn wait_done(&self, count: i64) -> Result<()> {
        // Asking costs the service time, too: many files are asked for less often.
        let pause = Duration::from_millis(if count > 1000 { 200 } else { 10 });
        wait(|| {
            sleep(pause);
            self.wetbank(&["status"], "").is_ok_and(|s| s["today"]["done"].as_i64() >= Some(count))
        })
    }

    /// Resident memory at its highest, in MiB.
    pub(crate) fn peak(&self) -> Result<f64> {
        self.memory("VmHWM:")
    }

    pub(crate) fn memory(&self, field: &str) -> Result<f64> {
        let status = fs::read_to_string(format!("/proc/{}/status", self.service.id()))?;
        let line = status.lines().find(|line| line.starts_with(field)).context("a line of /proc")?;
        let kib: f64 = line.split_whitespace().nth(1).context("a number")?.parse()?;
        Ok(kib / 1024.0)
    }

    /// Processor time used so far, in clock ticks of a hundredth of a second.
    pub(crate) fn ticks(&self) -> Result<u64> {
        let stat = fs::read_to_string(format!("/proc/{}/stat", self.service.id()))?;
        let fields: Vec<&str> = stat.rsplit(") ").next().context("fields")?.split(' ').collect();
        Ok(fields[11].parse::<u64>()? + fields[12].parse::<u64>()?)
    }
}

pub(crate) fn wait(mut is: impl FnMut() -> bool) -> Result<()> {
    let end = Instant::now() + PATIENCE;
    while !is() {
        if Instant::now() > end {
            bail!("it takes too long");
        }
        sleep(Duration::from_micros(500));
    }
    Ok(())
}

/// The same, asking seldom: that costs the service time, too.
pub(crate) fn silent_wait(mut is: impl FnMut() -> bool) -> Result<()> {
    wait(|| {
        sleep(Duration::from_millis(200));
        is()
    })
}

pub(crate) fn shell(line: &str) -> Result<Duration> {
    let began = Instant::now();
    let output = Command::new("sh").args(["-ec", line]).output()?;
    if !output.status.success() {
        bail!("{line}: {}", String::from_utf8_lossy(&output.stderr));
    }
    Ok(began.elapsed())
}

pub(crate) fn median(mut times: Vec<Duration>) -> Duration {
    times.sort();
    times[times.len() / 2]
}

pub(crate) fn seconds(time: Duration) -> String {
    format!("{:.2} s", time.as_secs_f64())
}

/// A file of bytes that no disk and no link can squeeze.
pub(crate) fn noise(path: &Path, mib: usize) -> Result<()> {
    shell(&format!(
        "openssl rand {} > '{}' 2>/dev/null || head -c {} /dev/urandom > '{}'",
        mib * MIB,
        path.display(),
        mib * MIB,
        path.display()
    ))
    .map(drop)
}

pub(crate) fn at_most(
    what: impl Into<String>,
    ours: Duration,
    theirs: (&str, Duration),
    limit: f64,
    promised: &'static str,
) -> Figure {
    let ratio = ours.as_secs_f64() / theirs.1.as_secs_f64();
    compared(what.into(), ours, theirs, format!("{ratio:.2}"), (promised, ratio <= limit))
}

pub(crate) fn at_least(
    what: impl Into<String>,
    ours: Duration,
    theirs: (&str, Duration),
    limit: f64,
    promised: &'static str,
) -> Figure {
    let ratio = theirs.1.as_secs_f64() / ours.as_secs_f64();
    compared(what.into(), ours, theirs, format!("{ratio:.2} times as fast"), (promised, ratio >= limit))
}

fn compared(
    what: String,
    ours: Duration,
    (who, theirs): (&str, Duration),
    ratio: String,
    (promised, kept): (&'static str, bool),
) -> Figure {
    Figure { what, ours: seconds(ours), theirs: format!("{who} {}", seconds(theirs)), ratio, promised, kept }
}

pub(crate) fn tree(at: &Path, folders: usize, files: usize, bytes: usize) -> Result<()> {
    for folder in 0..folders {
        let folder = at.join(format!("{folder:03}"));
        fs::create_dir_all(&folder)?;
        for file in 0..files / folders {
            fs::write(folder.join(format!("{file:04}.csv")), vec![(file % 251) as u8; bytes])?;
        }
    }
    Ok(())
}
