//! Two folders that are kept alike, by the real service: between any kinds of place, from the command line, and however
//! often the service is ended without warning.

use std::{
    collections::BTreeSet,
    fs,
    time::{Duration, Instant, SystemTime},
};

use wetbank_testbed::{Mounted, SHARE_NAME, SHARE_USER, Samba, ShareOffer, SmallDisk};

use crate::support::{
    Office,
    browser::Browser,
    names,
    servers::{Scene, shared_folder},
    sides::{below, kept},
    wait_for,
};

const LOCAL: &str = "[place.office]\nkind = \"folder\"\nroot = \"@/office\"\n[place.store]\nkind = \"folder\"\nroot = \"@/store\"\n\
    [twin.readings]\nnear = { place = \"office\", folder = \"in\" }\nfar = { place = \"store\", folder = \"shared\" }\n";

fn local(keys: &str) -> Office {
    let office = Office::open();
    for folder in ["office/in", "store/shared"] {
        fs::create_dir_all(office.path(folder)).unwrap();
    }
    office.book(&format!("{LOCAL}{keys}\n"));
    office
}

#[test]
fn a_twin_is_compared_run_settled_and_restored_from_the_command_line() {
    let later = (jiff::Timestamp::now() + Duration::from_secs(12 * 3600)).strftime("%H:%M").to_string();
    let office = local(&format!("way = \"both\"\ndiffers = \"ask\"\nstarts = {{ schedule = {{ at = \"{later}\" }} }}"));
    let next = &office.json(&["status"])["next"][0];
    assert_eq!((&next["rule"], &next["title"]), (&"twin-readings".into(), &"readings".into()));
    office.put("office/in/map.txt", b"one\ntwo\n");
    office.put("store/shared/map.txt", b"one\nthree\n");
    office.put("office/in/new.csv", b"new");
    let listed = office.json(&["twin", "list"]);
    assert_eq!((&listed[0]["state"], &listed[0]["way"]), (&"new".into(), &"both".into()));
    let found = office.json(&["twin", "compare", "readings"]);
    let told: Vec<_> = found["lines"].as_array().unwrap().iter().map(|line| line["words"].as_str().unwrap()).collect();
    assert_eq!((told, &found["first"]), (vec!["which one stays?", "copied there"], &true.into()));
    assert!(below(&office.path("store/shared")).len() == 1, "nothing was touched");
    assert!(office.wetbank(&["twin", "run", "readings", "--without", "new.csv"]).status.success());
    assert_eq!(below(&office.path("store/shared")).len(), 1);
    assert!(office.wetbank(&["twin", "run", "readings"]).status.success());
    assert_eq!(below(&office.path("store/shared")).len(), 2);
    let hold = office.hold();
    assert!(hold["why"].as_str().unwrap().contains("waits for an answer"), "{hold}");
    let wrong = office.wetbank(&["twin", "settle", "readings", "none.txt", "--keep", "near"]);
    assert_eq!(wrong.status.code(), Some(2), "{}", String::from_utf8_lossy(&wrong.stderr));
    let settled = office.wetbank(&["twin", "settle", "readings", "map.txt", "--keep", "near"]);
    assert!(settled.status.success(), "{}", String::from_utf8_lossy(&settled.stderr));
    assert_eq!(fs::read(office.path("store/shared/map.txt")).unwrap(), b"one\ntwo\n");
    assert!(office.wetbank(&["twin", "run", "readings"]).status.success());
    wait_for("the question to go", || office.holds().is_empty().then_some(()));
    let list = office.json(&["twin", "restore", "readings", "--list"]);
    let one = &list["kept"][0];
    assert_eq!((&one["side"], &one["path"]), (&"far".into(), &"map.txt".into()));
    let day = one["day"].as_str().unwrap();
    let back = office.wetbank(&["twin", "restore", "readings", "map.txt", "--side", "far", "--day", day]);
    assert!(back.status.success(), "{}", String::from_utf8_lossy(&back.stderr));
    wait_for("it to be back beside the other", || (below(&office.path("office/in")).len() == 3).then_some(()));
    office.wait_idle();
    assert_eq!(below(&office.path("office/in")), below(&office.path("store/shared")));
    let none = office.wetbank(&["twin", "restore", "readings", "x", "--side", "near", "--day", day]);
    assert!(String::from_utf8_lossy(&none.stderr).contains("does not keep x"), "{none:?}");
    let gone = office.wetbank(&["twin", "show", "nobody"]);
    assert_eq!(gone.status.code(), Some(2), "{}", String::from_utf8_lossy(&gone.stderr));
}

