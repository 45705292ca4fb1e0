//! A file is taken when its writer has closed it, however long that takes and however the rule came to see it.

use std::{
    fs::{self, File, OpenOptions},
    io::Write,
    time::Duration,
};

use crate::support::{Office, PLACES, names, office, wait_for};

/// Longer than any time that a found file must be unchanged.
const PAUSE: Duration = Duration::from_millis(4500);

const TAKES: &str = r#"
[rule.takes]
starts = { arrival = { place = "office", folder = "in", below = true } }
[[rule.takes.branch]]
steps = [ { copy = { to = "archive" } } ]
original = "delete"
"#;

/// A writer that has written the first half of a file.
fn begins(office: &Office, below: &str) -> File {
    let path = office.path(below);
    fs::create_dir_all(path.parent().unwrap()).unwrap();
    let mut file = File::create(path).unwrap();
    file.write_all(&[b'a'; 1000]).unwrap();
    file
}

/// The writer pauses, then writes the second half and closes; all of it arrives, once.
fn ends(office: &Office, mut file: File, name: &str) {
    std::thread::sleep(PAUSE);
    assert!(names(&office.path("archive")).is_empty(), "it was taken while its writer had it open");
    file.write_all(&[b'b'; 1000]).unwrap();
    drop(file);
    arrived(office, name);
}

fn arrived(office: &Office, name: &str) {
    wait_for("it arrived", || office.path(&format!("archive/{name}")).exists().then_some(()));
    office.wait_idle();
    assert_eq!(fs::metadata(office.path(&format!("archive/{name}"))).unwrap().len(), 2000);
    assert_eq!(names(&office.path("archive")), [name], "and nothing else");
}

/// Waits until another file is taken from the same folder, and sets that aside.
fn is_watched(office: &Office, below: &str) {
    let before = office.put(&below.replace("slow", "first"), b"first");
    let first = before.file_name().unwrap();
    wait_for("the folder is watched", || office.path("archive").join(first).exists().then_some(()));
    office.wait_idle();
    fs::remove_file(office.path("archive").join(first)).unwrap();
}

#[test]
fn in_a_watched_folder_and_below_it() {
    for below in ["office/in/slow.csv", "office/in/boats/slow.csv"] {
        let office = office(TAKES);
        fs::create_dir_all(office.path("office/in/boats")).unwrap();
        is_watched(&office, below);
        let file = begins(&office, below);
        ends(&office, file, "slow.csv");
        assert!(!office.path(below).exists());
    }
}

#[test]
fn in_a_folder_that_came_with_it() {
    let office = office(TAKES);
    is_watched(&office, "office/in/first.csv");
    let file = begins(&office, "office/in/new/slow.csv");
    ends(&office, file, "slow.csv");
}

#[test]
fn begun_before_the_service_was() {
    let mut office = office(TAKES);
    office.stop();
    let file = begins(&office, "office/in/slow.csv");
    // An old time says nothing as long as somebody writes.
    let old = std::time::SystemTime::now() - Duration::from_secs(3600);
    file.set_modified(old).unwrap();
    office.start();
    ends(&office, file, "slow.csv");
}

#[test]
fn begun_before_the_book_was_applied() {
    let office = office("");
    let file = begins(&office, "office/in/slow.csv");
    office.book(&format!("{PLACES}{TAKES}"));
    ends(&office, file, "slow.csv");
}

#[test]
fn asked_for_by_hand() {
    let by_hand = TAKES.replace("arrival = { place = \"office\", folder = \"in\", below = true }", "hand = {}");
    let by_hand = by_hand.replace("[[rule", "finds = [ { place = \"office\", folder = \"in\" } ]\n[[rule");
    let office = office(&by_hand);
    let mut file = begins(&office, "office/in/slow.csv");
    // Asked for by name it is refused, with the reason.
    let refused = office.wetbank(&["rule", "run", "takes", "--file", "office:/in/slow.csv"]);
    let said = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert!(!refused.status.success() && said.contains("open for writing"), "{said}");
    let refused = office.wetbank(&["place", "copy", "office:/in/slow.csv", "archive:/slow.csv"]);
    assert!(!refused.status.success());
    // A search leaves it for the next run, and says so.
    office.json(&["rule", "run", "takes"]);
    office.wait_idle();
    assert!(names(&office.path("archive")).is_empty());
    let run = office.json(&["run", "show", "1"]);
    assert!(run.to_string().contains("left 1 that somebody still writes"), "{run}");
    file.write_all(&[b'b'; 1000]).unwrap();
    drop(file);
    office.json(&["rule", "run", "takes"]);
    arrived(&office, "slow.csv");
}

#[test]
fn a_file_that_is_written_again_after_it_was_copied_stays() {
    let rule = TAKES.replace(
        "{ copy = { to = \"archive\" } }",
        "{ copy = { to = \"archive\" } }, { program = { run = \"waits\" } }",
    );
    let office = office("");
    let go = office.path("go");
    office.allow("waits", &format!("while [ ! -e '{}' ]; do sleep 0.05; done", go.display()));
    office.book(&format!("{PLACES}{rule}"));
    office.put("office/in/slow.csv", &[b'a'; 2000]);
    wait_for("it is copied", || office.path("archive/slow.csv").exists().then_some(()));
    let mut file = OpenOptions::new().append(true).open(office.path("office/in/slow.csv")).unwrap();
    fs::write(go, "").unwrap();
    wait_for("it waits for its writer", || (office.json(&["status"])["waiting"] == 1).then_some(()));
    assert!(office.path("office/in/slow.csv").exists(), "somebody has it open");
    file.write_all(b"more").unwrap();
    drop(file);
    // What was added is taken as a new state of the file, under another name or as a hold: it is not lost.
    wait_for("what was added is seen", || {
        let hold = office.holds().into_iter().next();
        (hold.is_some() || !office.path("office/in/slow.csv").exists()).then_some(())
    });
    let kept = [office.path("office/in/slow.csv"), office.path("archive/slow.csv")];
    assert!(kept.iter().any(|path| fs::read(path).is_ok_and(|content| content.ends_with(b"more"))));
}
