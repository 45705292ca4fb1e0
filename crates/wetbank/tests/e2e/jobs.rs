//! Whole jobs of a coordinator's day, from the book to the file at its destination, over real
//! servers and stand-ins.

use std::{fs, os::unix::fs::PermissionsExt};

use crate::support::{
    leftovers, names,
    servers::{Scene, dav, ftp, shared_folder},
    wait_for,
};
use wetbank_standins::{SftpStandin, SftpStandinOptions};
use wetbank_testbed::{Apache, FtpOffer, Proftpd};

fn today() -> String {
    jiff::Zoned::now().with_time_zone(jiff::tz::TimeZone::UTC).date().to_string()
}

#[test]
fn j01_files_of_a_cloud_folder_are_sorted_by_their_names_and_the_rest_goes_to_a_default() {
    let scene = Scene::new();
    let (cloud, place) = scene.bucket("cloud");
    let rule = r#"
[rule.sort]
starts = { arrival = { place = "cloud", folder = "in", look-every = "200ms" } }
[[rule.sort.branch]]
if = { file = "name", contains = "gauge" }
steps = [ { move = { folder = "sorted/gauges" } } ]
[[rule.sort.branch]]
if = { any = [ { file = "name", contains = "sounding" }, { file = "extension", is = "xyz" } ] }
steps = [ { move = { folder = "sorted/soundings" } } ]
[[rule.sort.branch]]
steps = [ { move = { folder = "sorted/other" } } ]
"#;
    scene.book(&[&place, rule]);
    // She picks the folder by browsing, and tries the rule on one file before it is on.
    let office = &scene.office;
    assert!(office.wetbank(&["rule", "off", "sort"]).status.success());
    for name in ["gauge-07.csv", "sounding-B12.xyz", "C03.xyz", "readme.txt"] {
        cloud.put(&format!("in/{name}"), name.to_owned());
    }
    let listed = office.json(&["place", "browse", "cloud:/in"]);
    assert_eq!(listed["entries"][1]["path"], "cloud:/in/gauge-07.csv");
    assert!(office.wetbank(&["rule", "run", "sort", "--file", "cloud:/in/gauge-07.csv"]).status.success());
    office.wait_idle();
    assert_eq!(cloud.object("sorted/gauges/gauge-07.csv").unwrap(), b"gauge-07.csv");
    assert!(office.wetbank(&["rule", "on", "sort"]).status.success());
    let expected = [
        "sorted/gauges/gauge-07.csv",
        "sorted/other/readme.txt",
        "sorted/soundings/C03.xyz",
        "sorted/soundings/sounding-B12.xyz",
    ];
    wait_for("all are sorted", || (cloud.keys() == expected).then_some(()));
    office.wait_idle();
    assert!(office.holds().is_empty());
}

#[test]
fn j02_what_is_in_a_folder_is_moved_to_another_machine_once_both_ends_are_proved() {
    let scene = Scene::new();
    let there = tempfile::TempDir::new().unwrap();
    let options = SftpStandinOptions {
        listen: ([127, 0, 0, 1], 0).into(),
        root: there.path().to_owned(),
        user: "merrow".to_owned(),
        password: "grey heron".to_owned(),
    };
    let server = scene.runtime.block_on(SftpStandin::start(options)).unwrap();
    let place = format!(
        "[place.machine]\nkind = \"sftp\"\nhost = \"127.0.0.1\"\nport = {}\nuser = \"merrow\"\n\
         password = {{ secret = \"machine\" }}\nhost-key = \"{}\"\n",
        server.address().port(),
        server.fingerprint()
    );
    scene.book(&[&place]);
    let office = &scene.office;
    for name in ["a.csv", "b.csv", "deep/c.csv"] {
        office.put(&format!("office/night/{name}"), name.as_bytes());
    }
    for end in ["office", "machine"] {
        let tested = office.wetbank(&["place", "test", end, "--write"]);
        assert!(tested.status.success(), "{}", String::from_utf8_lossy(&tested.stdout));
    }
    assert!(office.wetbank(&["place", "move", "office:/night", "machine:/from-merrow"]).status.success());
    office.wait_idle();
    assert_eq!(names(&there.path().join("from-merrow/night")), ["a.csv", "b.csv", "deep"]);
    assert_eq!(fs::read(there.path().join("from-merrow/night/deep/c.csv")).unwrap(), b"deep/c.csv");
    assert!(!office.path("office/night/a.csv").exists() && leftovers(there.path()).is_empty());
}

