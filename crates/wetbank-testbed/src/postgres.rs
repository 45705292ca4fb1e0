//! PostgreSQL.

use std::{
    fs,
    os::unix::fs::{PermissionsExt, chown},
    path::PathBuf,
    process::Command,
};

use tempfile::TempDir;

use crate::{Server, free_port, run, wait_until};

/// Who may sign in, and the password.
pub const DATABASE_USER: (&str, &str) = ("merrow", "grey heron");
/// The database.
pub const DATABASE: &str = "survey";

/// Asks a server, as its user does.
#[derive(Debug, Clone)]
pub struct Asking {
    port: u16,
    programs: PathBuf,
}

/// A server with an empty database.
#[derive(Debug)]
pub struct Postgres {
    /// The port it listens on.
    pub port: u16,
    asking: Asking,
    _folder: TempDir,
    _server: Server,
}

/// The folder with the newest installed server's programs.
fn programs() -> PathBuf {
    let mut versions: Vec<PathBuf> =
        fs::read_dir("/usr/lib/postgresql").unwrap().map(|entry| entry.unwrap().path().join("bin")).collect();
    versions.sort();
    versions.pop().expect("PostgreSQL is installed")
}

impl Postgres {
    /// Starts it.
    pub fn start() -> Self {
        let (folder, port, programs) = (TempDir::new().unwrap(), free_port(), programs());
        fs::set_permissions(folder.path(), fs::Permissions::from_mode(0o755)).unwrap();
        let password = folder.path().join("password");
        fs::write(&password, DATABASE_USER.1).unwrap();
        let data = folder.path().join("data");
        fs::create_dir(&data).unwrap();
        let number = |flag| run("id", &[flag, "postgres"]).trim().parse::<u32>().unwrap();
        for path in [&data, &password] {
            chown(path, Some(number("-u")), Some(number("-g"))).unwrap();
        }
        let (data, password) = (data.display().to_string(), password.display().to_string());
        let as_its_user = |program: &str, words: &[&str]| {
            let mut command = Command::new("/usr/sbin/runuser");
            command.args(["-u", "postgres", "--"]).arg(programs.join(program)).args(words).current_dir("/");
            command
        };
        let made = as_its_user(
            "initdb",
            &["-D", &data, "-U", DATABASE_USER.0, "-A", "scram-sha-256", "--pwfile", &password, "-N", "-E", "UTF8"],
        )
        .output()
        .unwrap();
        assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
        let number = port.to_string();
        let quick = ["-c", "fsync=off", "-c", "listen_addresses=127.0.0.1", "-c", "max_connections=20"];
        let mut words = vec!["-D", data.as_str(), "-p", &number, "-k", "", "-c", "shared_buffers=16MB"];
        words.extend(quick);
        let server = Server::start(&mut as_its_user("postgres", &words), port);
        let asking = Asking { port, programs };
        let server = Self { port, asking, _folder: folder, _server: server };
        wait_until("the database server lets people in", || server.asking.psql("postgres", "SELECT 1").is_ok());
        server.asking.psql("postgres", &format!("CREATE DATABASE {DATABASE}")).unwrap();
        server
    }

    /// What asks it; it may outlive what started it.
    pub fn asking(&self) -> Asking {
        self.asking.clone()
    }
}

impl Asking {
    fn psql(&self, database: &str, query: &str) -> Result<String, String> {
        let output = Command::new(self.programs.join("psql"))
            .args([
                "-h",
                "127.0.0.1",
                "-p",
                &self.port.to_string(),
                "-U",
                DATABASE_USER.0,
                "-d",
                database,
                "-Atc",
                query,
            ])
            .env("PGPASSWORD", DATABASE_USER.1)
            .output()
            .map_err(|error| error.to_string())?;
        let told = |bytes: &[u8]| String::from_utf8_lossy(bytes).trim().to_owned();
        if output.status.success() { Ok(told(&output.stdout)) } else { Err(told(&output.stderr)) }
    }

    /// What a query finds, columns with `|` between.
    pub fn query(&self, query: &str) -> String {
        self.psql(DATABASE, query).unwrap()
    }
}
