//! Twins between a folder and every kind of place: two desks with one inbox, a structure that is replicated and told of,
//! several folders by one schedule.

use std::{
    collections::BTreeMap,
    fs,
    time::{Duration, SystemTime},
};

use wetbank_standins::{DriveStandin, DriveStandinOptions, DriveUser};
use wetbank_testbed::{Apache, FtpOffer, PostOffice, Proftpd, SHARE_NAME, SHARE_USER, Samba, ShareOffer, Sshd};

use crate::support::{
    names,
    servers::{Scene, dav, ftp, mailbox, openssh, shared_folder},
    sides::{below, kept},
    wait_for,
};

/// Checks something with a place called `cloud` that has the folder `inbox`, of every kind.
macro_rules! through_every_kind {
    ($check:ident) => {
        mod $check {
            #[test]
            fn through_a_folder() {
                super::through_a_folder(super::$check);
            }

            #[test]
            fn through_an_sftp_server() {
                super::through_an_sftp_server(super::$check);
            }

            #[test]
            fn through_a_share() {
                super::through_a_share(super::$check);
            }

            #[test]
            fn through_a_webdav_server() {
                super::through_a_webdav_server(super::$check);
            }

            #[test]
            fn through_an_ftp_server() {
                super::through_an_ftp_server(super::$check);
            }

            #[test]
            fn through_a_cloud_drive() {
                super::through_a_cloud_drive(super::$check);
            }

            #[test]
            fn through_a_bucket() {
                super::through_a_bucket(super::$check);
            }
        }
    };
}

through_every_kind!(j07_two_desks_keep_one_inbox_alike);
through_every_kind!(j17_a_structure_is_replicated_and_who_watches_it_is_told);
through_every_kind!(j21_several_folders_are_brought_up_to_date_by_one_rule);

fn through_a_folder(check: fn(&Scene, &str)) {
    let scene = Scene::new();
    fs::create_dir_all(scene.office.path("cloud/inbox")).unwrap();
    check(&scene, "[place.cloud]\nkind = \"folder\"\nroot = \"@/cloud\"\n");
}

fn through_an_sftp_server(check: fn(&Scene, &str)) {
    let (scene, sshd) = (Scene::new(), Sshd::start());
    let place = openssh(&scene.office, &sshd, "cloud", "cloud");
    fs::create_dir_all(scene.office.path("cloud/inbox")).unwrap();
    check(&scene, &place);
}

fn through_a_share(check: fn(&Scene, &str)) {
    let (scene, samba) = (Scene::new(), Samba::start(ShareOffer::Usual));
    shared_folder(&samba.root.path().join("inbox"));
    let place = format!(
        "[place.cloud]\nkind = \"share\"\nhost = \"127.0.0.1\"\nport = {}\nshare = \"{SHARE_NAME}\"\nuser = \"{}\"\n\
         password = {{ secret = \"share\" }}\nsecurity = \"signed\"\n",
        samba.port, SHARE_USER.0
    );
    assert!(scene.office.wetbank_with(&["secret", "set", "share"], SHARE_USER.1).status.success());
    check(&scene, &place);
}

fn through_a_webdav_server(check: fn(&Scene, &str)) {
    let (scene, apache) = (Scene::new(), Apache::start(false));
    shared_folder(&apache.root.path().join("inbox"));
    check(&scene, &dav("cloud", &apache));
}

fn through_an_ftp_server(check: fn(&Scene, &str)) {
    let (scene, proftpd) = (Scene::new(), Proftpd::start(FtpOffer::Plain));
    shared_folder(&proftpd.root.path().join("inbox"));
    check(&scene, &ftp("cloud", &proftpd));
}