#[test]
fn a_stopped_pass_says_why_and_is_made_when_it_is_meant() {
    let office = local("way = \"exact\"");
    for number in 0..30 {
        office.put(&format!("office/in/{number}.csv"), format!("{number}").as_bytes());
    }
    assert!(office.wetbank(&["twin", "run", "readings"]).status.success());
    for number in 0..15 {
        fs::remove_file(office.path(&format!("office/in/{number}.csv"))).unwrap();
    }
    let stopped = office.wetbank(&["twin", "run", "readings"]);
    assert_eq!(stopped.status.code(), Some(1));
    let said = String::from_utf8_lossy(&stopped.stdout).into_owned();
    assert!(
        said.contains("it would delete 15 of 30 files on the far side; up to 10 are done without asking"),
        "{said}"
    );
    assert_eq!(below(&office.path("store/shared")).len(), 30);
    let meant = office.wetbank(&["twin", "run", "readings", "--meant"]);
    assert!(meant.status.success(), "{}", String::from_utf8_lossy(&meant.stdout));
    assert_eq!((below(&office.path("store/shared")).len(), kept(&office.path("store/shared")).len()), (15, 16));
}

#[test]
fn a_twin_that_cannot_be_is_refused_with_its_reason() {
    let office = local("way = \"both\"");
    for (keys, said) in [
        (
            "near = { place = \"office\" }\nfar = { place = \"office\", folder = \"in\" }\nway = \"both\"",
            "lies in office:/",
        ),
        (
            "near = { place = \"office\", folder = \"in/a\" }\nfar = { place = \"office\", folder = \"in\" }\nway = \"add\"",
            "lies in office:/in",
        ),
        ("near = { place = \"office\" }\nfar = { place = \"office\" }\nway = \"add\"", "both sides are office:/"),
        ("near = { place = \"office\" }\nfar = { place = \"stoer\" }\nway = \"add\"", "did you mean \"store\"?"),
        ("near = { place = \"office\" }\nfar = { place = \"store\" }\nway = \"mirror\"", "unknown word \"mirror\""),
        (
            "near = { place = \"office\" }\nfar = { place = \"store\" }\nway = \"add\"\ndiffers = \"far\"",
            "only way = \"both\"",
        ),
        (
            "near = { place = \"office\" }\nfar = { place = \"store\" }\nway = \"add\"\nbrake = { share = 120 }",
            "from 0 to 100",
        ),
        (
            "near = { place = \"office\" }\nfar = { place = \"store\", folder = \".wetbank-kept\" }\nway = \"add\"",
            "service's own",
        ),
        ("near = { place = \"office\" }\nfar = { place = \"store\" }\nway = \"add\"\nstarts = {}", "starts needs"),
        ("near = { place = \"office\" }\nfar = { place = \"store\" }\nway = \"add\"\nkeep-days = 0", "keep-days"),
    ] {
        let refused = office.try_book(&format!("{LOCAL}way = \"both\"\n[twin.other]\n{keys}\n"));
        let told = [refused.stderr.as_slice(), &refused.stdout].concat();
        let told = String::from_utf8_lossy(&told);
        assert!(!refused.status.success() && told.contains(said), "{keys}: {told}");
    }
    let taken = "[rule.twin-readings]\nstarts = { hand = {} }\n[[rule.twin-readings.branch]]\nsteps = [ { note = { text = \"x\" } } ]\n";
    let refused = office.try_book(&format!("{LOCAL}way = \"both\"\n{taken}"));
    assert!(String::from_utf8_lossy(&refused.stderr).contains("name"), "{refused:?}");
}

