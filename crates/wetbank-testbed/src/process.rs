//! Starting and ending servers.

use std::{
    fs,
    net::{TcpListener, TcpStream},
    process::{Child, Command, Stdio},
    time::{Duration, Instant},
};

/// A server needs no longer than this to listen.
const PATIENCE: Duration = Duration::from_secs(40);

/// A server process with all the processes it starts.
#[derive(Debug)]
pub struct Server(Child);

impl Server {
    /// Starts a server and waits until its port takes connections.
    pub fn start(command: &mut Command, port: u16) -> Self {
        let child = command
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap_or_else(|e| panic!("{command:?}: {e}"));
        wait_until(&format!("{command:?} listens"), || TcpStream::connect(("127.0.0.1", port)).is_ok());
        Self(child)
    }

    /// Sends a signal to the server and to everything it started.
    pub fn signal(&self, name: &str) {
        signal_all(self.0.id(), name);
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        self.signal("KILL");
        let _ = self.0.wait();
    }
}

/// Sends a signal to a process and to everything it started.
pub(crate) fn signal_all(root: u32, name: &str) {
    let send = |name: &str, ids: &[u32]| {
        let ids = ids.iter().map(u32::to_string);
        let _ = Command::new("kill").args(["-s", name]).args(ids).stderr(Stdio::null()).status();
    };
    let mut all = with_descendants(root);
    if name == "KILL" {
        // One that is started just now would outlive the others: first nobody starts any more.
        loop {
            send("STOP", &all);
            let now = with_descendants(root);
            // Not their count: one may have ended while another began.
            let known = all.len();
            all.extend(now.into_iter().filter(|id| !all[..known].contains(id)).collect::<Vec<_>>());
            if all.len() == known {
                break;
            }
        }
    }
    send(name, &all);
}

/// A process and all it started, found by their parents: some servers make sessions of their own.
fn with_descendants(root: u32) -> Vec<u32> {
    let mut parents = Vec::new();
    for entry in fs::read_dir("/proc").unwrap().flatten() {
        let Ok(id) = entry.file_name().to_string_lossy().parse::<u32>() else { continue };
        let Ok(stat) = fs::read_to_string(entry.path().join("stat")) else { continue };
        let parent = stat.rsplit(") ").next().and_then(|rest| rest.split(' ').nth(1)).and_then(|p| p.parse().ok());
        parents.extend(parent.map(|parent: u32| (id, parent)));
    }
    let mut found = vec![root];
    let mut at = 0;
    while let Some(&next) = found.get(at) {
        found.extend(parents.iter().filter(|(_, parent)| *parent == next).map(|(id, _)| *id));
        at += 1;
    }
    found
}

/// A port that nobody listens on.
pub fn free_port() -> u16 {
    TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port()
}

/// Runs a program to its end; answers what it printed.
pub fn run(program: &str, words: &[&str]) -> String {
    let output = Command::new(program).args(words).output().unwrap_or_else(|e| panic!("{program}: {e}"));
    assert!(output.status.success(), "{program} {words:?}: {}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8_lossy(&output.stdout).into_owned()
}

/// Waits until something is so.
pub fn wait_until(what: &str, mut is: impl FnMut() -> bool) {
    let end = Instant::now() + PATIENCE;
    while !is() {
        assert!(Instant::now() < end, "never: {what}");
        std::thread::sleep(Duration::from_millis(10));
    }
}