#[test]
fn j03_one_named_file_is_fetched_from_an_ftp_server_into_a_folder_named_by_date() {
    let (scene, server) = (Scene::new(), Proftpd::start(FtpOffer::Plain));
    shared_folder(&server.root.path().join("out"));
    fs::write(server.root.path().join("out/levels.csv"), "today's levels").unwrap();
    fs::write(server.root.path().join("out/other.csv"), "not asked for").unwrap();
    let rule = r#"
[rule.fetch]
starts = { arrival = { place = "harlan", folder = "out", names = ["levels.csv"], look-every = "200ms" } }
[[rule.fetch.branch]]
steps = [ { copy = { to = "office", folder = "levels/{{ today }}", exists = "skip-same" } } ]
"#;
    scene.book(&[&ftp("harlan", &server), rule]);
    let fetched = scene.office.path(&format!("office/levels/{}/levels.csv", today()));
    wait_for("the file", || fetched.exists().then_some(()));
    scene.office.wait_idle();
    assert_eq!(fs::read(&fetched).unwrap(), b"today's levels");
    assert_eq!(names(fetched.parent().unwrap()), ["levels.csv"]);
    assert!(server.root.path().join("out/levels.csv").exists(), "it is only fetched");
}

#[test]
fn j06_all_files_of_a_folder_go_into_a_remote_folder_named_by_date_and_replace_what_is_there() {
    let (scene, server) = (Scene::new(), Proftpd::start(FtpOffer::Plain));
    let folder = server.root.path().join("daily").join(today());
    shared_folder(server.root.path());
    shared_folder(&server.root.path().join("daily"));
    // The folder is there already, with yesterday's edition of one file.
    shared_folder(&folder);
    fs::write(folder.join("a.csv"), "old").unwrap();
    fs::set_permissions(folder.join("a.csv"), fs::Permissions::from_mode(0o666)).unwrap();
    let rule = r#"
[rule.end-of-day]
starts = { arrival = { place = "office", folder = "day" } }
[[rule.end-of-day.branch]]
steps = [ { copy = { to = "harlan", folder = "daily/{{ today }}", exists = "replace" } } ]
"#;
    let office = &scene.office;
    for name in ["a.csv", "b.csv", "sub/c.csv"] {
        office.put(&format!("office/day/{name}"), name.as_bytes());
    }
    scene.book(&[&ftp("harlan", &server), rule]);
    wait_for("both files", || (names(&folder) == ["a.csv", "b.csv"]).then_some(()));
    office.wait_idle();
    assert_eq!(fs::read(folder.join("a.csv")).unwrap(), b"a.csv");
    assert_eq!(office.runs().len(), 2, "a folder in the folder is left alone");
    let shown = office.json(&["place", "list"]);
    assert!(shown.to_string().contains(&format!("merrow@127.0.0.1:{}/", server.port)), "the address is shown back");
}

#[test]
fn j11_all_files_of_a_cloud_folder_move_to_another_however_many_pages_and_folders_stay() {
    let scene = Scene::new();
    let (cloud, place) = scene.bucket("cloud");
    for number in 0..1100 {
        cloud.put(&format!("from/{:02}/{number:04}.csv", number % 7), format!("{number}"));
    }
    let rule = r#"
[rule.all]
starts = { arrival = { place = "cloud", folder = "from", below = true, look-every = "200ms" } }
[[rule.all.branch]]
steps = [ { move = { folder = "to/{{ file.folder[5:] }}" } } ]
"#;
    scene.book(&[&place, rule]);
    let moved = || cloud.keys().iter().filter(|key| key.starts_with("to/")).count();
    wait_for("every file", || (moved() == 1100).then_some(()));
    scene.office.wait_idle();
    assert_eq!(cloud.keys().len(), 1100, "the source is empty of files");
    for number in [0, 999, 1000, 1099] {
        let key = format!("to/{:02}/{number:04}.csv", number % 7);
        assert_eq!(cloud.object(&key).unwrap(), number.to_string().as_bytes());
    }
}