#[test]
fn a_side_that_is_full_holds_what_does_not_fit_and_one_that_is_not_mounted_loses_nothing() {
    let office = local("way = \"both\"");
    let Some(disk) = SmallDisk::over(&office.path("store"), 256) else { return };
    fs::create_dir_all(office.path("store/shared")).unwrap();
    for number in 0..6 {
        office.put(&format!("office/in/{number}.csv"), &[b'x'; 20_000]);
    }
    assert!(office.wetbank(&["twin", "run", "readings"]).status.success());
    office.put("office/in/large.raw", &[b'y'; 400_000]);
    let full = office.wetbank(&["twin", "run", "readings"]);
    let said = String::from_utf8_lossy(&full.stdout).into_owned();
    assert!(said.contains("1 are held"), "{said}");
    let hold = office.hold();
    assert!(hold["why"].as_str().unwrap().contains("no space"), "{hold}");
    assert_eq!(office.json(&["twin", "show", "readings"])["state"], "asks");
    // A further pass does not hold it twice.
    assert_eq!(office.wetbank(&["twin", "run", "readings"]).status.code(), Some(1));
    assert_eq!(office.holds().len(), 1);
    disk.resize(2_000);
    assert!(office.wetbank(&["hold", "release", &hold["item"].to_string()]).status.success());
    wait_for("it to fit", || office.path("store/shared/large.raw").exists().then_some(()));
    office.wait_idle();
    assert!(office.wetbank(&["twin", "run", "readings"]).status.success());
    assert_eq!(below(&office.path("office/in")), below(&office.path("store/shared")));
    // The disk is not there: where it was mounted lies an empty folder, or none.
    let before = below(&office.path("office/in"));
    drop(disk);
    let gone = office.wetbank(&["twin", "run", "readings"]);
    assert_eq!(gone.status.code(), Some(1), "{gone:?}");
    fs::create_dir_all(office.path("store/shared")).unwrap();
    let empty = office.wetbank(&["twin", "run", "readings"]);
    let said = String::from_utf8_lossy(&empty.stdout).into_owned();
    assert!(empty.status.code() == Some(1) && said.contains("another folder than last time"), "{said}");
    assert_eq!(below(&office.path("office/in")), before);
}

#[test]
fn a_side_that_takes_no_file_loses_none_and_gets_all_when_it_does_again() {
    let office = local("way = \"both\"");
    let Some(disk) = SmallDisk::over(&office.path("store"), 4_096) else { return };
    fs::create_dir_all(office.path("store/shared")).unwrap();
    office.put("office/in/a.csv", b"a");
    office.put("office/in/b.csv", b"b");
    assert!(office.wetbank(&["twin", "run", "readings"]).status.success());
    disk.set_read_only(true);
    office.put("office/in/c.csv", b"c");
    fs::remove_file(office.path("office/in/a.csv")).unwrap();
    let before = (below(&office.path("office/in")), below(&office.path("store/shared")));
    let refused = office.wetbank(&["twin", "run", "readings"]);
    let said = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert!(!refused.status.success() && said.contains("store") && said.to_lowercase().contains("read-only"), "{said}");
    assert_eq!((below(&office.path("office/in")), below(&office.path("store/shared"))), before);
    disk.set_read_only(false);
    assert!(office.wetbank(&["twin", "run", "readings"]).status.success());
    assert_eq!(below(&office.path("office/in")), below(&office.path("store/shared")));
    assert_eq!(below(&office.path("store/shared")).into_keys().collect::<Vec<_>>(), ["b.csv", "c.csv"]);
}

