//! What is arranged is changed while files are on their way: each goes on with what it began with, or a person
//! is asked.

use std::fs;

use crate::support::{Office, PLACES, names, office, wait_for};

const GONE: &str = "[place.gone]\nkind = \"folder\"\nroot = \"@/gone\"\n";

const FIRST: &str = r#"
[rule.send]
starts = { arrival = { place = "office", folder = "in" } }
[[rule.send.branch]]
steps = [ { note = { text = "first" } }, { copy = { to = "gone" } } ]
"#;

const SEALED: &str = r#"
[rule.send]
starts = { arrival = { place = "office", folder = "in" } }
[[rule.send.branch]]
steps = [ { encrypt = { passphrase = { secret = "tide" } } }, { copy = { to = "archive" } } ]
"#;

/// A file waits at the second step of a rule, for a place that is away.
fn waiting() -> Office {
    let office = Office::open();
    fs::create_dir_all(office.path("archive")).unwrap();
    assert!(office.wetbank_with(&["secret", "set", "tide"], "grey heron").status.success());
    office.book(&format!("{PLACES}{GONE}{FIRST}"));
    office.put("office/in/x.csv", b"in clear");
    wait_for("it waits", || (office.json(&["status"])["waiting"] == 1).then_some(()));
    office
}

#[test]
fn a_file_whose_rule_cannot_be_read_any_more_is_held_and_never_goes_on_with_another_one() {
    let office = waiting();
    office.book(&format!("{PLACES}{SEALED}"));
    let hold = office.hold();
    assert_eq!(hold["code"], "old-rule", "{hold}");
    assert!(hold["why"].as_str().unwrap().contains("gone"), "it names what is missing: {hold}");
    let item = hold["item"].to_string();
    // It says so again instead of saying that it is released.
    let refused = office.wetbank(&["hold", "release", &item]);
    assert!(!refused.status.success());
    let said = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert!(said.contains("cannot be read") && said.contains("gone"), "{said}");
    assert!(names(&office.path("archive")).is_empty());
    // Put back, it goes on where it was.
    fs::create_dir_all(office.path("gone")).unwrap();
    office.book(&format!("{PLACES}{GONE}{SEALED}"));
    assert!(office.wetbank(&["hold", "release", &item]).status.success());
    wait_for("it is where it was to go", || office.path("gone/x.csv").exists().then_some(()));
    office.wait_idle();
    assert!(names(&office.path("archive")).is_empty());
}

#[test]
fn what_is_told_of_the_steps_of_a_changed_rule_is_what_was_done_and_nothing_else() {
    let office = waiting();
    // Another kind of step stands now where the file has passed.
    office.book(&format!("{PLACES}{GONE}{}", SEALED.replace("to = \"archive\"", "to = \"gone\"")));
    let run = office.json(&["run", "show", "1"]);
    let steps = run["items"][0]["steps"].as_array().unwrap();
    let told: Vec<_> = steps.iter().map(|one| format!("{} {}", one["kind"], one["state"])).collect();
    assert_eq!(told[0], "\"note\" \"done\"", "{told:?}");
    assert!(!run.to_string().contains("encrypt"), "nothing was encrypted: {run}");
}

#[test]
fn a_file_whose_rule_is_removed_is_held_and_released_only_when_it_is_back() {
    let office = office("");
    office.book(&format!("{PLACES}{FIRST}").replace("to = \"gone\"", "to = \"archive\", exists = \"refuse\""));
    office.put("archive/x.csv", b"somebody else's");
    office.put("office/in/x.csv", b"ours");
    let item = office.hold()["item"].to_string();
    let book = office.path("empty.toml");
    fs::write(&book, PLACES.replace("\"@/", &format!("\"{}/", office.folder.path().display()))).unwrap();
    assert!(office.wetbank(&["book", "apply", book.to_str().unwrap()]).status.success());
    let refused = office.wetbank(&["hold", "release", &item]);
    let said = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert!(!refused.status.success() && said.contains("no longer in the book"), "{said}");
    assert_eq!(office.holds()[0]["code"], "exists", "what it is held for is still so");
}

#[test]
fn a_place_that_is_removed_while_files_go_there_is_named_and_no_sign_in_is_blamed() {
    let office = waiting();
    let book = office.path("rest.toml");
    let rest = PLACES.replace("\"@/", &format!("\"{}/", office.folder.path().display()));
    fs::write(&book, rest).unwrap();
    assert!(office.wetbank(&["book", "apply", book.to_str().unwrap()]).status.success());
    let hold = office.hold();
    let why = hold["why"].as_str().unwrap();
    assert!(why.contains("gone") && !why.contains("sign-in"), "{hold}");
}

#[test]
fn rules_are_switched_while_secrets_are_set_and_no_switch_is_undone() {
    let office = office("");
    assert!(office.wetbank_with(&["secret", "set", "pw"], "a").status.success());
    let places: String = (0..12)
        .map(|number| {
            format!(
                "[place.s{number}]\nkind = \"sftp\"\nhost = \"127.0.0.1\"\nport = 9\nuser = \"x\"\npassword = {{ secret = \"pw\" }}\n"
            )
        })
        .collect();
    office.book(&format!(
        "{PLACES}{places}{}",
        SEALED.replace("{ encrypt = { passphrase = { secret = \"tide\" } } }, ", "")
    ));
    let call = caller(&office);
    let mut on = true;
    for turn in 0..40 {
        on = !on;
        std::thread::scope(|scope| {
            scope.spawn(|| call("PUT", "/secrets/pw", "{\"value\":\"a\"}"));
            call("POST", "/rules/send/switch", &format!("{{\"on\":{on}}}"));
        });
        let rules = office.json(&["rule", "list"]);
        let shown = rules.as_array().or_else(|| rules["rules"].as_array()).unwrap();
        assert_eq!(shown[0]["on"], on, "turn {turn}");
    }
}

/// Calls of the API by a program of its own, so that two of them are made at once.
fn caller(office: &Office) -> impl Fn(&str, &str, &str) + Sync + use<> {
    let (url, token) = (office.url(), office.token());
    move |method, path, body| {
        let status = std::process::Command::new("curl")
            .args(["-sf", "-X", method, "-H", "content-type: application/json", "-d", body])
            .args(["-H", &format!("authorization: Bearer {}", token.trim()), &format!("{url}/api/v1{path}")])
            .status();
        assert!(status.unwrap().success(), "{method} {path}");
    }
}
