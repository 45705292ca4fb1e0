//! A program that is ended at a chosen system call, before the call is carried out.

use std::{
    io::{Read, Write},
    process::{Child, Command, Stdio},
    sync::mpsc,
    thread::{self, JoinHandle},
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

/// A running program that will be ended.
#[derive(Debug)]
pub struct Cut {
    id: Pid,
    watch: JoinHandle<Course>,
}

/// What a program did until it was ended.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Course {
    /// How many of the counted calls it made.
    pub calls: usize,
    /// The call at which it was ended; nothing if it ended before.
    pub cut: Option<&'static str>,
}

impl Cut {
    /// Starts a program that is ended when it is about to make its `at`th call that changes a disk.
    /// Its standard input is empty.
    pub fn start(command: &Command, at: usize) -> Self {
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
        // Only the thread that began to watch a program may go on watching it.
        let watch = thread::spawn(move || {
            let child = waiting.spawn().unwrap();
            let id = Pid::from_raw(child.id().cast_signed());
            told.send(id).unwrap();
            watch(child, id, at)
        });
        Self { id: id.recv().unwrap(), watch }
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

fn watch(mut child: Child, root: Pid, at: usize) -> Course {
    let mut course = Course { calls: 0, cut: None };
    // Who ends it at once ends the shell.
    if begin(&mut child, root).is_err() {
        let _ = child.wait();
        return course;
    }
    loop {
        let (thread, signal) = match waitpid(None, Some(OF_MINE)) {
            Ok(WaitStatus::PtraceSyscall(thread)) => {
                if let Some(name) = begins(thread).filter(|_| course.cut.is_none()) {
                    course.calls += 1;
                    if course.calls == at {
                        course.cut = Some(name);
                        kill(root, Signal::SIGKILL).unwrap();
                        continue;
                    }
                }
                (thread, None)
            }
            Ok(WaitStatus::PtraceEvent(thread, ..)) => (thread, None),
            Ok(WaitStatus::Stopped(thread, signal)) => (thread, Some(signal)),
            Err(Errno::ECHILD) => return course,
            _ => continue,
        };
        // One that was ended in the meantime cannot go on.
        let _ = ptrace::syscall(thread, signal);
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

/// The counted call that a thread is about to make.
fn begins(thread: Pid) -> Option<&'static str> {
    const NOT_YET_DONE: u64 = (-(libc::ENOSYS as i64)).cast_unsigned();
    let registers = ptrace::getregs(thread).ok()?;
    let call = libc::c_long::try_from(registers.orig_rax).ok()?;
    let name = CALLS.iter().find_map(|(number, name)| (*number == call).then_some(*name));
    name.filter(|_| registers.rax == NOT_YET_DONE)
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
        let cut = Cut::start(&touching(&files), 2);
        while !cut.is_over() {
            std::thread::yield_now();
        }
        assert_eq!(cut.end(), Course { calls: 2, cut: Some("mkdir") });
        assert_eq!(files.each_ref().map(|file| file.exists()), [true, false, false]);
    }

    #[test]
    fn a_program_may_be_ended_at_any_time() {
        for round in 0..100 {
            let cut = Cut::start(Command::new("sleep").arg("60"), 2);
            std::thread::sleep(std::time::Duration::from_micros(40 * round));
            assert_eq!(cut.end(), Course { calls: 0, cut: None });
        }
    }

    #[test]
    fn a_program_that_ends_before_is_told_as_that() {
        for round in 0..50 {
            let folder = tempfile::TempDir::new().unwrap();
            let cut = Cut::start(&touching(&[folder.path().join("a")]), 2);
            while !cut.is_over() {
                std::thread::yield_now();
            }
            assert_eq!(cut.end(), Course { calls: 1, cut: None }, "round {round}");
        }
    }
}