#[test]
fn a_folder_that_is_mounted_below_itself_or_the_other_one_is_told_and_nothing_is_copied_round_and_round() {
    for (from, says) in [("office/in", "office:/in itself"), ("store/shared", "store:/shared itself")] {
        let office = local("way = \"both\"\nexcept = [\"out\"]");
        office.put("office/in/a.csv", b"a");
        let again = office.path("office/in/2026/again");
        fs::create_dir_all(&again).unwrap();
        let Some(_mounted) = Mounted::at(&office.path(from), &again) else { return };
        let refused = office.wetbank(&["twin", "run", "readings"]);
        let said = String::from_utf8_lossy(&refused.stderr).into_owned();
        assert!(!refused.status.success() && said.contains("office:/in/2026/again") && said.contains(says), "{said}");
        assert!(below(&office.path("store/shared")).is_empty());
    }
    // Where the twin is not about it, it is nobody's concern.
    let office = local("way = \"both\"\nexcept = [\"out\"]");
    office.put("office/in/a.csv", b"a");
    fs::create_dir_all(office.path("office/in/out")).unwrap();
    let Some(_mounted) = Mounted::at(&office.path("store/shared"), &office.path("office/in/out")) else { return };
    assert!(office.wetbank(&["twin", "run", "readings"]).status.success());
    assert_eq!(below(&office.path("store/shared")).into_keys().collect::<Vec<_>>(), ["a.csv"]);
}

#[test]
fn clocks_an_hour_apart_and_one_name_in_two_spellings_lose_nothing() {
    let office = local("way = \"both\"\ndiffers = \"newer\"");
    let (near, far) = (office.path("office/in"), office.path("store/shared"));
    let pass = || assert!(office.wetbank(&["twin", "run", "readings"]).status.success());
    let at = |path: &str, time: SystemTime| {
        fs::File::options().write(true).open(office.path(path)).unwrap().set_modified(time).unwrap();
    };
    let (now, hour) = (SystemTime::now(), Duration::from_secs(3_600));
    office.put("office/in/map.txt", b"one");
    pass();
    // Whatever the clocks say: one stays on both sides, and the other is kept.
    for (here, there, clock, stays) in [("two", "three", now + hour, "three"), ("four", "five", now - hour, "four")] {
        office.put("office/in/map.txt", here.as_bytes());
        office.put("store/shared/map.txt", there.as_bytes());
        at("store/shared/map.txt", clock);
        pass();
        assert_eq!((below(&near), below(&near)["map.txt"].as_slice()), (below(&far), stays.as_bytes()));
        let lost = if stays == here { there } else { here };
        let kept = [kept(&near), kept(&far)].concat();
        assert!(kept.iter().any(|content| content == lost.as_bytes()), "{lost}: {kept:?}");
    }
    office.put("office/in/caf\u{e9}.txt", b"coffee");
    office.put("store/shared/cafe\u{301}.txt", b"coffee");
    pass();
    assert_eq!((below(&near).len(), below(&far).len()), (2, 2), "it is one file");
    fs::remove_file(office.path("office/in/caf\u{e9}.txt")).unwrap();
    pass();
    assert_eq!(below(&far).into_keys().collect::<Vec<_>>(), ["map.txt"]);
}

