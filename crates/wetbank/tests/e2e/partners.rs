//! Partners: their standing form is what a delivery to them uses, and what expires is told in time.

use std::{fs, process::Command};

use crate::support::{Office, leftovers, names, wait_for};
use jiff::{ToSpan, Zoned};
use tempfile::TempDir;

const BOOK: &str = r#"
[place.office]
kind = "folder"
root = "@/office"

[place.harbour]
kind = "folder"
root = "@/harbour"

[partner.skerrow]
title    = "Skerrow Harbour Office"
note     = "Results only encrypted."
people   = [ { name = "Ada Fenwick", role = "duty officer", mail = "duty@skerrow.example" } ]
places   = ["harbour"]
keys     = ["skerrow"]
delivery = { to = "harbour", folder = "from-merrow", as = "{{ file.name }}", exists = "replace", FORM }

[rule.results]
starts = { arrival = { place = "office", folder = "out" } }
[[rule.results.branch]]
steps = [ { deliver = { partner = "skerrow" } } ]
original = { move-to = "sent" }
"#;

/// A key ring of its own, with one key that lasts so long.
struct Ring(TempDir);

impl Ring {
    fn new(lasts: &str) -> Self {
        let ring = Self(TempDir::new().unwrap());
        ring.gpg(&["--quick-generate-key", "duty@skerrow.example", "rsa2048", "encrypt,sign", lasts]);
        ring
    }

    fn gpg(&self, words: &[&str]) -> Vec<u8> {
        let always = ["--batch", "--yes", "--pinentry-mode", "loopback", "--passphrase", ""];
        let output = Command::new("gpg").arg("--homedir").arg(self.0.path()).args(always).args(words).output().unwrap();
        assert!(output.status.success(), "{words:?}: {}", String::from_utf8_lossy(&output.stderr));
        output.stdout
    }
}

impl Drop for Ring {
    fn drop(&mut self) {
        let _ = Command::new("gpgconf").arg("--homedir").arg(self.0.path()).args(["--kill", "all"]).status();
    }
}

fn office(form: &str, lasts: &str) -> (Office, Ring) {
    let (office, ring) = (Office::open(), Ring::new(lasts));
    for folder in ["office/out", "harbour"] {
        fs::create_dir_all(office.path(folder)).unwrap();
    }
    let key = office.path("skerrow.asc");
    fs::write(&key, ring.gpg(&["--armor", "--export"])).unwrap();
    assert!(office.wetbank(&["key", "import", "skerrow", key.to_str().unwrap()]).status.success());
    office.book(&BOOK.replace("FORM", form));
    (office, ring)
}

#[test]
fn a_delivery_to_a_partner_is_sealed_named_and_placed_as_the_partner_wants() {
    let (office, ring) = office("encrypt = true", "1y");
    office.put("office/out/assay-0412.csv", b"levels");
    let arrived = office.path("harbour/from-merrow/assay-0412.csv.pgp");
    wait_for("it arrives", || arrived.exists().then_some(()));
    office.wait_idle();
    assert_eq!(ring.gpg(&["--decrypt", arrived.to_str().unwrap()]), b"levels");
    assert_eq!(names(&office.path("office/out/sent")), ["assay-0412.csv"]);
    assert!(leftovers(office.folder.path()).is_empty());
    let rule = office.json(&["rule", "show", "results"]);
    let sentence = rule["sentence"].as_str().unwrap();
    assert!(sentence.contains("encrypt it to skerrow and deliver it to partner skerrow at harbour"), "{sentence}");
}

