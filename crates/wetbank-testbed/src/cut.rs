//! A program whose system calls are watched: it is ended at a chosen one, before that is carried out, or its
//! disk is full from a chosen one on.

use std::{
    collections::HashSet,
    fs,
    io::{Read, Write},
    process::{Child, Command, Stdio},
    sync::{
        Arc,
        atomic::{AtomicUsize, Ordering::Relaxed},
        mpsc,
    },
    thread::{self, JoinHandle},
    time::{Duration, Instant},
};

use nix::{
    errno::Errno,
    libc,
    sys::{
        ptrace::{self, Options},
        signal::{Signal, kill},
        wait::{WaitPidFlag, WaitStatus, waitpid},
    },
    unistd::Pid,
};

/// The calls that change what a disk holds after the machine stops: whoever is ended between two of
/// these leaves the same behind wherever in between it was.
const CALLS: [(libc::c_long, &str); 12] = [
    (libc::SYS_fdatasync, "fdatasync"),
    (libc::SYS_fsync, "fsync"),
    (libc::SYS_ftruncate, "ftruncate"),
    (libc::SYS_rename, "rename"),
    (libc::SYS_renameat, "renameat"),
    (libc::SYS_renameat2, "renameat2"),
    (libc::SYS_link, "link"),
    (libc::SYS_linkat, "linkat"),
    (libc::SYS_unlink, "unlink"),
    (libc::SYS_unlinkat, "unlinkat"),
    (libc::SYS_mkdir, "mkdir"),
    (libc::SYS_mkdirat, "mkdirat"),
];

/// Waits for threads of a program that this thread of ours has under its eyes.
const OF_MINE: WaitPidFlag = WaitPidFlag::__WALL.union(WaitPidFlag::__WNOTHREAD);

/// What is to happen to a program.
#[derive(Debug, Clone)]
pub enum Plan {
    /// It is ended when it is about to make this call, counted from one, of those that change a disk.
    End(usize),
    /// It writes to a file whose name ends like this, and what comes after so many syncs of it less one is refused
    /// because the disk is full.
    Refuse {
        /// How the file's name ends.
        file: &'static str,
        /// The sync of the file, counted from one, that is not reached.
        at: usize,
        /// How long.
        how: Refusing,
    },
}

/// How long writes are refused.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Refusing {
    /// One write is.
    Once,
    /// All are for a time from the first on.
    For(Duration),
    /// All are until the program ends.
    UntilEnd,
}

/// A running program that is watched and may be ended.
#[derive(Debug)]
pub struct Cut {
    id: Pid,
    watch: JoinHandle<Course>,
    refused: Arc<AtomicUsize>,
}

/// What a program did until it was ended.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Course {
    /// How many of the counted calls it made.
    pub calls: usize,
    /// The call at which it was ended; nothing if it ended before.
    pub cut: Option<&'static str>,
    /// How often it synced the file whose writes may be refused.
    pub syncs: usize,
}

impl Cut {
    /// Starts a program for which this is planned. Its standard input is empty.
    pub fn start(command: &Command, plan: Plan) -> Self {
        // It must not run before it is watched: a shell says that it is there, waits for a line and
        // becomes the program.
        let mut waiting = Command::new("sh");
        waiting.args(["-c", "echo; read -r _; exec \"$@\" > /dev/null", "sh"]);
        waiting.arg(command.get_program()).args(command.get_args());
        for (key, value) in command.get_envs() {
            waiting.env(key, value.unwrap_or_default());
        }
        waiting.stdin(Stdio::piped()).stdout(Stdio::piped()).stderr(Stdio::null());
        let (told, id) = mpsc::channel();
        let refused = Arc::new(AtomicUsize::new(0));
        let count = refused.clone();
        // Only the thread that began to watch a program may go on watching it.
        let watch = thread::spawn(move || {
            let child = waiting.spawn().unwrap();
            let id = Pid::from_raw(child.id().cast_signed());
            told.send(id).unwrap();
            Watch { root: id, plan, course: Course::default(), refusing: None, skipped: HashSet::new(), refused: count }
                .run(child)
        });
        Self { id: id.recv().unwrap(), watch, refused }
    }