fn through_a_cloud_drive(check: fn(&Scene, &str)) {
    let scene = Scene::new();
    let user = DriveUser { tenant: "merrow".to_owned(), name: "tove".to_owned(), password: "grey heron".to_owned() };
    let drive = scene.runtime.block_on(DriveStandin::start(DriveStandinOptions::new(vec![user]))).unwrap();
    drive.make_folder("merrow", "inbox");
    let rights = ["files.read", "files.write"];
    let grant = drive.grant("tove", &rights);
    assert!(scene.office.wetbank_with(&["secret", "set", "cloud-grant"], &grant).status.success());
    let place = format!(
        "[place.cloud]\nkind = \"webdav\"\nurl = \"{}\"\nagreement = {{ server = \"{}\", client = \"wetbank\", rights = {rights:?}, \
         grant = {{ secret = \"cloud-grant\" }} }}\n",
        drive.files("merrow"),
        drive.url()
    );
    check(&scene, &place);
}

fn through_a_bucket(check: fn(&Scene, &str)) {
    let scene = Scene::new();
    let (_archive, place) = scene.bucket("cloud");
    check(&scene, &place);
}

/// Two desks with an inbox each, both alike through this place; each desk's own rule sorts what comes.
fn two_desks(scene: &Scene, place: &str) {
    let desk = |desk: &str| {
        format!(
            "[twin.{desk}]\nnear = {{ place = \"office\", folder = \"{desk}/inbox\" }}\nfar = {{ place = \"cloud\", folder = \"inbox\" }}\n\
             way = \"both\"\nrecent-days = 14\nsettle = \"0s\"\nstarts = {{ change = {{ look-every = \"300ms\" }} }}\n\
             [rule.sort-{desk}]\nstarts = {{ arrival = {{ place = \"office\", folder = \"{desk}/inbox\" }} }}\n\
             [[rule.sort-{desk}.branch]]\nsteps = [ {{ copy = {{ to = \"office\", folder = \"{desk}/sorted\", exists = \"keep-both\" }} }} ]\n"
        )
    };
    for inbox in ["north/inbox", "south/inbox"] {
        fs::create_dir_all(scene.office.path(&format!("office/{inbox}"))).unwrap();
    }
    scene.book(&[place, &desk("north"), &desk("south")]);
}

/// A new file at one desk is at the other once, is sorted there, never comes back, and changes follow.
fn j07_two_desks_keep_one_inbox_alike(scene: &Scene, place: &str) {
    two_desks(scene, place);
    let office = &scene.office;
    let at = |path: &str| office.path(&format!("office/{path}"));
    office.put("office/north/inbox/gauge 07 á.csv", b"seven");
    office.put("office/south/inbox/gauge-09.csv", b"nine");
    let alike = |what: &str, wanted: &[(&str, &str)]| {
        let wanted: BTreeMap<String, Vec<u8>> =
            wanted.iter().map(|(name, content)| ((*name).to_owned(), content.as_bytes().to_vec())).collect();
        wait_for(what, || (below(&at("north/inbox")) == wanted && below(&at("south/inbox")) == wanted).then_some(()));
    };
    alike("both to have both", &[("gauge 07 á.csv", "seven"), ("gauge-09.csv", "nine")]);
    wait_for("both desks to sort both", || {
        let sorted = ["gauge 07 á.csv", "gauge-09.csv"];
        (names(&at("north/sorted")) == sorted && names(&at("south/sorted")) == sorted).then_some(())
    });
    // A change at one desk, a file gone at the other.
    office.put("office/south/inbox/gauge-09.csv", b"nine, read again");
    fs::remove_file(at("north/inbox/gauge 07 á.csv")).unwrap();
    alike("both to follow", &[("gauge-09.csv", "nine, read again")]);
    assert_eq!(kept(&at("south/inbox")).iter().filter(|content| *content == b"seven").count(), 1);
    // Folders too.
    office.put("office/north/inbox/deep/er/x.csv", b"x");
    alike("the folder to follow", &[("gauge-09.csv", "nine, read again"), ("deep/er/x.csv", "x")]);
    // Nothing echoes: after a while there is nothing more to do, and no rule took anything twice.
    std::thread::sleep(Duration::from_millis(1500));
    office.wait_idle();
    for desk in ["north", "south"] {
        let found = office.json(&["twin", "compare", desk]);
        assert_eq!(found["all"], 0, "{found}");
        wait_for("it to be alike", || (office.json(&["twin", "show", desk])["state"] == "alike").then_some(()));
        let rule = format!("sort-{desk}");
        let took = office.runs().iter().filter(|run| run["rule"] == rule.as_str()).count();
        assert_eq!(took, 3, "two new files and one change for {desk}");
    }
    assert!(office.holds().is_empty(), "{:?}", office.holds());
}

