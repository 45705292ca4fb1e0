//! Browsing, and copying and moving by hand.

use std::fs;

use crate::support::{Archive, Office, leftovers, names, wait_for};

/// An office with an archive in a bucket.
fn office() -> (Office, Archive) {
    let (office, archive) = (Office::open(), Archive::open());
    let place = archive.place(&office, "archive");
    office.book(&format!("[place.office]\nkind = \"folder\"\nroot = \"@/office\"\n{place}"));
    (office, archive)
}

fn text(output: &std::process::Output) -> String {
    String::from_utf8_lossy(&output.stdout).into_owned() + &*String::from_utf8_lossy(&output.stderr)
}

#[test]
fn a_folder_is_moved_to_a_bucket_by_hand_with_all_below_it_and_every_file_is_on_record() {
    let (office, archive) = office();
    for name in ["2026/a.csv", "2026/03/b.csv", "2026/03/14/c.csv"] {
        office.put(&format!("office/out/{name}"), name.as_bytes());
    }
    office.put("office/out/2025.csv", b"stays");
    let moved = office.wetbank(&["place", "move", "office:/out/2026", "archive:/survey {{ x }}"]);
    assert!(moved.status.success() && text(&moved).contains("moving 3 files"), "{}", text(&moved));
    office.wait_idle();
    let expected = ["2026/03/14/c.csv", "2026/03/b.csv", "2026/a.csv"];
    assert_eq!(archive.keys(), expected.map(|name| format!("survey {{{{ x }}}}/{name}")));
    assert_eq!(archive.object("survey {{ x }}/2026/a.csv").unwrap(), b"2026/a.csv");
    assert!(names(&office.path("office/out/2026/03/14")).is_empty(), "they are gone here");
    assert!(office.path("office/out/2025.csv").exists());
    let runs = office.runs();
    assert_eq!(runs.len(), 3);
    assert!(runs.iter().all(|run| run["state"] == "done" && run["title"] == "By hand"), "{runs:#?}");
    let traced = office.json(&["trace", "b.csv"]);
    assert!(traced.to_string().contains("archive:/survey {{ x }}/2026/03/b.csv"), "{traced}");
}

#[test]
fn a_taken_name_is_held_or_both_are_kept_and_nothing_is_lost() {
    let (office, archive) = office();
    archive.put("in/a.csv", "theirs");
    office.put("office/a.csv", b"ours");
    assert!(office.wetbank(&["place", "move", "office:/a.csv", "archive:/in"]).status.success());
    let hold = office.hold();
    assert_eq!(hold["code"], "exists");
    assert_eq!(hold["title"], "By hand");
    assert_eq!(fs::read(office.path("office/a.csv")).unwrap(), b"ours");
    let item = hold["item"].to_string();
    assert!(office.wetbank(&["hold", "dismiss", &item, "--why", "kept both instead"]).status.success());
    let kept = office.wetbank(&["place", "copy", "office:/a.csv", "archive:/in", "--exists", "keep-both"]);
    assert!(kept.status.success(), "{}", text(&kept));
    wait_for("both are kept", || (archive.keys() == ["in/a (2).csv", "in/a.csv"]).then_some(()));
    assert_eq!(archive.object("in/a.csv").unwrap(), b"theirs");
    office.wait_idle();
    assert!(leftovers(office.folder.path()).is_empty());
}

#[test]
fn what_makes_no_sense_by_hand_is_refused_with_its_reason() {
    let (office, archive) = office();
    office.put("office/in/a.csv", b"a");
    for (from, to, words) in [
        ("office:/in/no.csv", "archive:/in", "it is not there"),
        ("office:/in/a.csv", "office:/in", "is where these files are"),
        ("office:/in/a.csv", "nowhere:/in", "there is no place \"nowhere\""),
        ("office:/in/a.csv", "archive", "names no place"),
        ("office:/", "archive:/in", "names no file or folder"),
        ("office:/in/../../etc/passwd", "archive:/in", ".."),
    ] {
        let refused = office.wetbank(&["place", "copy", from, to]);
        assert!(!refused.status.success() && text(&refused).contains(words), "{from} {to}: {}", text(&refused));
    }
    assert!(archive.keys().is_empty() && office.runs().is_empty());
    let named = office.try_book("[place.o]\nkind = \"folder\"\nroot = \"/srv\"\n[rule.by-hand]\nstarts = { arrival = { place = \"o\" } }\n[[rule.by-hand.branch]]\nsteps = [ { delete = {} } ]\n");
    assert!(text(&named).contains("is the name of what people do by hand"), "{}", text(&named));
}

#[test]
fn a_move_by_hand_goes_on_after_the_service_was_ended_without_warning() {
    let (mut office, archive) = office();
    for number in 0..300 {
        office.put(&format!("office/out/{number:03}.csv"), format!("{number}").repeat(9000).as_bytes());
    }
    assert!(office.wetbank(&["place", "move", "office:/out", "archive:/kept"]).status.success());
    office.kill();
    office.start();
    wait_for("every file", || (archive.keys().len() == 300).then_some(()));
    office.wait_idle();
    assert!(office.holds().is_empty() && names(&office.path("office/out")).is_empty());
    for number in 0..300 {
        let there = archive.object(&format!("kept/out/{number:03}.csv")).unwrap();
        assert!(there == format!("{number}").repeat(9000).as_bytes());
    }
}

#[test]
fn a_long_folder_is_browsed_to_its_end() {
    let (office, archive) = office();
    for number in 0..1300 {
        archive.put(&format!("gauges/{number:04}.csv"), "x");
    }
    archive.put(".wetbank-1", "ours");
    let listed = office.json(&["place", "browse", "archive:/gauges", "--limit", "1250"]);
    assert_eq!(listed["entries"].as_array().unwrap().len(), 1250);
    assert!(listed["next"].is_u64(), "there is more");
    let listed = office.json(&["place", "browse", "archive:/gauges", "--limit", "5000"]);
    let mut paths: Vec<_> = listed["entries"].as_array().unwrap().iter().map(|e| e["path"].to_string()).collect();
    paths.sort();
    paths.dedup();
    assert_eq!((paths.len(), &listed["next"]), (1300, &serde_json::Value::Null));
    let top = office.wetbank(&["place", "browse", "archive:"]);
    assert!(text(&top).contains("gauges") && !text(&top).contains(".wetbank-"), "{}", text(&top));
}
