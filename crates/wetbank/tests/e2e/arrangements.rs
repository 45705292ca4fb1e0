//! More whole jobs of a coordinator's day: by the clock, by hand, by other systems, by mail.

use std::{
    fs,
    process::Command,
    time::{SystemTime, UNIX_EPOCH},
};

use crate::support::{
    Office, names,
    servers::{Scene, dav, ftp, mailbox, sftp, shared_folder},
    wait_for,
};
use serde_json::Value;
use wetbank_testbed::{Apache, FtpOffer, PostOffice, Proftpd};

fn signal(office: &Office, rule: &str, body: &str) -> Value {
    let time = SystemTime::now().duration_since(UNIX_EPOCH).unwrap().as_secs().to_string();
    let key = aws_lc_rs::hmac::Key::new(aws_lc_rs::hmac::HMAC_SHA256, b"tide");
    let proof: String = aws_lc_rs::hmac::sign(&key, format!("{rule}.{time}.{body}").as_bytes())
        .as_ref()
        .iter()
        .map(|byte| format!("{byte:02x}"))
        .collect();
    let output = Command::new("curl")
        .args(["-sS", "-H", &format!("Wetbank-Time: {time}"), "-H", &format!("Wetbank-Proof: {proof}")])
        .args(["--data-binary", body, &format!("{}/signal/{rule}", office.url())])
        .output()
        .unwrap();
    serde_json::from_slice(&output.stdout).unwrap()
}

fn today() -> String {
    jiff::Zoned::now().with_time_zone(jiff::tz::TimeZone::UTC).date().to_string()
}

#[test]
fn j02_a_folder_is_moved_to_another_machine_each_night_or_by_hand_and_a_stuck_run_is_ended() {
    let scene = Scene::new();
    let (machine, place) = sftp(&scene, "machine", "machine");
    let rule = r#"
[rule.nightly]
limit = "2s"
starts = { schedule = { at = "02:00" } }
finds = [ { place = "office", folder = "day", below = true } ]
[[rule.nightly.branch]]
steps = [ { move = { to = "machine", folder = "{{ today }}" } } ]
"#;
    scene.book(&[&place, rule]);
    for end in ["office", "machine"] {
        assert!(scene.office.wetbank(&["place", "test", end, "--write"]).status.success());
    }
    for name in ["a.csv", "deep/b.csv"] {
        scene.office.put(&format!("office/day/{name}"), name.as_bytes());
    }
    assert!(scene.office.wetbank(&["rule", "run", "nightly"]).status.success());
    assert_eq!(names(&scene.office.path(&format!("machine/{}", today()))), ["a.csv", "b.csv"]);
    assert!(!scene.office.path("office/day/a.csv").exists() && !scene.office.path("office/day/deep/b.csv").exists());
    // The other machine is away: the run waits, but not all night.
    drop(machine);
    let tested = || scene.office.wetbank(&["place", "test", "machine"]).status.success();
    wait_for("the other machine is away", || (!tested()).then_some(()));
    scene.office.put("office/day/c.csv", b"c");
    let ended = scene.office.wetbank(&["rule", "run", "nightly"]);
    assert!(!ended.status.success(), "{}", String::from_utf8_lossy(&ended.stdout));
    let hold = scene.office.hold();
    assert_eq!(
        (hold["code"].as_str(), hold["why"].as_str()),
        (Some("time-limit"), Some("its run took longer than the rule allows"))
    );
    assert!(scene.office.path("office/day/c.csv").exists());
}

