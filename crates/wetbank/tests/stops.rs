//! The service is ended without warning in the middle of every kind of step.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

mod support;

use std::{collections::BTreeMap, fs, os::unix::fs::PermissionsExt, path::PathBuf, process::Command, time::Duration};

use serde_json::Value;
use support::{Office, desk::Desk, leftovers, names, servers::mailbox, wait_for};
use wetbank_testbed::{MAIL_USER, PostOffice};

const RULES: &str = r#"
[rule.long-way]
retry = { attempts = 20, first = "100ms", longest = "1s" }
starts = { arrival = { place = "office", folder = "in" } }
[[rule.long-way.branch]]
steps = [
  { compress = { with = "zstd" } },
  { encrypt = { passphrase = { secret = "phrase" } } },
  { note = { text = "number {{ count }}" } },
  { decrypt = { passphrase = { secret = "phrase" } } },
  { expand = {} },
  { make-folder = { to = "archive", folder = "made/{{ file.stem }}" } },
  { load = { into = "survey", table = "gauge" } },
  { call = { url = "http://127.0.0.1:@desk@/told", json = { name = "{{ file.name }}" } } },
  { program = { run = "stamp", args = ["{{ local }}"], as = "{{ file.stem }}.txt", again = true } },
  { mail = { by = "post", to = "wardens@merrow.example", subject = "told of {{ file.name }}" } },
  { mail = { by = "post", to = "wardens@merrow.example", subject = "carried {{ file.name }}", attach = ["*"] } },
  { copy = { to = "archive", folder = "copied" } },
  { move = { to = "archive", folder = "moved", as = "{{ count | pad(3) }}-{{ file.name }}" } },
]
original = { move-to = "done" }

[rule.report]
retry = { attempts = 20, first = "100ms", longest = "1s" }
starts = { chain = { after = ["moved"], rules = ["long-way"] } }
[[rule.report.branch]]
steps = [
  { extract = { from = "survey", table = "gauge", as = "{{ file.stem }}.csv" } },
  { sign = { by = "merrow" } },
  { deliver = { to = "archive", folder = "reports" } },
]
"#;

fn sqlite(file: &std::path::Path, query: &str) -> String {
    let script = "import sqlite3, sys\nc = sqlite3.connect(sys.argv[1], timeout=30)\nr = c.execute(sys.argv[2]).fetchall()\nc.commit()\nprint('\\n'.join('|'.join(map(str, row)) for row in r))";
    let output = Command::new("python3").args(["-c", script]).arg(file).arg(query).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    String::from_utf8_lossy(&output.stdout).trim().to_owned()
}

/// How often each identifier of a letter was sent, by its subject.
fn sent(post: &PostOffice) -> BTreeMap<String, Vec<String>> {
    let mut by_subject: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for letter in post.sent() {
        let field = |name: &str| letter.lines().find_map(|line| line.strip_prefix(name)).unwrap_or_default().to_owned();
        by_subject.entry(field("Subject: ")).or_default().push(field("Message-ID: "));
    }
    by_subject
}

/// An office in which a file takes a long way, with all that its steps need.
struct LongWay {
    office: Office,
    post: PostOffice,
    desk: Desk,
    database: PathBuf,
}

fn content(number: usize) -> String {
    format!("station,level\nB{number:03},{number}.5\n")
}

impl LongWay {
    fn new() -> Self {
        let (post, desk, office) = (PostOffice::start(), Desk::always("200 OK|noted"), Office::open());
        let database = office.path("survey.db");
        sqlite(&database, "CREATE TABLE gauge (station TEXT, level REAL)");
        for (name, secret) in [("post", MAIL_USER.1), ("phrase", "grey heron at low tide")] {
            assert!(office.wetbank_with(&["secret", "set", name], secret).status.success());
        }
        office.allow("stamp", "sleep 0.02; cat \"$1\"; echo stamped");
        office.import_key("merrow");
        for folder in ["archive", "office/in"] {
            fs::create_dir_all(office.path(folder)).unwrap();
            fs::set_permissions(office.path(folder), fs::Permissions::from_mode(0o755)).unwrap();
        }
        let places = format!(
            "{}[place.office]\nkind = \"folder\"\nroot = \"@/office\"\n[place.archive]\nkind = \"folder\"\nroot = \"@/archive\"\n\
             [database.survey]\nkind = \"sqlite\"\nfile = \"{}\"\n",
            mailbox("post", &post),
            database.display()
        );
        office.book(&format!("{places}{}", RULES.replace("@desk@", &desk.port.to_string())));
        Self { office, post, desk, database }
    }

    fn put(&self, number: usize) {
        self.office.put(&format!("office/in/sheet-{number:03}.csv"), content(number).as_bytes());
    }

