//! Files through rules, with the real binary: what arrives, what is refused, what is held.

use std::{fs, io::Write, os::unix::ffi::OsStrExt};

use crate::support::{Office, leftovers, names, wait_for};
use wetbank_testbed::SmallDisk;

const COPY: &str = r#"
[place.office]
kind = "folder"
root = "@/office"

[place.archive]
kind = "folder"
root = "@/archive"

[rule.keep]
title = "Keep everything"
starts = { arrival = { place = "office", folder = "in" } }
retry = { attempts = 3, first = "100ms" }
[[rule.keep.branch]]
steps = [ { copy = { to = "archive" } } ]
"#;

fn copying() -> Office {
    let office = Office::open();
    fs::create_dir_all(office.path("office/in")).unwrap();
    fs::create_dir_all(office.path("archive")).unwrap();
    office.book(COPY);
    office
}

#[test]
fn a_file_dropped_in_a_folder_is_copied_once_and_journalled_with_its_checksum() {
    let office = copying();
    office.put("office/in/gauge-07.csv", b"abc");
    wait_for("the copy", || office.path("archive/gauge-07.csv").exists().then_some(()));
    office.wait_idle();
    assert_eq!(fs::read(office.path("archive/gauge-07.csv")).unwrap(), b"abc");
    let runs = office.runs();
    assert_eq!(runs.len(), 1, "{runs:?}");
    let run = office.json(&["run", "show", &runs[0]["id"].to_string()]);
    let attempt = &run["items"][0]["attempts"][0];
    assert_eq!(attempt["sha256"], "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad");
    assert_eq!(attempt["target"], "archive:/gauge-07.csv");
    let traced = office.json(&["trace", "auge-07"]);
    assert_eq!(traced["items"][0]["state"], "done");
    let by_sum = office.json(&["trace", "ba7816bf8f01"]);
    assert_eq!(by_sum["items"][0]["file"], "office:/in/gauge-07.csv");
}

#[test]
fn a_copy_for_which_no_sha256_is_wanted_is_checked_all_the_same() {
    let office = copying();
    office.book(&COPY.replace("copy = { to", "copy = { sha256 = false, to"));
    office.put("office/in/gauge-07.csv", b"abc");
    wait_for("the copy", || office.path("archive/gauge-07.csv").exists().then_some(()));
    office.wait_idle();
    let run = office.json(&["run", "show", &office.runs()[0]["id"].to_string()]);
    let attempt = &run["items"][0]["attempts"][0];
    assert!(attempt["sha256"].is_null(), "{attempt}");
    assert_eq!(attempt["blake3"], "6437b3ac38465133ffb63b75273a8db548c558465d79db03fd359c6cd5bd9d85");
    let words = office.json(&["rule", "show", "keep"]).to_string();
    assert!(words.contains("without a SHA-256"), "{words}");
}

#[test]
fn a_file_still_being_written_is_taken_when_it_is_closed() {
    let office = copying();
    let mut file = fs::File::create(office.path("office/in/slow.csv")).unwrap();
    for round in 0..10 {
        file.write_all(b"part").unwrap();
        office.put(&format!("office/in/{round}.csv"), b"whole");
        wait_for("what came later", || office.path(&format!("archive/{round}.csv")).exists().then_some(()));
        assert!(!office.path("archive/slow.csv").exists());
    }
    drop(file);
    wait_for("the copy", || office.path("archive/slow.csv").exists().then_some(()));
    assert_eq!(fs::read(office.path("archive/slow.csv")).unwrap(), b"part".repeat(10));
}

#[test]
fn awkward_names_arrive_as_they_are_and_what_is_no_file_is_left_alone() {
    let office = copying();
    let folder = office.path("office/in");
    let long = "n".repeat(255);
    let wanted: [&[u8]; 4] = [b"line\nbreak.csv", b"caf\xe9.csv", long.as_bytes(), b"-rf *.csv"];
    fs::create_dir(folder.join("a-folder.csv")).unwrap();
    std::os::unix::fs::symlink("/etc/passwd", folder.join("link.csv")).unwrap();
    assert!(std::process::Command::new("mkfifo").arg(folder.join("pipe.csv")).status().unwrap().success());
    for name in wanted {
        fs::write(folder.join(std::ffi::OsStr::from_bytes(name)), name).unwrap();
    }
    for name in wanted {
        let there = office.path("archive").join(std::ffi::OsStr::from_bytes(name));
        wait_for("an awkward name", || there.exists().then_some(()));
        assert_eq!(fs::read(there).unwrap(), name);
    }
    office.wait_idle();
    assert_eq!(names(&office.path("archive")).len(), 4);
    assert!(office.holds().is_empty());
}