#[test]
fn j03_a_named_file_is_fetched_by_the_clock_into_a_folder_named_by_date_so_that_earlier_ones_stay() {
    let scene = Scene::new();
    let server = Proftpd::start(FtpOffer::Plain);
    fs::write(server.root.path().join("levels.csv"), b"today").unwrap();
    fs::write(server.root.path().join("other.csv"), b"no").unwrap();
    let earlier = scene.office.put("office/levels/2026-03-13/levels.csv", b"earlier");
    let rule = r#"
[rule.levels]
starts = { schedule = { every = "1s" } }
finds = [ { place = "print-shop", names = ["levels.csv"], only-new = true } ]
[[rule.levels.branch]]
steps = [ { fetch = { to = "office", folder = "levels/{{ today }}" } } ]
"#;
    scene.book(&[&ftp("print-shop", &server), rule]);
    let path = scene.office.path(&format!("office/levels/{}/levels.csv", today()));
    wait_for("it is fetched", || path.exists().then_some(()));
    let shown = scene.office.json(&["rule", "show", "levels"]);
    assert_eq!(shown["firings"].as_array().unwrap().len(), 10);
    assert_eq!((fs::read(path).unwrap(), fs::read(earlier).unwrap()), (b"today".to_vec(), b"earlier".to_vec()));
    assert_eq!(names(&scene.office.path("office/levels")).len(), 2);
}

#[test]
fn j04_files_are_found_on_an_sftp_server_copied_packed_and_mailed_with_a_line_each_and_a_failure_mails_too() {
    let scene = Scene::new();
    let post = PostOffice::start();
    let (_harbour, harbour) = sftp(&scene, "harbour", "harbour");
    for (name, size) in [("tide-1.csv", 100), ("tide-2.csv", 200), ("large.bin", 5000)] {
        fs::write(scene.office.path("harbour").join(name), vec![b'x'; size]).unwrap();
    }
    let rule = r#"
[rule.bundle]
starts = { hand = {} }
finds = [ { place = "harbour", names = ["*.csv", "*.bin"] } ]
[[rule.bundle.branch]]
title = "Large"
if = { file = "size", over = "1 kB" }
steps = [ { continue = { branch = "Aside" } } ]
[[rule.bundle.branch]]
title = "Small"
if = { file = "extension", is = "csv" }
steps = [
  { fetch = { to = "office", folder = "kept", as = "{{ run.id }}-{{ file.name }}" } },
  { pack = { as = "tides-{{ today }}.zip" }, on-failure = [ { note = { text = "not packed" } } ] },
  { mail = { by = "post", to = "wardens@merrow.example", subject = "Tides", text = "{{ files }} files\n{{ lines }}", line = "* {{ file.name }}: {{ file.size }} bytes", attach = ["*.zip"] } },
]
[[rule.bundle.branch]]
title = "Aside"
steps = [
  { fetch = { to = "office", folder = "nowhere/../.." }, on-failure = [
      { mail = { by = "post", to = "office@merrow.example", subject = "Failed: {{ file.name }}", text = "{{ fault.step }}: {{ fault.why }}" } },
  ] },
]
"#;
    let wrong = rule.replace("nowhere/../..", "{{ file.stem }}/../..");
    scene.book(&[&harbour, &mailbox("post", &post), &wrong]);
    let output = scene.office.wetbank(&["rule", "run", "bundle"]);
    let seen = String::from_utf8_lossy(&output.stdout).into_owned();
    let sent = post.wait_sent(2);
    let bundle = sent.iter().find(|one| one.contains("Subject: Tides")).unwrap();
    for line in ["2 files", "* tide-1.csv: 100 bytes", "* tide-2.csv: 200 bytes", &format!("tides-{}.zip", today())] {
        assert!(bundle.contains(line), "{line}: {bundle}");
    }
    let failure = sent.iter().find(|one| one.contains("Failed: large.bin")).unwrap();
    assert!(failure.contains("fetch:"), "{failure}");
    assert_eq!(names(&scene.office.path("office/kept")).len(), 2);
    assert!(seen.contains("tide-1.csv") && seen.contains("large.bin"), "the run is followed: {seen}");
}

