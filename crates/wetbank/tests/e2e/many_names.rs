//! Many files of one name go to one place: all are kept, each under a name of its own.

use std::{collections::BTreeSet, fs, path::Path};

use crate::support::{Office, leftovers, names, office, servers::Scene, wait_for};

const FILES: usize = 200;

fn rule(step: &str) -> String {
    format!(
        r#"
[rule.keeps]
starts = {{ arrival = {{ place = "office", folder = "in", below = true }} }}
[[rule.keeps.branch]]
steps = [ {{ {step} }} ]
original = "delete"
"#
    )
}

/// As many files of one name as there are folders, all at once.
fn come(office: &Office) {
    for number in 0..FILES {
        office.put(&format!("office/in/{number}/same.csv"), format!("{number}\n").as_bytes());
    }
}

fn all_are_kept(office: &Office, folder: &Path) {
    wait_for("all are there", || (names(folder).len() >= FILES).then_some(()));
    office.wait_idle();
    assert!(office.holds().is_empty(), "{:?}", office.holds().first());
    let contents: BTreeSet<String> =
        names(folder).iter().map(|name| fs::read_to_string(folder.join(name)).unwrap()).collect();
    assert_eq!((names(folder).len(), contents.len()), (FILES, FILES));
    assert!(names(folder).contains(&"same.csv".to_owned()), "the first keeps the plain name");
    assert!(leftovers(folder).is_empty());
}

#[test]
fn copied_and_moved_within_this_machine() {
    for step in ["copy", "move"] {
        let office = office(&rule(&format!("{step} = {{ to = \"archive\", exists = \"keep-both\" }}")));
        come(&office);
        all_are_kept(&office, &office.path("archive"));
    }
}

#[test]
fn sent_to_a_server() {
    let scene = Scene::new();
    let (_machine, place) = crate::support::servers::sftp(&scene, "machine", "machine");
    scene.book(&[&place, &rule("copy = { to = \"machine\", exists = \"keep-both\" }")]);
    come(&scene.office);
    all_are_kept(&scene.office, &scene.office.path("machine"));
}

#[test]
fn while_the_service_is_killed_again_and_again() {
    let mut office = office(&rule("copy = { to = \"archive\", exists = \"keep-both\" }"));
    come(&office);
    for round in 0..6u64 {
        std::thread::sleep(std::time::Duration::from_millis(80 + round * 37));
        office.kill();
        office.start();
    }
    all_are_kept(&office, &office.path("archive"));
}