#[test]
fn a_file_that_came_while_the_service_was_down_is_seen_at_the_start_and_none_is_taken_twice() {
    let mut office = copying();
    office.put("office/in/first.csv", b"1");
    wait_for("the first", || office.path("archive/first.csv").exists().then_some(()));
    office.wait_idle();
    office.stop();
    office.put("office/in/second.csv", b"2");
    office.start();
    wait_for("the second", || office.path("archive/second.csv").exists().then_some(()));
    office.wait_idle();
    assert_eq!(office.runs().len(), 2);
}

#[test]
fn folders_made_while_watching_are_watched_with_what_is_in_them() {
    let office = copying();
    office.book(
        &COPY
            .replace("folder = \"in\" }", "folder = \"in\", below = true }")
            .replace("to = \"archive\" }", "to = \"archive\", folder = \"{{ file.folder }}\" }"),
    );
    for number in 0..20 {
        let folder = office.path(&format!("office/in/boat-{number}/day"));
        fs::create_dir_all(&folder).unwrap();
        for file in 0..10 {
            fs::write(folder.join(format!("{file}.xyz")), "x").unwrap();
        }
    }
    let moved = office.path("aside");
    fs::create_dir(&moved).unwrap();
    fs::write(moved.join("inside.xyz"), "x").unwrap();
    fs::rename(&moved, office.path("office/in/moved-in")).unwrap();
    wait_for("all of them", || {
        let count = (0..20).map(|n| names(&office.path(&format!("archive/in/boat-{n}/day"))).len()).sum::<usize>();
        (count == 200 && office.path("archive/in/moved-in/inside.xyz").exists()).then_some(())
    });
    office.wait_idle();
    assert_eq!(office.json(&["status"])["today"]["done"], 201);
}

#[test]
fn a_taken_name_is_held_and_a_released_file_goes_on() {
    let office = copying();
    office.put("archive/bulletin.pdf", b"the old one");
    office.put("office/in/bulletin.pdf", b"the new one");
    let hold = office.hold();
    assert_eq!(hold["code"], "exists");
    assert_eq!(fs::read(office.path("archive/bulletin.pdf")).unwrap(), b"the old one");
    fs::remove_file(office.path("archive/bulletin.pdf")).unwrap();
    let item = hold["item"].to_string();
    assert!(office.wetbank(&["hold", "release", &item]).status.success());
    wait_for("the new one", || office.path("archive/bulletin.pdf").exists().then_some(()));
    office.wait_idle();
    assert!(office.holds().is_empty());
    assert_eq!(office.wetbank(&["hold", "release", &item]).status.code(), Some(2), "it is no longer held");
}

#[test]
fn a_dismissed_file_is_skipped_with_its_reason() {
    let office = copying();
    office.put("archive/bulletin.pdf", b"the old one");
    office.put("office/in/bulletin.pdf", b"the new one");
    let item = office.hold()["item"].to_string();
    assert_eq!(office.wetbank(&["hold", "dismiss", &item, "--why", " "]).status.code(), Some(2));
    assert!(office.wetbank(&["hold", "dismiss", &item, "--why", "sent by hand"]).status.success());
    assert!(office.holds().is_empty());
    let run = &office.runs()[0];
    assert_eq!(run["state"], "skipped");
    assert_eq!(run["why"], "dismissed: sent by hand");
    assert!(office.path("office/in/bulletin.pdf").exists());
}

#[test]
fn a_missing_target_place_is_waited_for() {
    let office = copying();
    fs::remove_dir(office.path("archive")).unwrap();
    office.put("office/in/gauge.csv", b"x");
    wait_for("it waits", || (office.json(&["status"])["waiting"] == 1).then_some(()));
    assert_eq!(office.json(&["status"])["places_away"][0], "archive");
    fs::create_dir(office.path("archive")).unwrap();
    wait_for("it arrives by itself", || office.path("archive/gauge.csv").exists().then_some(()));
}

