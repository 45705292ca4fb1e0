//! The real binary on a data folder of its own, talked to through its command line and its API.

#[cfg(target_arch = "x86_64")]
pub mod browser;
pub mod builder;
pub mod bundles;
pub mod clock;
pub mod cuts;
pub mod desk;
pub mod issuer;
pub mod partner;
pub mod people;
pub mod servers;
pub mod sides;
pub mod ways;

use std::{
    fs,
    path::{Path, PathBuf},
    process::{Child, Command, Output, Stdio},
    time::{Duration, Instant},
};

use serde_json::Value;
use tempfile::TempDir;
use tokio::runtime::Runtime;
use wetbank_standins::{BucketStandin, BucketStandinOptions};

const BINARY: &str = env!("CARGO_BIN_EXE_wetbank");

/// The two folders that most rules of these tests are about.
pub const PLACES: &str = r#"
[place.office]
kind = "folder"
root = "@/office"

[place.archive]
kind = "folder"
root = "@/archive"
"#;

/// A place, a partner and a rule, for what asks about each.
pub const SMALL_BOOK: &str = r#"
[place.office]
kind = "folder"
root = "@/office"

[partner.skerrow]
title = "Skerrow Harbour Office"
places = ["office"]

[rule.keep]
starts = { arrival = { place = "office", folder = "in" } }
[[rule.keep.branch]]
steps = [ { copy = { to = "office", folder = "kept" } } ]
"#;

/// An office with an archive and these rules.
pub fn office(rules: &str) -> Office {
    let office = Office::open();
    fs::create_dir_all(office.path("archive")).unwrap();
    office.book(&format!("{PLACES}{rules}"));
    office
}

/// Waits until something is so; says what it waited for when it never is.
pub fn wait_for<T>(what: &str, mut look: impl FnMut() -> Option<T>) -> T {
    let end = Instant::now() + Duration::from_secs(60);
    loop {
        if let Some(found) = look() {
            return found;
        }
        assert!(Instant::now() < end, "never: {what}");
        std::thread::sleep(Duration::from_millis(20));
    }
}

/// An archive in a bucket of an object store, and what runs it.
pub struct Archive {
    pub store: BucketStandin,
    pub runtime: Runtime,
}

const ARCHIVE_KEY: (&str, &str) = ("merrow", "grey heron");

/// Starts an object store; port 0 takes a free one.
pub fn start_store(runtime: &Runtime, port: u16) -> std::io::Result<BucketStandin> {
    let options = BucketStandinOptions {
        listen: ([127, 0, 0, 1], port).into(),
        bucket: "survey".to_owned(),
        access_key: ARCHIVE_KEY.0.to_owned(),
        secret_key: ARCHIVE_KEY.1.to_owned(),
    };
    runtime.block_on(BucketStandin::start(options))
}

impl std::ops::Deref for Archive {
    type Target = BucketStandin;

    fn deref(&self) -> &BucketStandin {
        &self.store
    }
}

impl Archive {
    pub fn open() -> Self {
        let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().unwrap();
        Self { store: start_store(&runtime, 0).unwrap(), runtime }
    }

    /// Its place in the book, and its secret in the office's vault.
    pub fn place(&self, office: &Office, name: &str) -> String {
        assert!(office.wetbank_with(&["secret", "set", "archive"], ARCHIVE_KEY.1).status.success());
        let url = self.store.url();
        format!(
            "\n[place.{name}]\nkind = \"bucket\"\nurl = \"{url}\"\nbucket = \"survey\"\n\
             access-key = \"merrow\"\nsecret-key = {{ secret = \"archive\" }}\n"
        )
    }
}

/// An office with a service.
pub struct Office {
    pub folder: TempDir,
    service: Option<Child>,
    environment: Vec<(String, String)>,
    /// How it listens.
    listening: Vec<String>,
}

impl Drop for Office {
    fn drop(&mut self) {
        self.kill();
    }
}

impl Office {
    /// A running service with an empty book.
    pub fn open() -> Self {
        Self::open_with(&[])
    }

    /// The same with this in its environment.
    pub fn open_with(environment: &[(&str, &str)]) -> Self {
        let environment = environment.iter().map(|(key, value)| ((*key).to_owned(), (*value).to_owned())).collect();
        let listening = ["--listen", "127.0.0.1:0"].map(str::to_owned).into();
        let mut office = Self { folder: TempDir::new().unwrap(), service: None, environment, listening };
        fs::create_dir_all(office.path("office")).unwrap();
        office.start();
        office
    }