/// A pass of a twin, made now.
fn pass(scene: &Scene, twin: &str) {
    let made = scene.office.wetbank(&["twin", "run", twin]);
    assert!(made.status.success(), "{}", String::from_utf8_lossy(&made.stderr));
}

/// Folders are made over there and files follow, at once and by the clock; one mail a pass tells what was done.
fn j17_a_structure_is_replicated_and_who_watches_it_is_told(scene: &Scene, place: &str) {
    let (office, post) = (&scene.office, PostOffice::start());
    let twin = |starts: &str| {
        format!(
            "[twin.project]\ntitle = \"Sea wall project\"\nnear = {{ place = \"office\", folder = \"project\" }}\n\
             far = {{ place = \"cloud\", folder = \"inbox\" }}\nway = \"exact\"\nsettle = \"0s\"\nstarts = {starts}\n\
             tell = [ {{ by = \"post\", to = \"wardens@merrow.example\" }}, \
             {{ by = \"post\", to = [\"maps@merrow.example\"], folder = \"maps\" }} ]\n\
             [twin.back]\nnear = {{ place = \"cloud\", folder = \"inbox\" }}\nfar = {{ place = \"office\", folder = \"back\" }}\n\
             way = \"exact\"\nsettle = \"0s\"\n"
        )
    };
    let book = |starts: &str| scene.book(&[place, &mailbox("post", &post), &twin(starts)]);
    book("{ hand = {} }");
    let is_there = || {
        fs::create_dir_all(office.path("office/back")).unwrap();
        pass(scene, "back");
        assert_eq!(below(&office.path("office/back")), below(&office.path("office/project")));
    };
    let letters = |count: usize, to: &str| -> Vec<String> {
        let sent = post.wait_sent(count);
        sent.into_iter().filter(|letter| letter.contains(&format!("{to}@merrow.example"))).collect()
    };
    for (path, content) in [("plan.txt", "the plan"), ("maps/2026/north/bank.svg", "north"), ("maps/key.txt", "key")] {
        office.put(&format!("office/project/{path}"), content.as_bytes());
    }
    let old = SystemTime::UNIX_EPOCH + Duration::from_secs(1_600_000_000);
    let plan = fs::File::options().write(true).open(office.path("office/project/plan.txt")).unwrap();
    plan.set_modified(old).unwrap();
    pass(scene, "project");
    is_there();
    // A file keeps its time where its server takes that.
    let back = fs::metadata(office.path("office/back/plan.txt")).unwrap().modified().unwrap();
    let has_own_times = ["kind = \"webdav\"", "kind = \"bucket\""].iter().any(|kind| place.contains(kind));
    assert_eq!(back == old, !has_own_times, "{back:?}");
    let first = letters(2, "wardens").remove(0);
    assert!(first.contains("Subject: Sea wall project: ") && first.contains("In cloud:/inbox:"), "{first}");
    for line in ["added         plan.txt (8 B)", "  maps/2026/north/", "added         bank.svg (5 B)"] {
        assert!(first.contains(line), "{line}: {first}");
    }
    assert!(!letters(2, "maps").remove(0).contains("plan.txt"), "only of that folder");
    // Nothing of that folder, so only the others are told.
    office.put("office/project/plan.txt", b"the plan, second version");
    pass(scene, "project");
    is_there();
    // They lie there in no order.
    let is_told = |told: &[String], lines: [&str; 2]| {
        assert!(told.iter().any(|letter| lines.iter().all(|line| letter.contains(line))), "{lines:?}: {told:?}");
    };
    is_told(&letters(3, "wardens"), ["Subject: Sea wall project: 1 changed", "changed       plan.txt"]);
    // Nothing to do, nothing to tell.
    pass(scene, "project");
    fs::remove_file(office.path("office/project/maps/key.txt")).unwrap();
    book("{ schedule = { every = \"1s\" } }");
    is_told(&letters(5, "maps"), ["removed       key.txt", "is kept for 30 days"]);
    office.wait_idle();
    is_there();
    assert_eq!(post.sent().len(), 5, "a pass that does nothing is not told of");
    let notices = office.runs().iter().filter(|run| run["rule"] == "twin-project" && run["cause"] == "chain").count();
    assert_eq!(notices, 5, "each mail is on record as a run");
}