#[test]
fn a_file_that_would_be_copied_onto_itself_does_not_count_as_arrived_and_is_kept() {
    let office = Office::open();
    // The same folder by two names, in the book and by a link of the machine.
    std::os::unix::fs::symlink(office.path("office"), office.path("same")).unwrap();
    let rule = |name: &str, target: &str| {
        format!(
            "[rule.{name}]\nstarts = {{ arrival = {{ place = \"office\", folder = \"{name}\" }} }}\n[[rule.{name}.branch]]\n\
             steps = [ {{ copy = {{ to = \"{target}\", folder = \"{name}\", exists = \"skip-same\" }} }} ]\noriginal = \"delete\"\n"
        )
    };
    let places =
        "[place.office]\nkind = \"folder\"\nroot = \"@/office\"\n[place.same]\nkind = \"folder\"\nroot = \"@/same\"\n";
    for name in ["plain", "around"] {
        fs::create_dir_all(office.path(&format!("office/{name}"))).unwrap();
    }
    office.book(&format!("{places}{}{}", rule("plain", "office"), rule("around", "same")));
    for (name, target) in [("plain", "office"), ("around", "same")] {
        let file = office.put(&format!("office/{name}/a.csv"), b"the only one");
        let hold = wait_for("it is held", || office.holds().into_iter().find(|hold| hold["rule"] == name));
        assert_eq!(hold["code"], "itself");
        assert_eq!(
            hold["why"],
            format!("{target}:/{name}/a.csv is the file itself, so nothing would be brought anywhere")
        );
        assert_eq!(fs::read(file).unwrap(), b"the only one");
    }
}

#[test]
fn a_full_disk_is_retried_then_held_and_leaves_nothing_half() {
    let office = copying();
    let archive = office.path("archive");
    let Some(disk) = SmallDisk::over(&archive, 64) else { return };
    office.put("office/in/large.xyz", &vec![1; 1 << 20]);
    let hold = office.hold();
    assert_eq!(hold["code"], "no-space");
    assert!(hold["why"].as_str().unwrap().contains("no space left"), "{hold}");
    assert!(!archive.join("large.xyz").exists());
    disk.resize(8 << 10);
    office.wetbank(&["hold", "release", &hold["item"].to_string()]);
    wait_for("it goes on", || archive.join("large.xyz").exists().then_some(()));
    office.wait_idle();
    let rest = leftovers(&archive);
    let size = fs::metadata(archive.join("large.xyz")).unwrap().len();
    assert_eq!(size, 1 << 20);
    assert!(rest.is_empty(), "{rest:?}");
}

#[test]
fn the_original_is_set_aside_once_and_never_taken_again() {
    let office = Office::open();
    fs::create_dir_all(office.path("office/in")).unwrap();
    fs::create_dir_all(office.path("archive")).unwrap();
    office.book(
        &(COPY.replace("folder = \"in\" }", "folder = \"in\", below = true }") + "original = { move-to = \"done\" }\n"),
    );
    office.put("office/in/a.csv", b"first");
    wait_for("set aside", || office.path("office/in/done/a.csv").exists().then_some(()));
    office.wait_idle();
    assert_eq!(office.runs().len(), 1);
    fs::remove_file(office.path("archive/a.csv")).unwrap();
    office.put("office/in/a.csv", b"second");
    wait_for("the second of that name", || office.path("office/in/done/a (2).csv").exists().then_some(()));
    office.wait_idle();
    assert_eq!(fs::read(office.path("office/in/done/a.csv")).unwrap(), b"first", "nothing is overwritten");
    assert_eq!(office.runs().len(), 2);
}

#[test]
fn a_rule_leaves_its_own_results_alone_and_rules_in_a_circle_are_stopped() {
    let office = Office::open();
    fs::create_dir_all(office.path("office/a")).unwrap();
    fs::create_dir_all(office.path("office/b")).unwrap();
    let rule = |name: &str, from: &str, to: &str| {
        format!(
            "[rule.{name}]\nstarts = {{ arrival = {{ place = \"office\", folder = \"{from}\" }} }}\n\
             [[rule.{name}.branch]]\nsteps = [ {{ copy = {{ folder = \"{to}\", as = \"x{{{{ file.name }}}}\" }} }} ]\n"
        )
    };
    let place = "[place.office]\nkind = \"folder\"\nroot = \"@/office\"\n";
    office.book(&format!("{place}{}", rule("same", "a", "a")));
    office.put("office/a/1.csv", b"x");
    wait_for("the result", || office.path("office/a/x1.csv").exists().then_some(()));
    office.put("office/a/2.csv", b"x");
    wait_for("the next result", || office.path("office/a/x2.csv").exists().then_some(()));
    office.wait_idle();
    assert_eq!(names(&office.path("office/a")), ["1.csv", "2.csv", "x1.csv", "x2.csv"]);
    office.book(&format!("{place}{}{}", rule("there", "a", "b"), rule("back", "b", "a")));
    let hold = office.hold();
    assert_eq!(hold["code"], "chain");
    office.wait_idle();
    assert!(names(&office.path("office/b")).len() < 40);
}

