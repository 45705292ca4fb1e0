//! Rules that other systems start.

use std::{
    fs,
    process::Command,
    time::{SystemTime, UNIX_EPOCH},
};

use crate::support::{Office, names, wait_for};
use serde_json::Value;

const SECRET: &str = "cormorant on the pole";
const BOOK: &str = r#"
[place.office]
kind = "folder"
root = "@/office"

[rule.item-ready]
starts = { signal = { secret = "desk-signal" } }
finds = [ { place = "office", folder = "items/{{ signal.item.id }}", names = ["*.csv"] } ]
[[rule.item-ready.branch]]
title = "Ready"
if = { signal = "item.status", is = "ready" }
steps = [ { copy = { to = "office", folder = "ready/{{ signal.item.id }}", exists = "replace" } } ]
[[rule.item-ready.branch]]
steps = [ { note = { text = "only {{ signal.item.status }}" } } ]

[rule.item-made]
starts = { signal = { secret = "desk-signal" } }
[[rule.item-made.branch]]
steps = [ { make-folder = { to = "office", folder = "items/{{ signal.item.id }}" } } ]
"#;

fn office() -> Office {
    let office = Office::open();
    assert!(office.wetbank_with(&["secret", "set", "desk-signal"], SECRET).status.success());
    office.book(BOOK);
    office
}

fn now() -> u64 {
    SystemTime::now().duration_since(UNIX_EPOCH).unwrap().as_secs()
}

fn proof(secret: &str, rule: &str, time: &str, body: &str) -> String {
    let key = aws_lc_rs::hmac::Key::new(aws_lc_rs::hmac::HMAC_SHA256, secret.as_bytes());
    let tag = aws_lc_rs::hmac::sign(&key, format!("{rule}.{time}.{body}").as_bytes());
    tag.as_ref().iter().map(|byte| format!("{byte:02x}")).collect()
}

/// Sends a signal; answers the status and what was said.
fn send(office: &Office, rule: &str, time: &str, proof: &str, body: &str) -> (u16, Value) {
    let file = office.path("body");
    fs::write(&file, body).unwrap();
    let output = Command::new("curl")
        .args([
            "-sS",
            "-w",
            "\n%{http_code}",
            "-H",
            &format!("Wetbank-Time: {time}"),
            "-H",
            &format!("Wetbank-Proof: {proof}"),
        ])
        .args(["--data-binary", &format!("@{}", file.display()), &format!("{}/signal/{rule}", office.url())])
        .output()
        .unwrap();
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    let (said, status) = text.rsplit_once('\n').unwrap();
    (status.parse().unwrap(), serde_json::from_str(said).unwrap_or(Value::Null))
}

fn signal(office: &Office, rule: &str, body: &str) -> (u16, Value) {
    signal_by(office, SECRET, rule, body)
}

/// The same by a system that knows another secret.
pub fn signal_by(office: &Office, secret: &str, rule: &str, body: &str) -> (u16, Value) {
    let time = now().to_string();
    send(office, rule, &time, &proof(secret, rule, &time, body), body)
}