#[test]
fn names_that_differ_in_capitals_only_are_asked_about_where_a_share_knows_none() {
    let (scene, samba) = (Scene::new(), Samba::start(ShareOffer::Usual));
    shared_folder(&samba.root.path().join("shared"));
    let place = format!(
        "[place.cloud]\nkind = \"share\"\nhost = \"127.0.0.1\"\nport = {}\nshare = \"{SHARE_NAME}\"\nuser = \"{}\"\n\
         password = {{ secret = \"share\" }}\nsecurity = \"signed\"\n",
        samba.port, SHARE_USER.0
    );
    let office = &scene.office;
    assert!(office.wetbank_with(&["secret", "set", "share"], SHARE_USER.1).status.success());
    fs::create_dir_all(office.path("office/in")).unwrap();
    let twin = "[twin.readings]\nnear = { place = \"office\", folder = \"in\" }\nfar = { place = \"cloud\", folder = \"shared\" }\n\
        way = \"both\"\nsettle = \"0s\"\n";
    scene.book(&[&place, twin]);
    for (name, content) in [("A.txt", "one"), ("a.txt", "another"), ("10:30.csv", "colon"), ("plain.csv", "plain")] {
        office.put(&format!("office/in/{name}"), content.as_bytes());
    }
    assert!(office.wetbank(&["twin", "run", "readings"]).status.success());
    let found = office.json(&["twin", "compare", "readings"]);
    let whys: Vec<_> = found["lines"].as_array().unwrap().iter().map(|line| line["why"].as_str().unwrap()).collect();
    let told = whys.join("; ");
    assert!(told.contains("where A and a are one") && told.contains("the name is not possible there"), "{found}");
    assert_eq!(below(&office.path("office/in")).len(), 4, "nothing is lost");
    // With fitted names the colon is no hindrance; capitals still are.
    scene.book(&[&place, &format!("{twin}fit-names = true\n")]);
    assert!(office.wetbank(&["twin", "run", "readings"]).status.success());
    let there = below(&samba.root.path().join("shared"));
    assert!(there.values().any(|content| content == b"colon"), "{there:?}");
    for _ in 0..2 {
        assert!(office.wetbank(&["twin", "run", "readings"]).status.success());
    }
    assert_eq!((below(&office.path("office/in")).len(), below(&samba.root.path().join("shared"))), (4, there));
}

#[tokio::test(flavor = "multi_thread")]
async fn a_plan_is_looked_at_changed_and_done_in_the_console() {
    let (office, browser) = (local("way = \"both\"\ndiffers = \"ask\""), Browser::open().await);
    office.put("office/in/maps/map.txt", b"one\ntwo\n");
    office.put("store/shared/maps/map.txt", b"one\nthree\n");
    office.put("office/in/new.csv", b"new");
    office.put("office/in/drafts/draft.csv", b"draft");
    browser.sign_in(&office).await;
    browser.go(&office, "/twins").await;
    browser.click("//a[text()='readings']").await;
    browser.find("//*[contains(., 'Both sides meet for the first time')]").await;
    // Both texts, line by line.
    browser.press("both texts").await;
    browser.find("//dialog[@open]//pre[contains(., '− two') and contains(., '+ three')]").await;
    browser.asked("document.querySelector('dialog[open]').close()").await;
    // A folder is left out this time, the map is settled, and just that is done.
    browser.click("//input[@aria-label='Do it in drafts/']").await;
    browser.find("//*[contains(text(), 'left out this time')]").await;
    browser.press("far one →").await;
    browser.press("Do this plan").await;
    wait_for("the plan to be done", || office.path("store/shared/new.csv").exists().then_some(()));
    browser.find("//input[@aria-label='Do it in drafts/']").await;
    let settled = || fs::read(office.path("office/in/maps/map.txt")).is_ok_and(|text| text == b"one\nthree\n");
    wait_for("the map to be the far one", || settled().then_some(()));
    assert!(!office.path("store/shared/drafts").exists());
    // For ever: it stands in the book from then on.
    browser.click("//input[@aria-label='Do it in drafts/']").await;
    browser.press("for ever?").await;
    browser.find("//*[text()='Both sides are alike']").await;
    assert!(office.json(&["twin", "show", "readings"])["text"].as_str().unwrap().contains("/drafts"));
    // What was replaced here is kept, and comes back beside the other.
    browser.click("//button[@role='tab' and text()='Kept']").await;
    browser.press("Bring back maps/map.txt").await;
    browser.find("//output[contains(., 'It is brought back')]").await;
    wait_for("both versions on both sides", || {
        let maps = |side: &str| names(&office.path(side).join("maps")).len();
        (maps("office/in") == 2 && maps("store/shared") == 2).then_some(())
    });
    // The brake wants the number typed.
    for number in 0..20 {
        office.put(&format!("office/in/many/{number}.csv"), b"x");
    }
    assert!(office.wetbank(&["twin", "run", "readings"]).status.success());
    fs::remove_dir_all(office.path("office/in/many")).unwrap();
    browser.go(&office, "/twins/readings").await;
    browser.press("Delete all 20 there…").await;
    browser.fill("Type 20 to go on", "20").await;
    browser.press("Delete all 20 there").await;
    wait_for("the copies to go", || (!office.path("store/shared/many").exists()).then_some(()));
    browser.find("//*[text()='Both sides are alike']").await;
}