    /// How many writes were refused so far.
    pub fn refused(&self) -> usize {
        self.refused.load(Relaxed)
    }

    /// Whether the program has ended.
    pub fn is_over(&self) -> bool {
        self.watch.is_finished()
    }

    /// Ends the program, if it still runs, and tells what it did.
    pub fn end(self) -> Course {
        if !self.is_over() {
            let _ = kill(self.id, Signal::SIGKILL);
        }
        self.watch.join().unwrap()
    }
}

/// What one thread of ours sees of a program.
struct Watch {
    root: Pid,
    plan: Plan,
    course: Course,
    /// Since when writes are refused.
    refusing: Option<Instant>,
    /// Threads in a call that is not carried out.
    skipped: HashSet<Pid>,
    refused: Arc<AtomicUsize>,
}

impl Watch {
    fn run(mut self, mut child: Child) -> Course {
        // Who ends it at once ends the shell.
        if begin(&mut child, self.root).is_err() {
            let _ = child.wait();
            return self.course;
        }
        loop {
            let (thread, signal) = match waitpid(None, Some(OF_MINE)) {
                Ok(WaitStatus::PtraceSyscall(thread)) => {
                    self.at_call(thread);
                    (thread, None)
                }
                Ok(WaitStatus::PtraceEvent(thread, ..)) => (thread, None),
                Ok(WaitStatus::Stopped(thread, signal)) => (thread, Some(signal)),
                Err(Errno::ECHILD) => return self.course,
                _ => continue,
            };
            // One that was ended in the meantime cannot go on.
            let _ = ptrace::syscall(thread, signal);
        }
    }

    /// A thread is about to make a call, or has just made one.
    fn at_call(&mut self, thread: Pid) {
        const NOT_YET_DONE: u64 = (-(libc::ENOSYS as i64)).cast_unsigned();
        const FULL: u64 = (-(libc::ENOSPC as i64)).cast_unsigned();
        let Ok(mut registers) = ptrace::getregs(thread) else { return };
        if self.skipped.remove(&thread) {
            registers.rax = FULL;
            let _ = ptrace::setregs(thread, registers);
            return;
        }
        if registers.rax != NOT_YET_DONE {
            return;
        }
        let Ok(call) = libc::c_long::try_from(registers.orig_rax) else { return };
        let name = CALLS.iter().find_map(|(number, name)| (*number == call).then_some(*name));
        if let Some(name) = name.filter(|_| self.course.cut.is_none()) {
            self.course.calls += 1;
            if matches!(self.plan, Plan::End(at) if at == self.course.calls) {
                self.course.cut = Some(name);
                kill(self.root, Signal::SIGKILL).unwrap();
            }
        }
        let Plan::Refuse { file, at, how } = self.plan else { return };
        let is_sync = matches!(call, libc::SYS_fdatasync | libc::SYS_fsync);
        let is_write = matches!(call, libc::SYS_pwrite64 | libc::SYS_write | libc::SYS_ftruncate);
        if !(is_sync || is_write) || !self.is_open_as(registers.rdi, file) {
            return;
        }
        if is_sync {
            self.course.syncs += 1;
        } else if self.refuses(at, how) {
            self.refused.fetch_add(1, Relaxed);
            self.skipped.insert(thread);
            // No call has this number, so none is carried out.
            registers.orig_rax = u64::MAX;
            let _ = ptrace::setregs(thread, registers);
        }
    }

    fn is_open_as(&self, descriptor: u64, file: &str) -> bool {
        let link = fs::read_link(format!("/proc/{}/fd/{descriptor}", self.root));
        link.is_ok_and(|path| path.to_string_lossy().ends_with(file))
    }

