//! A run that looks for files and would take away many asks before it does anything.

use crate::support::{Office, names, office, wait_for};

fn many(office: &Office, folder: &str, count: usize) {
    for number in 0..count {
        office.put(&format!("office/{folder}/{number:03}.csv"), b"x");
    }
}

fn left(office: &Office, folder: &str) -> usize {
    names(&office.path(&format!("office/{folder}"))).iter().filter(|name| name.ends_with(".csv")).count()
}

/// Runs the rule and tells what is held for it.
fn held(office: &Office, rule: &str) -> serde_json::Value {
    office.wetbank(&["rule", "run", rule]);
    office.wait_idle();
    let holds = office.holds();
    assert_eq!(holds.len(), 1, "one question however often it is run: {holds:?}");
    holds[0].clone()
}

fn release(office: &Office, hold: &serde_json::Value) {
    assert!(office.wetbank(&["hold", "release", &hold["item"].to_string()]).status.success());
    office.wait_idle();
}

#[test]
fn a_run_that_only_deletes_asks_before_many_and_does_what_was_told_once_it_is_meant() {
    let office = office(
        "[rule.clear]\nstarts = { hand = {} }\nfinds = [ { place = \"office\", folder = \"out\" } ]\n\
        [[rule.clear.branch]]\nif = { file = \"name\", like = \"*.csv\" }\nsteps = [ { delete = {} } ]\n",
    );
    many(&office, "out", 200);
    assert!(office.wetbank(&["rule", "run", "clear"]).status.success());
    office.wait_idle();
    assert_eq!((left(&office, "out"), office.holds().len()), (0, 0), "as many as this go without a question");
    many(&office, "out", 201);
    office.put("office/out/read me.txt", b"no branch takes this");
    let hold = held(&office, "clear");
    let why = hold["why"].as_str().unwrap();
    assert!(why.contains("delete 201 of the files") && why.contains("up to 200"), "{why}");
    assert!(hold["remedy"].as_str().unwrap().contains("wetbank rule rehearse clear"), "{hold}");
    assert_eq!(left(&office, "out"), 201, "nothing was done");
    // More by then is asked again, also after it was released.
    many(&office, "out", 230);
    release(&office, &hold);
    let hold = held(&office, "clear");
    assert!(hold["why"].as_str().unwrap().contains("delete 230 of the files"), "{hold}");
    assert_eq!(left(&office, "out"), 230);
    release(&office, &hold);
    wait_for("all to be gone", || (left(&office, "out") == 0).then_some(()));
    assert_eq!((names(&office.path("office/out")), office.holds().len()), (vec!["read me.txt".to_owned()], 0));
}

#[test]
fn of_a_rule_that_says_nothing_only_what_is_deleted_and_nothing_else_counts() {
    let office = office(
        "[rule.sort]\nstarts = { hand = {} }\nfinds = [ { place = \"office\", folder = \"out\" } ]\n\
        [[rule.sort.branch]]\nif = { file = \"name\", like = \"*.csv\" }\nsteps = [ { move = { to = \"office\", folder = \"there\" } } ]\n\
        [[rule.sort.branch]]\nsteps = [ { delete = {} } ]\n",
    );
    many(&office, "out", 210);
    office.put("office/out/old.tmp", b"x");
    assert!(office.wetbank(&["rule", "run", "sort"]).status.success());
    office.wait_idle();
    assert_eq!((left(&office, "there"), names(&office.path("office/out")).len(), office.holds().len()), (210, 0, 0));
}

#[test]
fn what_is_moved_or_replaced_is_counted_where_a_rule_has_a_brake() {
    let rule = |brake: &str, step: &str| {
        format!(
            "[rule.tidy]\nstarts = {{ hand = {{}} }}\n{brake}finds = [ {{ place = \"office\", folder = \"out\", only-new = true }} ]\n\
             [[rule.tidy.branch]]\nsteps = [ {{ {step} = {{ to = \"office\", folder = \"there\", exists = \"replace\" }} }} ]\n"
        )
    };
    let office = office(&rule("brake = { files = 3 }\n", "copy"));
    many(&office, "out", 5);
    many(&office, "there", 3);
    assert!(office.wetbank(&["rule", "run", "tidy"]).status.success());
    office.wait_idle();
    assert_eq!((left(&office, "there"), office.holds().len()), (5, 0), "three of five are replaced");
    // What it took before in this state it does not take again, so it counts for nothing.
    assert!(office.wetbank(&["rule", "run", "tidy"]).status.success());
    assert_eq!(office.holds().len(), 0);
    many(&office, "out", 5);
    let hold = held(&office, "tidy");
    assert!(hold["why"].as_str().unwrap().contains("replace 5 of the files"), "{hold}");
    // Once there is nothing to ask any more the question goes by itself.
    std::fs::remove_dir_all(office.path("office/there")).unwrap();
    let made = office.wetbank(&["rule", "run", "tidy"]);
    assert!(made.status.success(), "{} {:#?}", String::from_utf8_lossy(&made.stderr), office.runs());
    office.wait_idle();
    assert_eq!((left(&office, "there"), office.holds().len()), (5, 0));
    let moving = rule("brake = { files = 4 }\n", "move");
    office.book(&format!("{}{moving}", crate::support::PLACES));
    many(&office, "out", 5);
    let hold = held(&office, "tidy");
    assert!(hold["why"].as_str().unwrap().contains("move 5, replace 5 of the files"), "{hold}");
    assert_eq!(left(&office, "out"), 5);
}