    pub fn path(&self, below: &str) -> PathBuf {
        self.folder.path().join(below)
    }

    pub fn data(&self) -> PathBuf {
        self.path("data")
    }

    fn serve(&self) -> Command {
        let _ = fs::remove_file(self.data().join("address"));
        let mut command = Command::new(BINARY);
        command.arg("serve").args(&self.listening).arg("--data").arg(self.data());
        command.envs(self.environment.iter().map(|(key, value)| (key, value)));
        command
    }

    /// Starts a service for which something is planned.
    #[cfg(target_arch = "x86_64")]
    pub fn start_watched(&self, plan: wetbank_testbed::Plan) -> wetbank_testbed::Cut {
        wetbank_testbed::Cut::start(&self.serve(), plan)
    }

    pub fn start(&mut self) {
        let log = fs::OpenOptions::new().create(true).append(true).open(self.path("log")).unwrap();
        let child = self.serve().stdin(Stdio::null()).stdout(Stdio::null()).stderr(log).spawn().unwrap();
        self.service = Some(child);
        wait_for("the service listens", || self.data().join("address").exists().then_some(()));
    }

    /// The next service listens where this one does.
    pub fn keep_address(&mut self) {
        self.listening = vec!["--listen".to_owned(), self.url().trim_start_matches("http://").to_owned()];
    }

    /// Starts a service that listens so, from now on.
    pub fn start_with(&mut self, listening: &[&str]) {
        self.listen_so(listening);
        self.start();
    }

    /// What a service that cannot start says.
    pub fn serve_once(&mut self, listening: &[&str]) -> Output {
        self.listen_so(listening);
        self.serve().output().unwrap()
    }

    fn listen_so(&mut self, listening: &[&str]) {
        let free: &[&str] = if listening.contains(&"--listen") { &[] } else { &["--listen", "127.0.0.1:0"] };
        self.listening = free.iter().chain(listening).map(|&word| word.to_owned()).collect();
    }

    /// Ends the service without warning.
    pub fn kill(&mut self) {
        if let Some(mut child) = self.service.take() {
            let _ = child.kill();
            let _ = child.wait();
        }
    }

    /// Asks the service to stop and waits for its end.
    pub fn stop(&mut self) {
        if let Some(mut child) = self.service.take() {
            Command::new("kill").arg(child.id().to_string()).status().unwrap();
            assert!(child.wait().unwrap().success());
        }
    }

    /// Allows a script as a program of this name.
    pub fn allow(&self, name: &str, script: &str) {
        use std::os::unix::fs::PermissionsExt;
        let path = self.path(&format!("{name}.sh"));
        fs::write(&path, format!("#!/bin/sh\n{script}\n")).unwrap();
        fs::set_permissions(&path, fs::Permissions::from_mode(0o755)).unwrap();
        let list = self.data().join("programs.toml");
        fs::write(&list, format!("[program.{name}]\npath = \"{}\"\n", path.display())).unwrap();
        fs::set_permissions(list, fs::Permissions::from_mode(0o600)).unwrap();
    }

    /// Imports a key with its secret part, made by GnuPG.
    pub fn import_key(&self, name: &str) {
        let file = self.make_key();
        assert!(self.wetbank(&["key", "import", name, file.to_str().unwrap()]).status.success());
    }

    /// A file with a key of the office's own, made by GnuPG.
    pub fn make_key(&self) -> PathBuf {
        let home = self.path("gpg");
        fs::create_dir(&home).unwrap();
        let gpg = |words: &[&str]| {
            let output = Command::new("gpg")
                .arg("--homedir")
                .arg(&home)
                .args(["--batch", "--quiet"])
                .args(words)
                .output()
                .unwrap();
            assert!(output.status.success(), "{words:?}: {}", String::from_utf8_lossy(&output.stderr));
            output.stdout
        };
        gpg(&["--passphrase", "", "--quick-gen-key", "Merrow <office@merrow.example>", "default", "default", "never"]);
        let file = self.path("key.asc");
        fs::write(&file, gpg(&["--armor", "--export-secret-keys"])).unwrap();
        file
    }

    /// The most memory in bytes that the service ever had.
    pub fn peak_memory(&self) -> u64 {
        let id = self.service.as_ref().unwrap().id();
        let status = fs::read_to_string(format!("/proc/{id}/status")).unwrap();
        let line = status.lines().find_map(|line| line.strip_prefix("VmHWM:")).unwrap();
        line.trim().trim_end_matches("kB").trim().parse::<u64>().unwrap() << 10
    }