#[test]
fn j15_a_file_made_in_a_cloud_folder_or_below_it_is_made_in_a_teams_library_with_its_name_and_content() {
    let (scene, library) = (Scene::new(), Apache::start(false));
    let (cloud, place) = scene.bucket("cloud");
    let rule = r#"
[rule.library]
starts = { arrival = { place = "cloud", folder = "team", below = true, look-every = "200ms" } }
[[rule.library.branch]]
steps = [ { copy = { to = "library", folder = "shared/{{ file.folder[5:] }}" } } ]
"#;
    scene.book(&[&place, &dav("library", &library), rule]);
    cloud.put("team/minutes.txt", "agreed");
    cloud.put("team/2026/gr\u{fc}\u{df}e & more.txt", "hello");
    let shared = library.root.path().join("shared");
    wait_for("both files", || {
        let below = fs::read(shared.join("2026/gr\u{fc}\u{df}e & more.txt")).ok()?;
        (below == b"hello" && fs::read(shared.join("minutes.txt")).ok()? == b"agreed").then_some(())
    });
    scene.office.wait_idle();
    assert_eq!(cloud.keys().len(), 2, "they stay where they were made");
    assert!(leftovers(library.root.path()).is_empty());
}

#[test]
fn j19_loose_files_at_the_root_of_a_drive_are_swept_into_one_folder() {
    let (scene, drive) = (Scene::new(), Apache::start(false));
    for name in ["a.csv", "b.txt"] {
        fs::write(drive.root.path().join(name), name).unwrap();
    }
    shared_folder(&drive.root.path().join("kept"));
    fs::write(drive.root.path().join("kept/c.csv"), "c").unwrap();
    let rule = r#"
[rule.sweep]
starts = { arrival = { place = "drive", look-every = "200ms" } }
[[rule.sweep.branch]]
steps = [ { move = { folder = "swept", exists = "keep-both" } } ]
"#;
    scene.book(&[&dav("drive", &drive), rule]);
    let swept = drive.root.path().join("swept");
    wait_for("both files", || (names(&swept) == ["a.csv", "b.txt"]).then_some(()));
    scene.office.wait_idle();
    assert_eq!(names(drive.root.path()), ["kept", "swept"]);
    assert_eq!(names(&drive.root.path().join("kept")), ["c.csv"]);
}

#[test]
fn j20_files_of_one_cloud_go_to_another_with_one_run_a_file_and_every_step_told() {
    let (scene, second) = (Scene::new(), Apache::start(false));
    let (first, place) = scene.bucket("first");
    let rule = r#"
[rule.across]
starts = { arrival = { place = "first", folder = "out", look-every = "200ms" } }
[[rule.across.branch]]
steps = [ { copy = { to = "second", folder = "in" } } ]
original = { move-to = "sent" }
"#;
    scene.book(&[&place, &dav("second", &second), rule]);
    for number in 0..5 {
        first.put(&format!("out/{number}.csv"), format!("{number}"));
    }
    wait_for("all five", || (names(&second.root.path().join("in")).len() == 5).then_some(()));
    scene.office.wait_idle();
    let runs = scene.office.runs();
    assert_eq!(runs.len(), 5);
    let shown = scene.office.json(&["run", "show", &runs[0]["id"].to_string()]);
    let attempts = shown["items"][0]["attempts"].as_array().unwrap();
    let steps: Vec<_> =
        attempts.iter().map(|a| (a["kind"].as_str().unwrap(), a["outcome"].as_str().unwrap())).collect();
    assert_eq!(steps, [("copy", "done"), ("original", "done")], "{shown:#}");
    assert_eq!(first.keys().iter().filter(|key| key.starts_with("out/sent/")).count(), 5);
}
