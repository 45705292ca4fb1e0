//! Running programs that the machine's owner allows.

use std::{
    collections::BTreeMap,
    ffi::OsString,
    fs,
    io::{self, Read, Write},
    os::unix::{fs::MetadataExt, process::CommandExt},
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
    sync::{
        Arc,
        atomic::{AtomicBool, AtomicU64, Ordering::Relaxed},
    },
    thread,
    time::{Duration, Instant},
};

use rustix::process::{Pid, Signal, WaitId, WaitIdOptions, kill_process_group, waitid};
use serde::Deserialize;

use crate::ErrandError;

/// Bytes of what a program says that are kept.
const KEPT: usize = 16 << 10;
/// How often it is looked after.
const LOOK: Duration = Duration::from_millis(20);
/// After it was asked to end, how long until it is ended.
const GRACE: Duration = Duration::from_secs(2);

/// The list of programs that may be run.
///
/// It is a file of the machine's owner: nobody who arranges rules can change it.
#[derive(Debug, Clone, Default)]
pub struct Programs(BTreeMap<String, Allowed>);

/// A program that may be run.
#[derive(Debug, Clone, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct Allowed {
    /// Where it is, an absolute path.
    pub path: PathBuf,
    /// What it is always told, before what a rule says.
    #[serde(default)]
    pub args: Vec<String>,
    /// What its environment holds besides the little that every program gets.
    #[serde(default)]
    pub environment: BTreeMap<String, String>,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Shape {
    #[serde(default)]
    program: BTreeMap<String, Allowed>,
}

impl Programs {
    /// Reads the list. A file that is not there allows nothing.
    ///
    /// # Errors
    ///
    /// `Refused` if others than its owner may write it, or it cannot be read as a list.
    pub fn read(path: &Path) -> Result<Self, ErrandError> {
        let refused = |why: String| ErrandError::Refused(format!("{}: {why}", path.display()));
        let metadata = match fs::metadata(path) {
            Ok(metadata) => metadata,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Self::default()),
            Err(error) => return Err(refused(error.to_string())),
        };
        if metadata.mode() & 0o022 != 0 {
            return Err(refused(
                "others than its owner may write this file, so it is not believed; chmod go-w it".into(),
            ));
        }
        let text = fs::read_to_string(path).map_err(|error| refused(error.to_string()))?;
        let shape: Shape = toml::from_str(&text).map_err(|error| refused(error.message().to_owned()))?;
        if let Some((name, one)) = shape.program.iter().find(|(_, one)| !one.path.is_absolute()) {
            return Err(refused(format!("program \"{name}\": {} is no absolute path", one.path.display())));
        }
        Ok(Self(shape.program))
    }

    /// The program of a name.
    pub fn get(&self, name: &str) -> Option<&Allowed> {
        self.0.get(name)
    }

    /// The names of all.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.0.keys().map(String::as_str)
    }
}

/// How a program is to be run.
#[derive(Debug)]
pub struct Running {
    /// What it is told besides.
    pub args: Vec<OsString>,
    /// What its environment holds besides.
    pub environment: Vec<(&'static str, OsString)>,
    /// The folder in which it starts.
    pub folder: PathBuf,
    /// How long it may take.
    pub limit: Duration,
    /// Bytes that it may print.
    pub most: u64,
    /// Set when it is to stop.
    pub stop: Arc<AtomicBool>,
}

/// What a program said.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Printed {
    /// Bytes that it printed.
    pub size: u64,
    /// The end of what it printed, for people.
    pub said: String,
    /// The end of what it complained of.
    pub complained: String,
}

