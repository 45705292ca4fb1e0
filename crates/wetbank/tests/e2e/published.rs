//! Tables that a web server publishes, fetched and written as the office's programs want them.

use std::fs;

use wetbank_testbed::{Apache, WEBDAV_USER};

use crate::support::{Office, names, wait_for};

const RULE: &str = r#"
[rule.tides]
starts = { schedule = { every = "1 s" } }
finds = [ { place = "tables", below = true, only-new = true } ]
[[rule.tides.branch]]
steps = [
  { convert-text = { to = "windows-1252", lines = "cr-lf" } },
  { fetch = { to = "office", folder = "tides", exists = "replace" } },
]
"#;

#[test]
fn published_files_are_fetched_when_they_are_new_and_their_text_is_converted() {
    let (server, office) = (Apache::start(false), Office::open());
    let published = |name: &str, text: &str| fs::write(server.root.path().join(name), text).unwrap();
    published("north.csv", "Hafen;Höhe\nÅlesund;4,2\n");
    published("south.csv", "Hafen;Höhe\nθ;1\n");
    let root = office.path("office");
    fs::create_dir_all(&root).unwrap();
    office.wetbank(&["place", "add", "office", "--kind", "folder", "--root", root.to_str().unwrap()]);
    // The password is asked for because a user is named.
    let words = ["place", "add", "tables", "--kind", "web", "--url", &server.url, "--user", WEBDAV_USER.0];
    let files = ["--files", "north.csv", "--files", "south.csv", "--files", "not-yet.csv"];
    let added = office.wetbank_with(&[&words[..], &files].concat(), WEBDAV_USER.1);
    assert!(added.status.success(), "{}", String::from_utf8_lossy(&added.stdout));
    let book = office.path("rules.toml");
    assert!(office.wetbank(&["book", "export", book.to_str().unwrap()]).status.success());
    fs::write(&book, fs::read_to_string(&book).unwrap() + RULE).unwrap();
    let applied = office.wetbank(&["book", "apply", book.to_str().unwrap()]);
    assert!(applied.status.success(), "{}", String::from_utf8_lossy(&applied.stderr));
    let fetched = |name: &str| fs::read(office.path("office/tides").join(name)).ok();
    wait_for("the first table", || fetched("north.csv"));
    assert_eq!(fetched("north.csv").unwrap(), b"Hafen;H\xF6he\r\n\xC5lesund;4,2\r\n");
    // A letter that the other encoding cannot hold: held, with its line, and nothing is put there.
    let hold = wait_for("the other to be held", || office.holds().into_iter().next());
    assert!(hold["why"].as_str().unwrap().contains("line 2 has \"θ\""), "{hold}");
    assert_eq!(names(&office.path("office/tides")), ["north.csv"]);
    published("not-yet.csv", "now\n");
    wait_for("what was published later", || fetched("not-yet.csv"));
    office.wait_idle();
    let runs = office.runs();
    let north = runs.iter().filter(|run| run["file"].as_str().is_some_and(|file| file.ends_with("north.csv"))).count();
    assert!(north <= 1, "one that did not change is not fetched again: {runs:#?}");
}