    pub fn url(&self) -> String {
        let address = fs::read_to_string(self.data().join("address")).unwrap();
        let first = address.split_whitespace().next().unwrap_or_default();
        if first.starts_with("https://") { first.to_owned() } else { format!("http://{first}") }
    }

    pub fn token(&self) -> String {
        fs::read_to_string(self.data().join("token")).unwrap()
    }

    /// Runs a command of the binary.
    pub fn wetbank(&self, words: &[&str]) -> Output {
        self.wetbank_with(words, "")
    }

    pub fn wetbank_with(&self, words: &[&str], input: &str) -> Output {
        use std::io::Write;
        let mut child = Command::new(BINARY)
            .args(words)
            .env("WETBANK_DATA", self.data())
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(Stdio::piped())
            .spawn()
            .unwrap();
        child.stdin.take().unwrap().write_all(input.as_bytes()).unwrap();
        child.wait_with_output().unwrap()
    }

    /// Runs a command that must be done, and reads its JSON.
    pub fn json(&self, words: &[&str]) -> Value {
        let mut all = vec!["--json"];
        all.extend(words);
        let output = self.wetbank(&all);
        assert!(output.status.success(), "{words:?}: {}", String::from_utf8_lossy(&output.stderr));
        serde_json::from_slice(&output.stdout).unwrap_or(Value::Null)
    }

    /// Puts a book in force; `@` stands for this office's folder.
    pub fn book(&self, text: &str) {
        let output = self.try_book(text);
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    }

    pub fn try_book(&self, text: &str) -> Output {
        let file = self.path("book.toml");
        fs::write(&file, text.replace("\"@/", &format!("\"{}/", self.folder.path().display()))).unwrap();
        self.wetbank(&["book", "apply", file.to_str().unwrap()])
    }

    /// Adds to the book that was applied last.
    pub fn add(&self, text: &str) {
        let book = fs::read_to_string(self.path("book.toml")).unwrap();
        self.book(&(book + text));
    }

    /// Puts a file in place, making its folder.
    pub fn put(&self, below: &str, content: &[u8]) -> PathBuf {
        let path = self.path(below);
        fs::create_dir_all(path.parent().unwrap()).unwrap();
        let aside = path.parent().unwrap().join(".wetbank-arriving");
        fs::write(&aside, content).unwrap();
        fs::rename(aside, &path).unwrap();
        path
    }

    pub fn holds(&self) -> Vec<Value> {
        self.json(&["hold", "list"])["holds"].as_array().unwrap().clone()
    }

    /// Waits for the one hold there is.
    pub fn hold(&self) -> Value {
        wait_for("something is held", || self.holds().into_iter().next())
    }

    /// Why a place is away, once a file waits for it.
    pub fn waits_for(&self, place: &str) -> String {
        wait_for("a file waits for the place", || {
            let (status, shown) = (self.json(&["status"]), self.json(&["place", "show", place]));
            assert_eq!(status["held"], 0, "the file has no fault");
            (status["waiting"] == 1 && shown["state"] == "away").then(|| shown["error"].as_str().unwrap().to_owned())
        })
    }

    /// Waits until nothing is queued, in work or waiting.
    pub fn wait_idle(&self) {
        wait_for("all work is done", || {
            let status = self.json(&["status"]);
            let open =
                ["queued", "working", "waiting", "joining"].iter().map(|k| status[k].as_i64().unwrap()).sum::<i64>();
            (open == 0).then_some(())
        });
    }

    /// Nothing stays in the work folder: it is cleared right after an item is at its end.
    pub fn wait_work_cleared(&self) {
        wait_for("the work folder is empty", || names(&self.data().join("work")).is_empty().then_some(()));
    }

    pub fn runs(&self) -> Vec<Value> {
        self.json(&["run", "list", "--limit", "500"])["runs"].as_array().unwrap().clone()
    }
}

/// Names in a folder, sorted.
pub fn names(folder: &Path) -> Vec<String> {
    let Ok(entries) = fs::read_dir(folder) else { return Vec::new() };
    let mut names: Vec<_> = entries.map(|e| e.unwrap().file_name().to_string_lossy().into_owned()).collect();
    names.sort();
    names
}

/// Every file below a folder that looks like unfinished work.
pub fn leftovers(folder: &Path) -> Vec<PathBuf> {
    let mut found = Vec::new();
    for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
        let (path, name) = (entry.path(), entry.file_name().to_string_lossy().into_owned());
        if path.is_dir() {
            found.extend(leftovers(&path));
        } else if name.starts_with(".wetbank-") || name.ends_with(".part") {
            found.push(path);
        }
    }
    found
}