#[test]
fn j04_a_mailed_table_is_loaded_and_a_report_extracted_from_it() {
    let scene = Scene::new();
    let post = PostOffice::start();
    let file = scene.office.path("survey.db");
    let make = "import sqlite3, sys\nc = sqlite3.connect(sys.argv[1])\nc.execute('CREATE TABLE gauge (station TEXT, level REAL)')\nc.commit()";
    assert!(Command::new("python3").args(["-c", make]).arg(&file).status().unwrap().success());
    let database = format!("[database.survey]\nkind = \"sqlite\"\nfile = \"{}\"\n", file.display());
    let rules = r#"
[rule.in]
starts = { mail = { place = "post", names = ["*.csv"], file-in = "Done", look-every = "200ms" } }
[[rule.in.branch]]
steps = [ { load = { into = "survey", table = "gauge" } } ]
[rule.out]
starts = { hand = {} }
[[rule.out.branch]]
steps = [
  { extract = { from = "survey", table = "gauge", as = "gauge.csv" } },
  { copy = { to = "office", folder = "reports" } },
]
"#;
    scene.book(&[&mailbox("post", &post), &database, rules]);
    post.bring(
        "one",
        b"From: a@b.example\r\nSubject: x\r\nContent-Type: text/csv; name=levels.csv\r\n\r\nstation,level\r\nB12,3.5\r\n",
    );
    wait_for("the letter is filed", || (post.folder("Done").len() == 1).then_some(()));
    assert!(scene.office.wetbank(&["rule", "run", "out"]).status.success());
    assert_eq!(fs::read_to_string(scene.office.path("office/reports/gauge.csv")).unwrap(), "station,level\nB12,3.5\n");
}

#[test]
fn j07_two_desks_keep_one_inbox_alike_through_a_cloud_folder_and_nothing_echoes() {
    let (one, two) = (Scene::new(), Scene::new());
    let cloud = Apache::start(false);
    let rules = r#"
[rule.up]
starts = { arrival = { place = "office", folder = "inbox" } }
[[rule.up.branch]]
if = { file = "age", under = "30 days" }
steps = [ { copy = { to = "cloud", folder = "inbox", exists = "skip-same" } } ]
[[rule.up.branch]]
steps = [ { note = { text = "too old" } } ]
[rule.down]
starts = { arrival = { place = "cloud", folder = "inbox", look-every = "300ms", settle = "200ms" } }
[[rule.down.branch]]
steps = [ { copy = { to = "office", folder = "inbox", exists = "skip-same" } } ]
"#;
    let sorted = "[rule.sort]\nstarts = { chain = { after = [\"copied\"], rules = [\"down\"] } }\n[[rule.sort.branch]]\n\
                  steps = [ { copy = { to = \"office\", folder = \"sorted\" } } ]\n";
    for scene in [&one, &two] {
        fs::create_dir_all(scene.office.path("office/inbox")).unwrap();
    }
    shared_folder(&cloud.root.path().join("inbox"));
    one.book(&[&dav("cloud", &cloud), rules]);
    two.book(&[&dav("cloud", &cloud), rules, sorted]);
    one.office.put("office/inbox/from-one.csv", b"one");
    two.office.put("office/inbox/from-two.csv", b"two");
    let all = ["from-one.csv", "from-two.csv"];
    for scene in [&one, &two] {
        wait_for("both desks have both", || (names(&scene.office.path("office/inbox")) == all).then_some(()));
    }
    wait_for("the other desk sorts what came", || scene_has(&two, "office/sorted/from-one.csv"));
    let runs = || -> Vec<usize> {
        let of = |scene: &Scene, name: &str| {
            scene
                .office
                .runs()
                .iter()
                .filter(|run| run["file"].as_str().is_some_and(|file| file.ends_with(name)))
                .count()
        };
        all.iter().flat_map(|name| [of(&one, name), of(&two, name)]).collect()
    };
    for scene in [&one, &two] {
        scene.office.wait_idle();
    }
    let before = runs();
    // Another file goes all the way meanwhile: each desk has looked at both sides again.
    one.office.put("office/inbox/last.csv", b"last");
    wait_for("the last one is sorted", || scene_has(&two, "office/sorted/last.csv"));
    for scene in [&one, &two] {
        scene.office.wait_idle();
    }
    assert_eq!(runs(), before, "nothing goes round");
    let all = ["from-one.csv", "from-two.csv", "last.csv"];
    assert_eq!(names(&two.office.path("office/sorted")), ["from-one.csv", "last.csv"]);
    for scene in [&one, &two] {
        assert_eq!(names(&scene.office.path("office/inbox")), all);
        assert_eq!(scene.office.holds(), Vec::<Value>::new());
    }
}