/// A generator of our own, so that a failing run's seed can be tried again.
struct Random(u64);

impl Random {
    fn below(&mut self, limit: u64) -> u64 {
        self.0 = self.0.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1_442_695_040_888_963_407);
        (self.0 >> 33) % limit
    }
}

#[test]
fn however_often_the_service_is_ended_without_warning_both_sides_come_to_be_alike_and_nothing_is_lost() {
    let now = SystemTime::now().duration_since(SystemTime::UNIX_EPOCH).unwrap().subsec_nanos();
    for seed in [7, u64::from(now)] {
        let mut office = local("way = \"both\"\nbrake = { share = 100, files = 100000 }\nstarts = { change = {} }");
        let mut random = Random(seed);
        let sides = ["office/in", "store/shared"];
        // What people wrote, and did not delete or write over themselves.
        let mut wanted: BTreeSet<Vec<u8>> = BTreeSet::new();
        for deed in 0..300 {
            let side = sides[usize::from(random.below(2) == 1)];
            let mut at = || format!("{side}/{}/{}.csv", random.below(4), random.below(40));
            let (one, other) = (office.path(&at()), office.path(&at()));
            let what = random.below(6);
            match what {
                0..3 => {
                    // Whole, at once, as a careful writer does; what it writes over may be there or not by then.
                    let before = fs::read(&one).ok();
                    let text = format!("seed {seed}, deed {deed}").into_bytes();
                    fs::create_dir_all(one.parent().unwrap()).unwrap();
                    let aside = office.path("aside");
                    fs::write(&aside, &text).unwrap();
                    fs::rename(&aside, &one).unwrap();
                    if let Some(before) = before {
                        wanted.remove(&before);
                    }
                    wanted.insert(text);
                }
                3 => {
                    if let Ok(before) = fs::read(&one)
                        && fs::remove_file(&one).is_ok()
                    {
                        wanted.remove(&before);
                    }
                }
                // Without replacing anything.
                4 if one.exists() && other.parent().unwrap().is_dir() && fs::hard_link(&one, &other).is_ok() => {
                    let _ = fs::remove_file(&one);
                }
                _ => {}
            }
            if deed % 12 == 5 {
                std::thread::sleep(Duration::from_millis(random.below(120)));
                office.kill();
                office.start();
            }
        }
        let (near, far) = (office.path(sides[0]), office.path(sides[1]));
        let end = Instant::now() + Duration::from_secs(60);
        loop {
            let run = office.wetbank(&["twin", "run", "readings"]);
            let is_alike = office.json(&["twin", "compare", "readings"])["all"] == 0;
            if is_alike && below(&near) == below(&far) {
                break;
            }
            assert!(
                Instant::now() < end,
                "seed {seed}: never alike: {} {}",
                String::from_utf8_lossy(&run.stdout),
                office.json(&["twin", "compare", "readings"])
            );
        }
        let there: BTreeSet<Vec<u8>> = below(&near).into_values().chain(kept(&near)).chain(kept(&far)).collect();
        let lost: Vec<_> = wanted.difference(&there).map(|one| String::from_utf8_lossy(one).into_owned()).collect();
        assert!(lost.is_empty(), "seed {seed}: lost {lost:?}");
        assert!(office.holds().is_empty(), "seed {seed}: {:?}", office.holds());
    }
}