#[test]
fn a_file_replaced_by_a_new_one_is_taken_again() {
    let office = copying();
    office.book(&COPY.replace("to = \"archive\" }", "to = \"archive\", exists = \"replace\" }"));
    for round in 0..5 {
        let content = format!("round {round}");
        office.put("office/in/tide.csv", content.as_bytes());
        wait_for("this round", || {
            (fs::read(office.path("archive/tide.csv")).ok()? == content.as_bytes()).then_some(())
        });
    }
    office.wait_idle();
    assert_eq!(office.json(&["status"])["today"]["done"], 5);
}

#[test]
fn explain_and_run_now_say_what_a_rule_thinks_of_a_file() {
    let office = copying();
    office.book(&COPY.replace("folder = \"in\" }", "folder = \"in\", names = [\"*.csv\"] }"));
    office.put("office/in/readme.txt", b"x");
    let explained = office.json(&["rule", "explain", "office:/in/readme.txt"]);
    assert_eq!(explained["rules"][0]["taken"], false);
    assert!(explained["rules"][0]["outcome"].as_str().unwrap().contains("name is like *.csv, here it is readme.txt"));
    let refused = office.wetbank(&["rule", "run", "keep", "--file", "office:/in/readme.txt"]);
    assert_eq!(refused.status.code(), Some(2));
    office.put("office/in/gauge.csv", b"x");
    wait_for("the copy", || office.path("archive/gauge.csv").exists().then_some(()));
    office.wait_idle();
    let note = office.json(&["rule", "explain", "office:/in/gauge.csv"])["rules"][0]["notes"][0].clone();
    assert_eq!(note, "the rule took this very file before");
    fs::remove_file(office.path("archive/gauge.csv")).unwrap();
    let run = office.wetbank(&["rule", "run", "keep", "--file", "office:/in/gauge.csv"]);
    assert!(run.status.success(), "{}", String::from_utf8_lossy(&run.stderr));
    assert!(office.path("archive/gauge.csv").exists());
}

#[test]
fn a_rule_that_is_off_takes_nothing_until_it_is_on() {
    let office = copying();
    office.add(
        "[rule.witness]\nstarts = { arrival = { place = \"office\", folder = \"in\" } }\n\
         [[rule.witness.branch]]\nsteps = [ { copy = { to = \"archive\", as = \"seen\" } } ]\n",
    );
    assert!(office.wetbank(&["rule", "off", "keep"]).status.success());
    office.put("office/in/gauge.csv", b"x");
    wait_for("it to be seen", || office.path("archive/seen").exists().then_some(()));
    assert!(!office.path("archive/gauge.csv").exists());
    assert!(office.wetbank(&["rule", "on", "keep"]).status.success());
    wait_for("the copy", || office.path("archive/gauge.csv").exists().then_some(()));
}

#[test]
fn a_bad_book_changes_nothing_and_every_mistake_is_named() {
    let office = copying();
    for (from, to, words) in [
        ("settle", "settle", ""),
        ("[rule.keep]", "[rule.keep]\ntitel = \"x\"", "unknown key \"titel\"; did you mean \"title\"?"),
        ("to = \"archive\"", "to = \"archiv\"", "unknown place \"archiv\"; did you mean \"archive\"?"),
        ("to = \"archive\"", "to = \"archive\", as = \"{{ file.nmae }}\"", "did you mean {{ file.name }}?"),
    ] {
        if words.is_empty() {
            continue;
        }
        let output = office.try_book(&COPY.replacen(from, to, 1));
        assert_eq!(output.status.code(), Some(2));
        let said = String::from_utf8_lossy(&output.stderr).into_owned();
        assert!(said.contains(words) && said.contains("book.toml:"), "{said}");
    }
    assert_eq!(office.json(&["rule", "list"])[0]["name"], "keep");
}

#[test]
fn a_second_service_on_the_same_data_is_refused() {
    let office = copying();
    let output = office.wetbank(&["serve", "--listen", "127.0.0.1:0"]);
    assert_eq!(output.status.code(), Some(1));
    assert!(String::from_utf8_lossy(&output.stderr).contains("is in use by another wetbank service"));
}

#[test]
fn without_a_service_the_exit_status_is_3() {
    let mut office = copying();
    office.stop();
    let output = office.wetbank(&["status"]);
    assert_eq!(output.status.code(), Some(3));
    assert!(String::from_utf8_lossy(&output.stderr).contains("start one with: wetbank serve"));
}

#[test]
fn the_demo_checks_itself() {
    let output = std::process::Command::new(env!("CARGO_BIN_EXE_wetbank")).args(["demo", "--check"]).output().unwrap();
    assert!(
        output.status.success(),
        "{}{}",
        String::from_utf8_lossy(&output.stdout),
        String::from_utf8_lossy(&output.stderr)
    );
}
