//! A trace tells where a file came from, what became of it, and what it went into.

use crate::support::{office, wait_for};

#[test]
fn a_packed_file_is_traced_to_where_its_parcel_went_and_its_original_is_told_as_removed() {
    let office = office(
        r#"
[rule.parcel]
starts = { hand = {} }
finds = [ { place = "office", folder = "out" } ]
[[rule.parcel.branch]]
steps = [ { pack = { as = "parcel-7.zip" } }, { copy = { to = "archive", folder = "parcels", as = "seventh.zip" } } ]
original = "delete"
"#,
    );
    for name in ["hut-03.csv", "hut-04.csv"] {
        office.put(&format!("office/out/{name}"), name.as_bytes());
    }
    assert!(office.wetbank(&["rule", "run", "parcel"]).status.success());
    wait_for("it arrived", || office.path("archive/parcels/seventh.zip").exists().then_some(()));
    office.wait_idle();
    let traced = office.json(&["trace", "hut-03"]);
    let one = &traced["items"][0];
    assert_eq!(traced["items"].as_array().unwrap().len(), 1);
    assert_eq!((one["hops"][0]["kind"].as_str(), one["hops"][0]["removed"].as_bool()), (Some("original"), Some(true)));
    let parcel = &one["made"][0];
    assert_eq!(parcel["file"], "work:/parcel-7.zip");
    assert_eq!(parcel["hops"][1]["target"], "archive:/parcels/seventh.zip");
    let shown = String::from_utf8(office.wetbank(&["trace", "hut-03"]).stdout).unwrap();
    assert!(shown.contains("removed office:/out/hut-03.csv"), "{shown}");
    assert!(shown.contains("went into work:/parcel-7.zip"), "{shown}");
    assert!(shown.contains("archive:/parcels/seventh.zip"), "{shown}");
    // It is found by the name that it was given on the way, too, and by no other.
    assert_eq!(office.json(&["trace", "SEVENTH"])["items"].as_array().unwrap().len(), 1);
    assert!(office.json(&["trace", "hut-05"])["items"].as_array().unwrap().is_empty());
}

#[test]
fn names_that_only_have_the_same_threes_of_letters_are_not_shown_however_many_they_are() {
    let rule = r#"
[rule.keep]
starts = { arrival = { place = "office", folder = "in" } }
[[rule.keep.branch]]
steps = [ { note = { text = "seen" } } ]
"#;
    let office = office(rule);
    std::fs::create_dir_all(office.path("office/in")).unwrap();
    let alike = |number: usize| format!("office/in/1104-2026-1{number:03}-0261-2611-6110-{number}.csv");
    (0..300).for_each(|number| drop(office.put(&alike(number), b"x")));
    office.put("office/in/tile_20261104.csv", b"x");
    (300..600).for_each(|number| drop(office.put(&alike(number), b"x")));
    wait_for("all are taken", || {
        (office.json(&["run", "list", "--limit", "500"])["runs"].as_array()?.len() == 500).then_some(())
    });
    office.wait_idle();
    wait_for("it is found", || {
        let found = office.json(&["trace", "20261104"]);
        let files: Vec<_> = found["items"].as_array()?.iter().map(|one| one["file"].clone()).collect();
        (files == ["office:/in/tile_20261104.csv"]).then_some(())
    });
}