/// Two twins by one rule, at one time of the day.
fn j21_several_folders_are_brought_up_to_date_by_one_rule(scene: &Scene, place: &str) {
    let office = &scene.office;
    for folder in ["office/gauges", "office/charts", "office/back", "office/seed/gauges", "office/seed/charts"] {
        fs::create_dir_all(office.path(folder)).unwrap();
    }
    let twin = |name: &str, way: &str| {
        format!(
            "[twin.{name}]\nnear = {{ place = \"office\", folder = \"{name}\" }}\nfar = {{ place = \"cloud\", folder = \"inbox/{name}\" }}\n\
             way = \"{way}\"\nsettle = \"0s\"\n"
        )
    };
    let rules = "[twin.seed]\nnear = { place = \"office\", folder = \"seed\" }\nfar = { place = \"cloud\", folder = \"inbox\" }\nway = \"add\"\n\
        [twin.back]\nnear = { place = \"cloud\", folder = \"inbox\" }\nfar = { place = \"office\", folder = \"back\" }\n\
        way = \"exact\"\nsettle = \"0s\"\n\
        [rule.nightly]\nstarts = { schedule = { at = \"03:00\" } }\n[[rule.nightly.branch]]\n\
        steps = [ { align = { twin = \"gauges\" } }, { align = { twin = \"charts\" } } ]\n";
    scene.book(&[place, &twin("gauges", "update"), &twin("charts", "exact"), rules]);
    pass(scene, "seed");
    for number in 0..12 {
        office.put(&format!("office/gauges/{number}.csv"), format!("gauge {number}").as_bytes());
        office.put(&format!("office/charts/2026/{number}.svg"), format!("chart {number}").as_bytes());
    }
    let is_there = || {
        pass(scene, "back");
        for folder in ["gauges", "charts"] {
            let back = below(&office.path(&format!("office/back/{folder}")));
            assert_eq!(back, below(&office.path(&format!("office/{folder}"))), "{folder}");
        }
    };
    let nightly = || {
        assert!(office.wetbank(&["rule", "run", "nightly"]).status.success());
        std::thread::sleep(Duration::from_millis(300));
        office.wait_idle();
    };
    nightly();
    is_there();
    office.put("office/gauges/3.csv", b"gauge 3, read again");
    office.put("office/charts/2026/new.svg", b"a new chart");
    fs::remove_file(office.path("office/charts/2026/5.svg")).unwrap();
    nightly();
    is_there();
    let last = |twin: &str| {
        let shown = office.json(&["twin", "show", twin]);
        shown["passes"].as_array().unwrap().iter().find(|pass| !pass["run"].is_null()).unwrap()["words"].clone()
    };
    assert_eq!((last("gauges"), last("charts")), ("1 replaced".into(), "1 copied, 1 deleted".into()));
    nightly();
    wait_for("it to be alike", || (office.json(&["twin", "show", "charts"])["state"] == "alike").then_some(()));
}

