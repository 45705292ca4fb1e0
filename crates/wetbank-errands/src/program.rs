//! Running programs that the machine's owner allows.

use std::{
    collections::BTreeMap,
    ffi::OsString,
    fs,
    io::{self, Read, Write},
    os::{
        fd::{AsFd, OwnedFd},
        unix::{fs::MetadataExt, process::CommandExt},
    },
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
    sync::{
        Arc,
        atomic::{AtomicBool, AtomicU64, Ordering::Relaxed},
    },
    thread,
    time::{Duration, Instant},
};

use rustix::{
    event::{PollFd, PollFlags, Timespec, poll},
    process::{
        Pid, PidfdFlags, Signal, WaitId, WaitIdOptions, kill_process_group, pidfd_open, pidfd_send_signal, waitid,
    },
};
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
    /// `Refused` if others than root and the service's user may write it or a folder above it, or it cannot be read as
    /// a list.
    pub fn read(path: &Path) -> Result<Self, ErrandError> {
        let refused = |why: String| ErrandError::Refused(format!("{}: {why}", path.display()));
        let real = match fs::canonicalize(path) {
            Ok(real) => real,
            Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Self::default()),
            Err(error) => return Err(refused(error.to_string())),
        };
        for at in real.ancestors() {
            let metadata = fs::metadata(at).map_err(|error| refused(error.to_string()))?;
            if let Some(why) = others_may_change(&metadata) {
                return Err(refused(format!("{} {why}, so this list is not believed", at.display())));
            }
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

    /// Where they are.
    pub fn paths(&self) -> impl Iterator<Item = &Path> {
        self.0.values().map(|one| one.path.as_path())
    }

    /// The names of all.
    pub fn names(&self) -> impl Iterator<Item = &str> {
        self.0.keys().map(String::as_str)
    }
}

/// Why somebody else than the owner of this machine and the service may put something else in the place of a file.
fn others_may_change(metadata: &fs::Metadata) -> Option<&'static str> {
    const STICKY: u32 = 0o1000;
    let ours = [0, rustix::process::geteuid().as_raw()];
    if !ours.contains(&metadata.uid()) {
        return Some("belongs neither to root nor to the user of the service");
    }
    // In a folder like /tmp everybody may write, but change only what is theirs.
    let is_shared = metadata.is_dir() && metadata.mode() & STICKY != 0;
    (metadata.mode() & 0o022 != 0 && !is_shared).then_some("can be written by others than its owner (chmod go-w it)")
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

/// By this all that a program started is found, also what has left its group.
const MARK: &str = "WETBANK_PROGRAM";

/// Runs a program to its end. What it prints goes to `output`. It gets no shell, nothing on its standard
/// input, and none of our environment; when it ends, takes too long or prints too much, all that it started is ended.
///
/// # Errors
///
/// `Wrong` if it cannot be started or says itself that it failed, `TooMuch` past a limit.
pub fn run(program: &Allowed, running: &Running, output: impl Write + Send) -> Result<Printed, ErrandError> {
    static COUNT: AtomicU64 = AtomicU64::new(0);
    let mark = format!("{}-{}", std::process::id(), COUNT.fetch_add(1, Relaxed));
    let mut child = Command::new(&program.path)
        .args(&program.args)
        .args(&running.args)
        .current_dir(&running.folder)
        .env_clear()
        .env("PATH", "/usr/local/bin:/usr/bin:/bin")
        .env("LANG", "C.UTF-8")
        .envs(&program.environment)
        .envs(running.environment.iter().map(|(key, value)| (key, value)))
        .env(MARK, &mark)
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .process_group(0)
        .spawn()
        .map_err(|error| ErrandError::Wrong(format!("{} cannot be started: {error}", program.path.display())))?;
    let (printed, complaints) = (child.stdout.take(), child.stderr.take());
    let (size, is_over) = (AtomicU64::new(0), AtomicBool::new(false));
    let (ended, said, complained) = thread::scope(|scope| {
        let out = scope.spawn(|| pass_on(printed, output, &size, &is_over));
        let complaints = scope.spawn(|| pass_on(complaints, io::sink(), &AtomicU64::new(0), &is_over));
        let ended = look_after(&mut child, running, &size);
        end_marked(&mark);
        // Whoever is left and holds the output open is not listened to any more.
        is_over.store(true, Relaxed);
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

/// Passes on what comes and keeps its end. Once the program is over, only what is there already.
fn pass_on(
    from: Option<impl Read + AsFd>,
    mut to: impl Write,
    size: &AtomicU64,
    is_over: &AtomicBool,
) -> Result<String, ErrandError> {
    let Some(mut from) = from else { return Ok(String::new()) };
    let (mut buffer, mut kept) = (vec![0; 64 << 10], Vec::new());
    loop {
        // Asked before: what was printed until then is read.
        let was_over = is_over.load(Relaxed);
        if !comes(&from)? {
            if was_over {
                break;
            }
            continue;
        }
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

/// Whether something can be read, or the end is there; it is waited for a moment.
fn comes(from: &impl AsFd) -> io::Result<bool> {
    let mut asked = [PollFd::new(from, PollFlags::IN)];
    let wait = Timespec { tv_sec: 0, tv_nsec: 50_000_000 };
    match poll(&mut asked, Some(&wait)) {
        Ok(ready) => Ok(ready > 0),
        Err(rustix::io::Errno::INTR) => Ok(false),
        Err(error) => Err(error.into()),
    }
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

/// Ends what a program started and what has left its group since (setsid). It is known by its environment, which it
/// gets from the program; again and again, because one may start another just now.
fn end_marked(mark: &str) {
    let mark = format!("{MARK}={mark}");
    for _ in 0..100 {
        let marked = marked(mark.as_bytes());
        if marked.is_empty() {
            return;
        }
        for (id, handle) in marked {
            // The number may be another's by now: the handle is not.
            if pidfd_send_signal(&handle, Signal::KILL).is_err() {
                tracing::warn!(process = id, "what a program left running cannot be ended");
            }
        }
        thread::sleep(LOOK);
    }
}

/// The processes whose environment has a mark.
fn marked(mark: &[u8]) -> Vec<(i32, OwnedFd)> {
    let Ok(processes) = fs::read_dir("/proc") else { return Vec::new() };
    let ids = processes.flatten().filter_map(|entry| entry.file_name().to_str()?.parse::<i32>().ok());
    let is_marked = |id: i32| {
        let handle = pidfd_open(Pid::from_raw(id)?, PidfdFlags::empty()).ok()?;
        let environment = fs::read(format!("/proc/{id}/environ")).ok()?;
        environment.split(|byte| *byte == 0).any(|variable| variable == mark).then_some((id, handle))
    };
    ids.filter_map(is_marked).collect()
}

#[cfg(test)]
mod tests;