#[test]
fn a_partner_that_wants_files_as_they_are_gets_them_so_and_a_rule_may_say_more() {
    let (office, _ring) = office("encrypt = false", "1y");
    office.put("office/out/a.csv", b"levels");
    let arrived = office.path("harbour/from-merrow/a.csv");
    wait_for("it arrives", || arrived.exists().then_some(()));
    assert_eq!(fs::read(arrived).unwrap(), b"levels");
    // What the rule itself says of folder and sealing counts.
    let own =
        r#"steps = [ { encrypt = { to = ["skerrow"] } }, { deliver = { partner = "skerrow", folder = "urgent" } } ]"#;
    let book =
        BOOK.replace("FORM", "encrypt = false").replace(r#"steps = [ { deliver = { partner = "skerrow" } } ]"#, own);
    office.book(&book);
    office.put("office/out/b.csv", b"levels");
    wait_for("it arrives", || office.path("harbour/urgent/b.csv.pgp").exists().then_some(()));
}

#[test]
fn in_a_partners_quiet_hours_a_delivery_waits_and_is_no_failure() {
    let now = Zoned::now().with_time_zone(jiff::tz::TimeZone::UTC);
    let hour = |hours: i64| now.checked_add(hours.hours()).unwrap().strftime("%H:%M").to_string();
    let quiet = format!("quiet = {{ from = \"{}\", until = \"{}\" }}", hour(-1), hour(1));
    let (office, _ring) = office(&quiet, "1y");
    office.put("office/out/a.csv", b"levels");
    let waiting = wait_for("it waits", || {
        let status = office.json(&["status"]);
        (status["waiting"] == 1).then_some(status)
    });
    assert_eq!(waiting["held"], 0);
    let run = office.runs()[0]["id"].to_string();
    let shown = office.json(&["run", "show", &run]);
    let why = shown["items"][0]["why"].as_str().unwrap();
    assert!(why.starts_with("skerrow wants nothing from "), "{why}");
    assert!(names(&office.path("harbour")).is_empty());
    // The partner changed its mind.
    let other = format!("quiet = {{ from = \"{}\", until = \"{}\" }}", hour(2), hour(3));
    office.book(&BOOK.replace("FORM", &other));
    assert!(office.wetbank(&["run", "retry", &run]).status.success());
    wait_for("it arrives", || office.path("harbour/from-merrow/a.csv").exists().then_some(()));
}

#[test]
fn a_key_and_a_day_in_the_book_are_warned_of_in_time() {
    let (office, _ring) = office("encrypt = true", "5d");
    let soon = Zoned::now().date().checked_add(20.days()).unwrap();
    let expires = format!(
        "encrypt = true }}\nexpires  = [ {{ what = \"host key of sftp.skerrow.example\", until = \"{soon}\" }} ]\n#"
    );
    office.book(&BOOK.replace("FORM", &expires));
    let status = office.json(&["status"]);
    let warnings = status["warnings"].as_array().unwrap();
    let told: Vec<_> = warnings.iter().map(|w| (w["what"].as_str().unwrap(), w["days"].as_i64().unwrap())).collect();
    assert_eq!(told, [("key \"skerrow\"", 7), ("host key of sftp.skerrow.example", 30)]);
    assert!(warnings[0]["remedy"].as_str().unwrap().contains("Ask Skerrow Harbour Office"), "{warnings:?}");
    let shown = office.wetbank(&["partner", "show", "skerrow"]);
    let text = String::from_utf8_lossy(&shown.stdout).into_owned();
    for words in
        ["Ada Fenwick, duty officer, duty@skerrow.example", "! key \"skerrow\" expires within 7 days", "results"]
    {
        assert!(text.contains(words), "{text}");
    }
}

#[test]
fn a_partner_in_use_is_not_removed_and_a_misspelt_one_is_told_with_the_nearest() {
    let (office, _ring) = office("encrypt = true", "1y");
    let removed = office.wetbank(&["partner", "remove", "skerrow"]);
    assert_eq!(removed.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&removed.stderr).contains("unknown partner \"skerrow\""));
    assert_eq!(office.json(&["partner", "list"])[0]["name"], "skerrow");
    for (wrong, right, words) in [
        ("partner = \"skerrow\"", "partner = \"skerow\"", "did you mean \"skerrow\"?"),
        ("FORM", "encrypt = true, sgin = \"x\"", "did you mean \"sign\"?"),
        ("keys     = [\"skerrow\"]", "", "encrypt = true needs the names of the partner's keys"),
        ("FORM", "quiet = { from = \"ten\", until = \"06:00\" }", "is no time of day"),
        ("deliver = { partner = \"skerrow\" }", "deliver = { partner = \"skerrow\", to = \"harbour\" }", "leave out"),
    ] {
        let book = BOOK.replace(wrong, right).replace("FORM", "encrypt = true");
        let refused = office.try_book(&book);
        let told = String::from_utf8_lossy(&refused.stderr).into_owned();
        assert!(refused.status.code() == Some(2) && told.contains(words), "{right}: {told}");
    }
}