    fn refuses(&mut self, at: usize, how: Refusing) -> bool {
        if self.course.syncs + 1 < at {
            return false;
        }
        match (self.refusing, how) {
            (None, _) => {
                self.refusing = Some(Instant::now());
                true
            }
            (Some(_), Refusing::Once) => false,
            (Some(since), Refusing::For(time)) => since.elapsed() < time,
            (Some(_), Refusing::UntilEnd) => true,
        }
    }
}

/// Takes the shell under our eyes and lets it become the program.
fn begin(child: &mut Child, root: Pid) -> std::io::Result<()> {
    child.stdout.take().unwrap().read_exact(&mut [0])?;
    let options = Options::PTRACE_O_TRACESYSGOOD | Options::PTRACE_O_TRACECLONE | Options::PTRACE_O_EXITKILL;
    ptrace::seize(root, options)?;
    ptrace::interrupt(root)?;
    waitpid(root, Some(OF_MINE))?;
    ptrace::syscall(root, None)?;
    child.stdin.take().unwrap().write_all(b"\n")
}

#[cfg(test)]
mod tests {
    use super::*;

    fn touching(files: &[std::path::PathBuf]) -> Command {
        let mut command = Command::new("mkdir");
        command.args(files);
        command
    }

    #[test]
    fn a_program_is_ended_before_the_chosen_call_and_not_after() {
        let folder = tempfile::TempDir::new().unwrap();
        let files = ["a", "b", "c"].map(|name| folder.path().join(name));
        let cut = Cut::start(&touching(&files), Plan::End(2));
        while !cut.is_over() {
            std::thread::yield_now();
        }
        assert_eq!(cut.end(), Course { calls: 2, cut: Some("mkdir"), syncs: 0 });
        assert_eq!(files.each_ref().map(|file| file.exists()), [true, false, false]);
    }

    #[test]
    fn a_program_may_be_ended_at_any_time() {
        for round in 0..100 {
            let cut = Cut::start(Command::new("sleep").arg("60"), Plan::End(2));
            std::thread::sleep(std::time::Duration::from_micros(40 * round));
            assert_eq!(cut.end(), Course::default());
        }
    }

    #[test]
    fn a_program_that_ends_before_is_told_as_that() {
        for round in 0..50 {
            let folder = tempfile::TempDir::new().unwrap();
            let cut = Cut::start(&touching(&[folder.path().join("a")]), Plan::End(2));
            while !cut.is_over() {
                std::thread::yield_now();
            }
            assert_eq!(cut.end(), Course { calls: 1, ..Course::default() }, "round {round}");
        }
    }

    /// Writes a line and syncs it, three times; says which of them failed.
    fn writing(file: &std::path::Path) -> Command {
        let script = "import os, sys\nf = os.open(sys.argv[1], os.O_CREAT | os.O_WRONLY)\nbad = ''\nfor n in range(3):\n  try:\n    os.pwrite(f, b'x', n)\n    os.fdatasync(f)\n  except OSError as e: bad += f'{n}:{e.errno} '\nopen(sys.argv[2], 'w').write(bad)";
        let mut command = Command::new("python3");
        command.args(["-c", script]).arg(file).arg(file.with_extension("said"));
        command
    }

    #[test]
    fn what_is_written_to_the_chosen_file_after_the_chosen_sync_is_refused() {
        for (how, said) in [(Refusing::Once, "1:28 "), (Refusing::UntilEnd, "1:28 2:28 ")] {
            let folder = tempfile::TempDir::new().unwrap();
            let file = folder.path().join("records.wal");
            let cut = Cut::start(&writing(&file), Plan::Refuse { file: ".wal", at: 2, how });
            while !cut.is_over() {
                std::thread::yield_now();
            }
            assert_eq!(cut.refused(), said.split_whitespace().count(), "{how:?}");
            cut.end();
            assert_eq!(fs::read_to_string(file.with_extension("said")).unwrap(), said);
        }
    }
}