/// Two services that call their twins alike and share a folder are no strangers to it: what one deletes goes at the other.
#[test]
fn j07_two_services_whose_twins_have_one_name_share_a_folder() {
    let shared = tempfile::tempdir().unwrap();
    let desk = || {
        let scene = Scene::new();
        fs::create_dir_all(scene.office.path("office/inbox")).unwrap();
        let cloud = format!("[place.cloud]\nkind = \"folder\"\nroot = \"{}\"\n", shared.path().display());
        let twin = "[twin.inbox]\nnear = { place = \"office\", folder = \"inbox\" }\nfar = { place = \"cloud\" }\nway = \"both\"\n\
            settle = \"0s\"\nstarts = { change = {} }\n";
        scene.book(&[&cloud, twin]);
        scene
    };
    let desks = [desk(), desk()];
    let inboxes = [0, 1].map(|at| desks[at].office.path("office/inbox"));
    let alike = |what: &str, wanted: &[&str]| {
        let has = |inbox| below(inbox).into_keys().collect::<Vec<_>>() == wanted;
        wait_for(what, || inboxes.iter().all(|inbox| has(inbox)).then_some(()));
    };
    for (at, name) in ["north.csv", "south.csv"].into_iter().enumerate() {
        fs::write(inboxes[at].join(name), name).unwrap();
    }
    alike("both to have both", &["north.csv", "south.csv"]);
    for round in 0..3 {
        fs::write(inboxes[round % 2].join("more.csv"), format!("more {round}")).unwrap();
        alike("both to have it", &["more.csv", "north.csv", "south.csv"]);
        desks.iter().for_each(|desk| desk.office.wait_idle());
        fs::remove_file(inboxes[(round + 1) % 2].join("more.csv")).unwrap();
        alike("both to have lost it", &["north.csv", "south.csv"]);
    }
    for desk in &desks {
        desk.office.wait_idle();
        assert!(desk.office.holds().is_empty(), "{:?}", desk.office.holds());
    }
}

/// What is done in quiet hours is told in one mail when they are over, and no stop between makes it two or none.
#[test]
fn what_passes_did_in_quiet_hours_is_one_mail_when_they_are_over() {
    let (mut scene, post) = (Scene::new(), PostOffice::start());
    fs::create_dir_all(scene.office.path("office/charts")).unwrap();
    fs::create_dir_all(scene.office.path("store")).unwrap();
    let book = |scene: &Scene, quiet: &str| {
        let twin = format!(
            "[twin.charts]\nnear = {{ place = \"office\", folder = \"charts\" }}\nfar = {{ place = \"store\" }}\nway = \"both\"\n\
             settle = \"0s\"\ntell = [ {{ by = \"post\", to = \"wardens@merrow.example\"{quiet} }} ]\n"
        );
        scene.book(&["[place.store]\nkind = \"folder\"\nroot = \"@/store\"\n", &mailbox("post", &post), &twin]);
    };
    // The whole day is quiet.
    book(&scene, ", quiet = { from = \"06:00\", until = \"06:00\" }");
    scene.office.put("office/charts/north.svg", b"north");
    pass(&scene, "charts");
    scene.office.put("store/south.svg", b"south");
    pass(&scene, "charts");
    scene.office.kill();
    scene.office.start();
    assert_eq!(post.sent().len(), 0, "it is quiet");
    book(&scene, "");
    let letter = post.wait_sent(1).remove(0);
    for line in [
        "Subject: charts: 2 added",
        "In office:/charts:",
        "added         south.svg",
        "In store:/:",
        "added         north.svg",
    ] {
        assert!(letter.contains(line), "{line}: {letter}");
    }
    scene.office.wait_idle();
    pass(&scene, "charts");
    assert_eq!(post.sent().len(), 1, "once");
}