fn scene_has(scene: &Scene, path: &str) -> Option<()> {
    scene.office.path(path).exists().then_some(())
}

#[test]
fn j08_each_file_is_uploaded_by_the_clock_and_set_aside_below_and_a_failure_names_file_and_step() {
    for fault in ["go-on", "stop"] {
        let scene = Scene::new();
        let library = Apache::start(false);
        shared_folder(&library.root.path().join("library"));
        // The name of one is taken at the library.
        fs::write(library.root.path().join("library/b.csv"), b"another").unwrap();
        for name in ["a.csv", "b.csv", "c.csv"] {
            scene.office.put(&format!("office/out/{name}"), name.as_bytes());
        }
        let rule = format!(
            "[rule.up]\non-fault = \"{fault}\"\nstarts = {{ schedule = {{ every = \"1s\" }} }}\n\
             finds = [ {{ place = \"office\", folder = \"out\", below = true, only-new = true }} ]\n[[rule.up.branch]]\n\
             steps = [ {{ copy = {{ to = \"library\", folder = \"library\" }} }} ]\noriginal = {{ move-to = \"done\" }}\n"
        );
        scene.book(&[&dav("library", &library), &rule]);
        let hold = scene.office.hold();
        assert!(hold["file"].as_str().unwrap().ends_with("b.csv") && hold["step"] == "copy", "{hold}");
        if fault == "go-on" {
            wait_for("the others are set aside", || {
                (names(&scene.office.path("office/out/done")) == ["a.csv", "c.csv"]).then_some(())
            });
        }
        fs::remove_file(library.root.path().join("library/b.csv")).unwrap();
        scene.office.wetbank(&["hold", "release", &hold["item"].to_string()]);
        wait_for("all are set aside", || (names(&scene.office.path("office/out/done")).len() == 3).then_some(()));
        assert_eq!(names(&library.root.path().join("library")), ["a.csv", "b.csv", "c.csv"]);
        let newest = || scene.office.runs().iter().filter_map(|run| run["id"].as_i64()).max();
        let before = newest();
        wait_for("two more firings", || (newest() > before.map(|id| id + 1)).then_some(()));
        assert_eq!(names(&library.root.path().join("library")).len(), 3, "what is set aside is never uploaded");
    }
}

