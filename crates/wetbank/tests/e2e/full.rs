//! The disk on which the service keeps its records is full.

use std::{
    fs,
    io::Write,
    process::Command,
    time::{Duration, Instant},
};

use serde_json::{Value, json};

use crate::support::{
    Office, leftovers, names, office,
    people::{Colleague, password},
    wait_for,
};
use wetbank_testbed::SmallDisk;

const KEEP: &str = r#"
[rule.keep]
starts = { arrival = { place = "office", folder = "in" } }
[[rule.keep.branch]]
steps = [ { copy = { to = "archive" } } ]
original = "delete"
"#;

/// An office whose records lie on a disk of a few MiB; nothing where none can be mounted.
fn on_a_small_disk() -> Option<(Office, SmallDisk)> {
    let mut office = office(KEEP);
    office.stop();
    let (data, aside) = (office.data(), office.path("aside"));
    fs::rename(&data, &aside).unwrap();
    fs::create_dir(&data).unwrap();
    let disk = SmallDisk::over(&data, 8 << 10)?;
    let copied = Command::new("cp").args(["-a", "-T"]).arg(&aside).arg(&data).status().unwrap();
    assert!(copied.success());
    office.start();
    Some((office, disk))
}

/// Takes all the room that is left.
fn fill(office: &Office) {
    let mut filler = fs::File::create(office.data().join("filler")).unwrap();
    while filler.write_all(&[0; 512]).is_ok() {}
}

fn make_room(office: &Office) {
    fs::remove_file(office.data().join("filler")).unwrap();
}

#[test]
fn what_comes_while_the_records_have_no_room_is_taken_in_once_they_have() {
    let Some((office, _disk)) = on_a_small_disk() else { return };
    fill(&office);
    for number in 0..40 {
        office.put(&format!("office/in/{number}.csv"), b"levels");
    }
    wait_for("the service says so", || {
        let status = office.json(&["status"]);
        status["warnings"].to_string().contains("the journal cannot be written").then_some(())
    });
    assert!(names(&office.path("archive")).len() <= office.runs().len(), "nothing is done that cannot be recorded");
    // Nothing else comes that would call attention to them.
    make_room(&office);
    let since = Instant::now();
    wait_for("all arrive", || (names(&office.path("archive")).len() == 40).then_some(()));
    assert!(since.elapsed() < Duration::from_secs(20), "not only when the whole folder is looked through again");
    office.wait_idle();
    assert!(office.holds().is_empty() && names(&office.path("office/in")).is_empty());
    assert_eq!(office.runs().len(), 40);
}

#[test]
fn a_disk_that_fills_up_in_the_midst_of_the_work_loses_no_file_and_doubles_none() {
    let Some((mut office, _disk)) = on_a_small_disk() else { return };
    for round in 0..4u64 {
        for number in 0..30 {
            office.put(&format!("office/in/{round}-{number}.csv"), b"levels");
        }
        std::thread::sleep(Duration::from_millis(20 + 30 * round));
        fill(&office);
        std::thread::sleep(Duration::from_millis(300));
        if round == 2 {
            office.kill();
            make_room(&office);
            office.start();
        } else {
            make_room(&office);
        }
    }
    wait_for("all arrive", || {
        assert!(office.holds().is_empty(), "{:?}", office.holds());
        (names(&office.path("archive")).len() == 120).then_some(())
    });
    office.wait_idle();
    wait_for("every original is gone", || names(&office.path("office/in")).is_empty().then_some(()));
    assert_eq!(office.runs().len(), 120);
    assert!(leftovers(office.folder.path()).is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn without_room_for_the_record_nobody_comes_in_and_nothing_is_changed() {
    let Some((office, _disk)) = on_a_small_disk() else { return };
    let mut ina = office.colleague("ina", "manager").await;
    fill(&office);
    let switch = async |ina: &Colleague, on: bool| ina.post("/rules/keep/switch", json!({ "on": on })).await;
    let is_on = async |ina: &Colleague| ina.get("/rules/keep").await.json::<Value>().await.unwrap()["on"] == true;
    // What the journal has room for is done; from then on each is refused, and has not happened.
    let (mut done, mut refused) = (0, 0);
    for round in 0..2_000 {
        let (before, on) = (is_on(&ina).await, round % 2 == 0);
        let answer = switch(&ina, on).await;
        match answer.status().as_u16() {
            204 => done += 1,
            status => {
                let problem: Value = answer.json().await.unwrap();
                assert_eq!((status, &problem["code"]), (500, &json!("journal")), "{problem}");
                assert!(problem["detail"].as_str().unwrap().contains("free space"), "{problem}");
                assert_eq!(is_on(&ina).await, before, "it was refused, and has not happened");
                refused += 1;
            }
        }
        if refused == 3 {
            break;
        }
    }
    assert_eq!(refused, 3, "{done} were done");
    // Whoever comes in now is on record; else nobody does.
    let (status, code) = ina.sign_in("ina", &password("ina"), None).await;
    assert!(status == 204 || code == "journal", "{status} {code}");
    make_room(&office);
    wait_for("there is room", || office.wetbank(&["rule", "off", "keep"]).status.success().then_some(()));
    assert_eq!(ina.sign_in("ina", &password("ina"), None).await.0, 204);
    let audit = office.json(&["audit", "--who", "ina", "--limit", "500"]);
    let switched = audit["entries"].as_array().unwrap().iter().filter(|one| one["outcome"] == 204);
    assert!(switched.filter(|one| one["about"] == "/rules/keep/switch").count() >= done.min(400), "{done}");
}
