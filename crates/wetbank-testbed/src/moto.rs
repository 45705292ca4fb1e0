//! Moto: a server with the S3 REST API, written in Python.

use std::{
    net::TcpStream,
    path::{Path, PathBuf},
    process::{Child, Command, Stdio},
    sync::OnceLock,
};

use crate::{Server, free_port, wait_until};

/// One server for all tests of a process; it ends with that process.
#[derive(Debug)]
pub struct Moto {
    /// Its address, without a bucket.
    pub url: String,
    _until_dropped: Child,
}

/// Where it is installed.
fn program() -> PathBuf {
    let program = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../.venv/bin/moto_server");
    assert!(program.exists(), "{} is missing: cargo xtask test installs it", program.display());
    program
}

/// A server that ends when it is dropped.
#[derive(Debug)]
pub struct OwnMoto {
    /// Its address, without a bucket.
    pub url: String,
    server: Server,
}

impl OwnMoto {
    /// Sends a signal to it and to everything it started.
    pub fn signal(&self, name: &str) {
        self.server.signal(name);
    }
}

impl Moto {
    /// The server, started if it was not. It believes any signature.
    pub fn shared() -> &'static Self {
        static ONE: OnceLock<Moto> = OnceLock::new();
        ONE.get_or_init(Self::start)
    }

    /// A server of a test's own, without a bucket.
    pub fn own() -> OwnMoto {
        let port = free_port();
        let mut command = Command::new(program());
        let server = Server::start(command.args(["-H", "127.0.0.1", "-p", &port.to_string()]), port);
        OwnMoto { url: format!("http://127.0.0.1:{port}"), server }
    }

    fn start() -> Self {
        let (program, port) = (program(), free_port());
        // It ends when our end of its input closes, which no crash can prevent.
        let script = "\"$0\" -H 127.0.0.1 -p \"$1\" >/dev/null 2>&1 & server=$!; cat >/dev/null; kill $server";
        let shell = Command::new("sh")
            .args(["-c", script])
            .arg(program)
            .arg(port.to_string())
            .stdin(Stdio::piped())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        wait_until("moto listens", || TcpStream::connect(("127.0.0.1", port)).is_ok());
        Self { url: format!("http://127.0.0.1:{port}"), _until_dropped: shell }
    }
}
