//! The service is ended without warning in the middle of every kind of step.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

mod support;

use std::{collections::BTreeMap, fs, os::unix::fs::PermissionsExt, process::Command, time::Duration};

use serde_json::Value;
use support::{Office, desk::Desk, leftovers, names, servers::mailbox, wait_for};
use wetbank_testbed::{MAIL_USER, PostOffice};

const FILES: usize = 24;

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

#[test]
fn killed_in_the_middle_of_every_kind_of_step_each_file_goes_its_whole_way_once() {
    let post = PostOffice::start();
    let desk = Desk::always("200 OK|noted");
    let mut office = Office::open();
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
    let content = |number: usize| format!("station,level\nB{number:02},{number}.5\n");
    for number in 0..FILES {
        office.put(&format!("office/in/sheet-{number:02}.csv"), content(number).as_bytes());
    }
    for round in 0..14u64 {
        std::thread::sleep(Duration::from_millis(60 + (round * 137) % 420));
        office.kill();
        office.start();
    }
    wait_for("all are done", || {
        assert_eq!(office.holds(), Vec::<Value>::new());
        (names(&office.path("office/in/done")).len() == FILES).then_some(())
    });
    wait_for("all reports are there", || (names(&office.path("archive/reports")).len() == 2 * FILES).then_some(()));
    office.wait_idle();
    assert_eq!(office.holds(), Vec::<Value>::new());
    let expected: Vec<String> = (0..FILES).map(|number| format!("sheet-{number:02}.txt")).collect();
    assert_eq!(names(&office.path("archive/copied")), expected);
    let mut moved: Vec<String> = Vec::new();
    let mut counts: Vec<String> = Vec::new();
    for name in names(&office.path("archive/moved")) {
        let (count, rest) = name.split_once('-').unwrap();
        counts.push(count.to_owned());
        moved.push(rest.to_owned());
    }
    moved.sort();
    counts.dedup();
    assert_eq!((moved, counts.len()), (expected, FILES), "no number was given twice");
    for number in 0..FILES {
        let path = office.path(&format!("archive/copied/sheet-{number:02}.txt"));
        assert_eq!(fs::read_to_string(path).unwrap(), content(number) + "stamped\n");
        assert!(office.path(&format!("archive/made/sheet-{number:02}")).is_dir());
    }
    assert_eq!(sqlite(&database, "SELECT count(*), count(DISTINCT station) FROM gauge"), format!("{FILES}|{FILES}"));
    // What cannot be done exactly once bears the same sign each time.
    let mut keys: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for (head, body) in desk.asked() {
        let key = head
            .lines()
            .find_map(|line| line.to_ascii_lowercase().strip_prefix("idempotency-key: ").map(str::to_owned));
        keys.entry(String::from_utf8_lossy(&body).into_owned()).or_default().push(key.unwrap());
    }
    wait_for("all are told of", || (sent(&post).len() == 2 * FILES).then_some(()));
    let letters = sent(&post);
    assert_eq!((keys.len(), letters.len()), (FILES, 2 * FILES));
    for (what, mut signs) in keys.into_iter().chain(letters) {
        signs.dedup();
        assert_eq!(signs.len(), 1, "{what}: {signs:?}");
    }
    assert_eq!(leftovers(&office.path("archive")).len() + leftovers(&office.path("office")).len(), 0);
    assert_eq!(names(&office.data().join("work")), [""; 0]);
    wait_for("the outbox is empty", || names(&office.data().join("outbox")).is_empty().then_some(()));
}