#[test]
fn j09_the_same_work_starts_by_a_signal_by_a_button_and_by_changed_files() {
    let scene = Scene::new();
    let rules = r#"
[rule.item-made]
starts = { signal = { secret = "desk-signal" } }
[[rule.item-made.branch]]
steps = [ { make-folder = { to = "office", folder = "store/{{ signal.item }}" } } ]
[rule.item-files]
starts = { signal = { secret = "desk-signal" }, arrival = { place = "office", folder = "items", below = true, of = ["changed"] } }
finds = [ { place = "office", folder = "items", below = true } ]
[[rule.item-files.branch]]
if = { all = [ { run = "cause", is = "signal" }, { none = [ { signal = "status", is = "approved" } ] } ] }
steps = [ { note = { text = "not approved" } } ]
[[rule.item-files.branch]]
steps = [ { copy = { to = "office", folder = "store/{{ file.folder[6:] }}", exists = "replace" } } ]
"#;
    fs::create_dir_all(scene.office.path("office/items/B12")).unwrap();
    scene.book(&[rules]);
    let office = &scene.office;
    signal(office, "item-made", r#"{"item": "B12"}"#);
    wait_for("the item's folder is made", || scene_has(&scene, "office/store/B12"));
    office.put("office/items/B12/plan.txt", b"one");
    signal(office, "item-files", r#"{"item": "B12", "status": "drawn"}"#);
    office.wait_idle();
    assert_eq!(names(&office.path("office/store/B12")), [""; 0], "what is new waits for the status");
    signal(office, "item-files", r#"{"item": "B12", "status": "approved"}"#);
    let there = office.path("office/store/B12/plan.txt");
    wait_for("the signal brings it", || there.exists().then_some(()));
    office.put("office/items/B12/plan.txt", b"changed");
    wait_for("the change brings it", || (fs::read(&there).unwrap() == b"changed").then_some(()));
    fs::remove_file(&there).unwrap();
    assert!(office.wetbank(&["rule", "run", "item-files", "--all"]).status.success());
    assert_eq!(fs::read(there).unwrap(), b"changed", "the button brings it");
}

#[test]
fn j10_everything_from_two_servers_is_gathered_and_what_came_from_one_goes_on_to_a_partner() {
    let scene = Scene::new();
    let (_north, north) = sftp(&scene, "north", "north");
    let (_south, south) = sftp(&scene, "south", "south");
    let (partner, tidewatch) = scene.bucket("tidewatch");
    fs::write(scene.office.path("north/n.csv"), b"north").unwrap();
    fs::write(scene.office.path("south/s.csv"), b"south").unwrap();
    let rules = r#"
[partner.tidewatch]
delivery = { to = "tidewatch", folder = "in" }
[rule.gather]
starts = { schedule = { at = "03:00" } }
finds = [ { place = "north" }, { place = "south" } ]
[[rule.gather.branch]]
steps = [ { fetch = { to = "office", folder = "all" } } ]
original = "delete"
[rule.forward]
starts = { chain = { after = ["fetched"], rules = ["gather"], from = ["north"] } }
[[rule.forward.branch]]
steps = [ { deliver = { partner = "tidewatch" } } ]
"#;
    scene.book(&[&north, &south, &tidewatch, rules]);
    assert!(scene.office.wetbank(&["rule", "run", "gather"]).status.success());
    wait_for("it is delivered", || partner.object("in/n.csv"));
    scene.office.wait_idle();
    assert_eq!(names(&scene.office.path("office/all")), ["n.csv", "s.csv"]);
    assert_eq!(partner.object("in/s.csv"), None);
    assert_eq!((names(&scene.office.path("north")).len(), names(&scene.office.path("south")).len()), (0, 0));
}

#[test]
fn j12_a_file_is_encrypted_where_it_lies_and_the_encrypted_one_is_moved_on() {
    let scene = Scene::new();
    scene.office.import_key("merrow");
    let rule = r#"
[rule.seal]
starts = { arrival = { place = "office", folder = "desk", own-results = true } }
[[rule.seal.branch]]
if = { file = "extension", is = "pgp" }
steps = [ { move = { folder = "sealed" } } ]
[[rule.seal.branch]]
steps = [ { encrypt = { to = ["merrow"] } }, { copy = { folder = "desk" } } ]
original = "delete"
"#;
    scene.book(&[rule]);
    for number in 0..20 {
        scene.office.put(&format!("office/desk/draft-{number:02}.txt"), b"draft");
    }
    wait_for("all are sealed and moved", || (names(&scene.office.path("office/sealed")).len() == 20).then_some(()));
    wait_for("nothing stays", || names(&scene.office.path("office/desk")).is_empty().then_some(()));
    assert_eq!(scene.office.runs().len(), 40, "one for each and one for its result, no second handling");
}

#[test]
fn j13_what_is_saved_in_a_folder_is_mailed_to_a_fixed_address_set_aside_and_counted() {
    let scene = Scene::new();
    let post = PostOffice::start();
    let rule = r#"
[rule.mail-it]
starts = { arrival = { place = "office", folder = "to-mail" } }
[[rule.mail-it.branch]]
steps = [ { mail = { by = "post", to = "archive@tidewatch.example", subject = "{{ count }}", attach = ["*"] } } ]
original = { move-to = "done" }
"#;
    scene.book(&[&mailbox("post", &post), rule]);
    for name in ["a.txt", "b.txt", "c.txt"] {
        scene.office.put(&format!("office/to-mail/{name}"), name.as_bytes());
    }
    wait_for("all are done", || (names(&scene.office.path("office/to-mail/done")).len() == 3).then_some(()));
    let mut counts: Vec<String> = post
        .wait_sent(3)
        .iter()
        .map(|letter| letter.lines().find_map(|line| line.strip_prefix("Subject: ")).unwrap().to_owned())
        .collect();
    counts.sort();
    assert_eq!(counts, ["1", "2", "3"]);
    scene.office.wait_idle();
    let summary = scene.office.json(&["rule", "show", "mail-it"]);
    assert_eq!(summary["branches"][0]["done"], 3, "and the page says how often");
}

#[test]
fn j14_a_folder_is_swept_into_a_shared_drive_by_hand_first_and_then_by_the_clock() {
    let scene = Scene::new();
    let drive = Apache::start(false);
    shared_folder(&drive.root.path().join("swept"));
    let rule = |every: &str| {
        format!(
            "[rule.sweep]\nstarts = {{ schedule = {{ every = \"{every}\" }} }}\nfinds = [ {{ place = \"office\", folder = \"out\" }} ]\n\
             [[rule.sweep.branch]]\nsteps = [ {{ move = {{ to = \"drive\", folder = \"swept\", exists = \"keep-both\" }} }} ]\n"
        )
    };
    scene.office.put("office/out/a.csv", b"a");
    scene.book(&[&dav("drive", &drive), &rule("15 min")]);
    assert!(scene.office.wetbank(&["rule", "run", "sweep"]).status.success());
    assert_eq!(names(&drive.root.path().join("swept")), ["a.csv"]);
    let causes =
        |office: &Office| office.runs().iter().map(|run| run["cause"].as_str().unwrap().to_owned()).collect::<Vec<_>>();
    assert_eq!(causes(&scene.office), ["hand"]);
    scene.office.put("office/out/a.csv", b"another");
    scene.book(&[&dav("drive", &drive), &rule("1s")]);
    wait_for("the clock sweeps", || (names(&drive.root.path().join("swept")).len() == 2).then_some(()));
    wait_for("its original is gone", || names(&scene.office.path("office/out")).is_empty().then_some(()));
}

#[test]
fn j18_encrypted_files_that_drop_in_are_opened_several_at_once_and_their_originals_removed() {
    let scene = Scene::new();
    scene.office.import_key("merrow");
    let rules = r#"
[rule.seal]
starts = { arrival = { place = "office", folder = "plain" } }
[[rule.seal.branch]]
steps = [ { encrypt = { to = ["merrow"] } }, { copy = { folder = "drop" } } ]
original = "delete"
[rule.open]
starts = { arrival = { place = "office", folder = "drop", names = ["*.pgp"] } }
[[rule.open.branch]]
steps = [ { decrypt = {} }, { copy = { folder = "opened" } } ]
original = "delete"
"#;
    scene.book(&[rules]);
    let content = |number: usize| format!("sheet {number}").repeat(1000);
    for number in 0..12 {
        scene.office.put(&format!("office/plain/sheet-{number:02}.csv"), content(number).as_bytes());
    }
    wait_for("all are opened", || (names(&scene.office.path("office/opened")).len() == 12).then_some(()));
    wait_for("nothing stays in the drop folder", || names(&scene.office.path("office/drop")).is_empty().then_some(()));
    for number in 0..12 {
        let path = scene.office.path(&format!("office/opened/sheet-{number:02}.csv"));
        assert_eq!(fs::read_to_string(path).unwrap(), content(number));
    }
}