    /// Whether so many files are at the end of their way, and what they started is.
    fn is_through(&self, files: usize) -> bool {
        names(&self.office.path("office/in/done")).len() == files
            && names(&self.office.path("archive/reports")).len() == 2 * files
    }

    fn wait_through(&self, files: usize) {
        wait_for(&format!("{files} files are through"), || {
            assert_eq!(self.office.holds(), Vec::<Value>::new());
            self.is_through(files).then_some(())
        });
        self.office.wait_idle();
        assert_eq!(self.office.holds(), Vec::<Value>::new());
    }

    /// Each of so many files went its whole way once and left nothing behind.
    fn check(&self, files: usize) {
        let (office, post) = (&self.office, &self.post);
        let expected: Vec<String> = (0..files).map(|number| format!("sheet-{number:03}.txt")).collect();
        assert_eq!(names(&office.path("archive/copied")), expected);
        let moved = names(&office.path("archive/moved"));
        let (counts, mut moved): (Vec<_>, Vec<_>) =
            moved.iter().map(|name| name.split_once('-').map(|(a, b)| (a.to_owned(), b.to_owned())).unwrap()).unzip();
        moved.sort();
        assert_eq!(moved, expected);
        let numbers: Vec<String> = (1..=files).map(|number| format!("{number:03}")).collect();
        assert_eq!(counts, numbers, "no number was given twice, and none is missing");
        for number in 0..files {
            let path = office.path(&format!("archive/copied/sheet-{number:03}.txt"));
            assert_eq!(fs::read_to_string(path).unwrap(), content(number) + "stamped\n");
            assert!(office.path(&format!("archive/made/sheet-{number:03}")).is_dir());
        }
        let rows = sqlite(&self.database, "SELECT count(*), count(DISTINCT station) FROM gauge");
        assert_eq!(rows, format!("{files}|{files}"));
        // What cannot be done exactly once bears the same sign each time.
        let mut keys: BTreeMap<String, Vec<String>> = BTreeMap::new();
        for (head, body) in self.desk.asked() {
            let key = head
                .lines()
                .find_map(|line| line.to_ascii_lowercase().strip_prefix("idempotency-key: ").map(str::to_owned));
            keys.entry(String::from_utf8_lossy(&body).into_owned()).or_default().push(key.unwrap());
        }
        wait_for("all are told of", || (sent(post).len() == 2 * files).then_some(()));
        let letters = sent(post);
        assert_eq!((keys.len(), letters.len()), (files, 2 * files));
        for (what, mut signs) in keys.into_iter().chain(letters) {
            signs.dedup();
            assert_eq!(signs.len(), 1, "{what}: {signs:?}");
        }
        assert_eq!(leftovers(&office.path("archive")).len() + leftovers(&office.path("office")).len(), 0);
        office.wait_work_cleared();
        wait_for("the outbox is empty", || names(&office.data().join("outbox")).is_empty().then_some(()));
    }
}

#[test]
fn killed_in_the_middle_of_every_kind_of_step_each_file_goes_its_whole_way_once() {
    const FILES: usize = 24;
    let mut way = LongWay::new();
    (0..FILES).for_each(|number| way.put(number));
    for round in 0..14u64 {
        std::thread::sleep(Duration::from_millis(60 + (round * 137) % 420));
        way.office.kill();
        way.office.start();
    }
    way.wait_through(FILES);
    way.check(FILES);
}

/// The service is ended before one of the calls with which it changes the disk, for each file before
/// another of them. All of them take long; a test takes some, spread evenly.
#[cfg(target_arch = "x86_64")]
#[test]
fn cut_off_before_any_change_of_the_disk_each_file_goes_its_whole_way_once() {
    const CUTS: usize = 16;
    let mut way = LongWay::new();
    way.office.kill();
    way.put(0);
    let whole = way.office.start_cut(usize::MAX);
    wait_for("the first file is through, uncut", || way.is_through(1).then_some(()));
    let calls = whole.end().calls;
    assert!(calls > 50, "{calls}");
    let cuts = std::env::var("WETBANK_CUTS").map_or(CUTS, |number| number.parse().unwrap()).min(calls);
    let mut files = 1;
    for cut in 0..cuts {
        way.put(files);
        files += 1;
        let at = 1 + cut * calls / cuts;
        let mut told = Vec::new();
        // Every third time the start after it is cut off as well.
        for at in std::iter::once(at).chain((cut % 3 == 2).then_some(1 + at % 40)) {
            let service = way.office.start_cut(at);
            wait_for("it is cut off or done", || (service.is_over() || way.is_through(files)).then_some(()));
            told.push((at, service.end().cut));
        }
        way.office.start();
        let through = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| way.wait_through(files)));
        assert!(through.is_ok(), "file {}, cut off at {told:?} of {calls}", files - 1);
        way.office.kill();
    }
    way.office.start();
    way.check(files);
}