/// Runs a program to its end. What it prints goes to `output`. It gets no shell, nothing on its standard
/// input, and none of our environment; when it takes too long or prints too much, it is ended with all that
/// it started.
///
/// # Errors
///
/// `Wrong` if it cannot be started or says itself that it failed, `TooMuch` past a limit.
pub fn run(program: &Allowed, running: &Running, output: impl Write + Send) -> Result<Printed, ErrandError> {
    let mut child = Command::new(&program.path)
        .args(&program.args)
        .args(&running.args)
        .current_dir(&running.folder)
        .env_clear()
        .env("PATH", "/usr/local/bin:/usr/bin:/bin")
        .env("LANG", "C.UTF-8")
        .envs(&program.environment)
        .envs(running.environment.iter().map(|(key, value)| (key, value)))
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .process_group(0)
        .spawn()
        .map_err(|error| ErrandError::Wrong(format!("{} cannot be started: {error}", program.path.display())))?;
    let (printed, complaints) = (child.stdout.take(), child.stderr.take());
    let size = AtomicU64::new(0);
    let (ended, said, complained) = thread::scope(|scope| {
        let out = scope.spawn(|| pass_on(printed, output, &size));
        let complaints = scope.spawn(|| pass_on(complaints, io::sink(), &AtomicU64::new(0)));
        let ended = look_after(&mut child, running, &size);
        (ended, out.join(), complaints.join())
    });
    let broken = |_| ErrandError::Io(io::Error::other("reading what it printed broke off"));
    let (said, complained) = (said.map_err(broken)?, complained.map_err(broken)?);
    let status = ended?;
    let (said, complained) = (said?, complained?);
    if !status.success() {
        let words = if complained.trim().is_empty() { &said } else { &complained };
        let words: Vec<_> = words.trim().lines().rev().take(5).collect();
        let words = words.into_iter().rev().collect::<Vec<_>>().join(" | ");
        let words = if words.is_empty() { String::new() } else { format!(": {words}") };
        let how = status.code().map_or_else(|| status.to_string(), |code| format!("it ended with {code}"));
        return Err(ErrandError::Wrong(format!("{how}{words}")));
    }
    Ok(Printed { size: size.load(Relaxed), said, complained })
}

/// Passes on what comes and keeps its end.
fn pass_on(from: Option<impl Read>, mut to: impl Write, size: &AtomicU64) -> Result<String, ErrandError> {
    let Some(mut from) = from else { return Ok(String::new()) };
    let (mut buffer, mut kept) = (vec![0; 64 << 10], Vec::new());
    loop {
        let read = match from.read(&mut buffer) {
            Ok(0) => break,
            Ok(read) => read,
            Err(error) if error.kind() == io::ErrorKind::Interrupted => continue,
            Err(error) => return Err(error.into()),
        };
        size.fetch_add(read as u64, Relaxed);
        to.write_all(&buffer[..read])?;
        kept.extend_from_slice(&buffer[..read]);
        if kept.len() > 2 * KEPT {
            kept.drain(..kept.len() - KEPT);
        }
    }
    to.flush()?;
    let from = kept.len().saturating_sub(KEPT);
    let text = String::from_utf8_lossy(&kept[from..]).into_owned();
    Ok(text.chars().map(|c| if c.is_control() && c != '\n' && c != '\t' { '\u{fffd}' } else { c }).collect())
}

/// Waits for the end, or brings it about.
fn look_after(child: &mut Child, running: &Running, size: &AtomicU64) -> Result<std::process::ExitStatus, ErrandError> {
    let began = Instant::now();
    loop {
        if has_ended(child)? {
            // What it left running in the background would hold its output open.
            end_group(child, Signal::KILL);
            return Ok(child.wait()?);
        }
        let why = if running.stop.load(Relaxed) {
            ErrandError::Stopped
        } else if began.elapsed() > running.limit {
            ErrandError::TooMuch(format!("it took longer than {} s and was ended", running.limit.as_secs()))
        } else if size.load(Relaxed) > running.most {
            ErrandError::TooMuch(format!("it printed more than {} bytes and was ended", running.most))
        } else {
            thread::sleep(LOOK);
            continue;
        };
        end_group(child, Signal::TERM);
        let asked = Instant::now();
        while asked.elapsed() < GRACE && size.load(Relaxed) <= running.most && !has_ended(child)? {
            thread::sleep(LOOK);
        }
        end_group(child, Signal::KILL);
        child.wait()?;
        return Err(why);
    }
}

/// Whether a program has ended. It is not waited for yet: until then its number, and so that of its
/// group, cannot become another's.
fn has_ended(child: &Child) -> io::Result<bool> {
    let Some(id) = i32::try_from(child.id()).ok().and_then(Pid::from_raw) else { return Ok(true) };
    let how = WaitIdOptions::EXITED | WaitIdOptions::NOHANG | WaitIdOptions::NOWAIT;
    Ok(waitid(WaitId::Pid(id), how)?.is_some())
}

fn end_group(child: &Child, signal: Signal) {
    if let Some(group) = i32::try_from(child.id()).ok().and_then(Pid::from_raw) {
        let _ = kill_process_group(group, signal);
    }
}

#[cfg(test)]
mod tests;