#[test]
fn another_system_starts_a_rule_and_what_it_says_is_known_in_conditions_and_names() {
    let office = office();
    assert_eq!(signal(&office, "item-made", r#"{"item": {"id": "B12"}}"#).0, 202);
    wait_for("the item's folder is made", || office.path("office/items/B12").is_dir().then_some(()));
    office.put("office/items/B12/sounding.csv", b"3.5");
    let (status, said) = signal(&office, "item-ready", r#"{"item": {"id": "B12", "status": "ready", "count": 1}}"#);
    assert_eq!(status, 202, "{said}");
    wait_for("its files are there", || office.path("office/ready/B12/sounding.csv").exists().then_some(()));
    office.wait_idle();
    let run = office.json(&["run", "show", &said["run"].to_string()]);
    assert_eq!(run["cause"], "signal");
    let (_, said) = signal(&office, "item-ready", r#"{"item": {"id": "B12", "status": "drawn"}}"#);
    office.wait_idle();
    let run = office.json(&["run", "show", &said["run"].to_string()]).to_string();
    assert!(run.contains("only drawn"), "{run}");
}

#[test]
fn one_signal_to_two_rules_with_one_secret_starts_both() {
    let office = office();
    let (time, body) = (now().to_string(), r#"{"item": {"id": "B12", "status": "ready", "count": 1}}"#);
    for rule in ["item-made", "item-ready"] {
        let (status, said) = send(&office, rule, &time, &proof(SECRET, rule, &time, body), body);
        assert_eq!(status, 202, "{rule}: {said}");
    }
}

#[test]
fn the_call_that_is_shown_can_be_made_as_it_stands() {
    let office = office();
    let shown = office.json(&["rule", "signal", "item-made"]);
    let commands = shown["commands"].as_str().unwrap();
    assert!(commands.contains("BODY='{\"item\":{\"id\":\"B12\"}}'"), "it has what the rule asks for: {commands}");
    let commands = commands.replace("B12", "shown");
    // The first line asks a person for the secret.
    let (first, rest) = commands.split_once('\n').unwrap();
    assert!(first.starts_with("read -rsp"), "{first}");
    let output = Command::new("bash").args(["-c", &format!("SECRET='{SECRET}'\n{rest}")]).output().unwrap();
    let said = String::from_utf8_lossy(&output.stdout).into_owned() + &*String::from_utf8_lossy(&output.stderr);
    assert!(said.contains("\"run\""), "{said}");
    wait_for("the folder is made", || office.path("office/items/shown").is_dir().then_some(()));
    assert!(!office.wetbank(&["rule", "signal", "nothing"]).status.success());
}

#[test]
fn what_is_not_proved_not_fresh_or_not_new_starts_nothing() {
    let mut office = office();
    let body = r#"{"item": {"id": "B12"}}"#;
    let at = now();
    let [time, another, old, future] = [at, at - 60, at - 400, at + 400].map(|seconds| seconds.to_string());
    let right = proof(SECRET, "item-made", &time, body);
    let other = body.replace("B12", "B13");
    for (what, status, answer) in [
        ("a wrong secret", 401, send(&office, "item-made", &time, &proof("wrong", "item-made", &time, body), body)),
        ("no proof", 401, send(&office, "item-made", &time, "", body)),
        ("another rule", 401, send(&office, "item-ready", &time, &right, body)),
        ("another body", 401, send(&office, "item-made", &time, &right, &other)),
        ("another time", 401, send(&office, "item-made", &another, &right, body)),
        ("no such rule", 401, send(&office, "nothing", &time, &right, body)),
        ("an old one", 403, send(&office, "item-made", &old, &proof(SECRET, "item-made", &old, body), body)),
        (
            "one of the future",
            403,
            send(&office, "item-made", &future, &proof(SECRET, "item-made", &future, body), body),
        ),
        ("no JSON", 422, signal(&office, "item-made", "nonsense")),
        ("no object", 422, signal(&office, "item-made", "[1, 2]")),
    ] {
        assert_eq!(answer.0, status, "{what}: {}", answer.1);
        assert!(answer.1["detail"].as_str().is_some_and(|said| !said.contains(SECRET)), "{what}: {}", answer.1);
    }
    assert_eq!(send(&office, "item-made", &time, &right, body).0, 202);
    assert_eq!(send(&office, "item-made", &time, &right, body).0, 409, "the very same again");
    // Nor is it taken again after a stop.
    office.kill();
    office.start();
    assert_eq!(send(&office, "item-made", &time, &right, body).0, 409);
    office.wait_idle();
    assert_eq!(office.runs().len(), 1);
    assert_eq!(names(&office.path("office/items")), ["B12"]);
}

#[test]
fn a_signal_of_ten_megabytes_is_refused_and_one_for_a_rule_that_is_off_waits_for_nobody() {
    let office = office();
    let large = format!("{{\"item\": \"{}\"}}", "x".repeat(10 << 20));
    assert_eq!(signal(&office, "item-made", &large).0, 413);
    assert!(office.wetbank(&["rule", "off", "item-made"]).status.success());
    let (status, said) = signal(&office, "item-made", "{}");
    assert_eq!((status, said["code"].as_str()), (503, Some("off")));
    assert!(office.runs().is_empty());
}

#[test]
fn a_field_that_leads_out_of_the_place_is_held() {
    let office = office();
    assert_eq!(signal(&office, "item-made", r#"{"item": {"id": "../../etc"}}"#).0, 202);
    let hold = office.hold();
    assert_eq!(hold["code"], "template", "{hold}");
    let (status, said) = signal(&office, "item-ready", r#"{"item": {"id": "../x", "status": "ready"}}"#);
    assert_eq!(status, 422, "{said}");
    // A field that is not there is named.
    assert_eq!(signal(&office, "item-made", "{}").0, 202);
    wait_for("it is held, too", || (office.holds().len() == 2).then_some(()));
}
