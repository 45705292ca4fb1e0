//! What a data folder must have before the service starts on it.

use std::{
    fs,
    net::SocketAddr,
    process::{Command, Output},
    sync::atomic::{AtomicBool, Ordering},
};

use crate::support::Office;

/// Starts the service, which is to end by itself, and soon.
fn starts(office: &Office, more: &[&str]) -> Output {
    let mut command = Command::new("timeout");
    command.args(["10", env!("CARGO_BIN_EXE_wetbank"), "serve", "--listen", "127.0.0.1:0", "--data"]);
    command.arg(office.data()).args(more).output().unwrap()
}

#[test]
fn a_missing_key_of_the_vault_stops_the_start_as_long_as_there_are_secrets() {
    let mut office = Office::open();
    office.stop();
    let key = office.data().join("vault.key");
    // Without a secret nothing is lost with it.
    fs::remove_file(&key).unwrap();
    office.start();
    assert!(office.wetbank_with(&["secret", "set", "tide"], "grey heron").status.success());
    office.stop();
    let kept = fs::read(&key).unwrap();
    fs::remove_file(&key).unwrap();
    let refused = starts(&office, &[]);
    let said = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert!(
        !refused.status.success() && said.contains("vault.key is missing") && said.contains("--new-vault-key"),
        "{said}"
    );
    assert!(!key.exists(), "none is made in silence");
    // Put back, everything opens as before.
    fs::write(&key, kept).unwrap();
    fs::set_permissions(&key, std::os::unix::fs::PermissionsExt::from_mode(0o600)).unwrap();
    office.start();
    assert_eq!(office.json(&["secret", "list"]).to_string().matches("tide").count(), 1);
}

#[test]
fn a_damaged_journal_stops_the_start_and_is_told_with_what_to_do() {
    let mut office = Office::open();
    fs::create_dir_all(office.path("office/in")).unwrap();
    office.book("[place.office]\nkind = \"folder\"\nroot = \"@/office\"\n");
    office.stop();
    let journal = office.data().join("journal.db");
    let mut bytes = fs::read(&journal).unwrap();
    for page in bytes.chunks_mut(4096).skip(3).step_by(4) {
        page.fill(0xA5);
    }
    fs::write(&journal, &bytes).unwrap();
    let refused = starts(&office, &[]);
    let said = String::from_utf8_lossy(&refused.stderr).into_owned();
    assert!(!refused.status.success() && said.contains("is damaged") && said.contains("Keep a copy"), "{said}");
    assert!(fs::read(&journal).unwrap() == bytes);
}

#[test]
fn the_cause_of_an_error_is_told_once() {
    let office = Office::open();
    for words in [
        &["serve", "--data", "/dev/null/wetbank"][..],
        &["serve", "--data", "/dev/null"],
        &["book", "check", "/nowhere/book.toml"],
        &["secret", "set", "Two Words"],
        &["place", "test", "Two Words"],
        &["run", "show", "7"],
    ] {
        let output = office.wetbank_with(words, "grey heron");
        let said = String::from_utf8_lossy(&output.stderr).into_owned();
        assert!(!output.status.success() && !said.trim().is_empty(), "{words:?}");
        let parts: Vec<&str> = said.trim().split(": ").collect();
        for (at, part) in parts.iter().enumerate() {
            assert!(!parts[at + 1..].contains(part), "{words:?} tells {part:?} twice: {said}");
        }
    }
}

#[test]
fn nobody_ever_reads_half_an_address() {
    let mut office = Office::open();
    let file = office.data().join("address");
    let stop = AtomicBool::new(false);
    std::thread::scope(|threads| {
        let reading = threads.spawn(|| {
            let mut odd = Vec::new();
            while !stop.load(Ordering::Relaxed) {
                odd.extend(fs::read_to_string(&file).ok().filter(|text| text.parse::<SocketAddr>().is_err()));
            }
            odd
        });
        for _ in 0..10 {
            office.kill();
            office.start();
        }
        stop.store(true, Ordering::Relaxed);
        assert_eq!(reading.join().unwrap(), Vec::<String>::new());
    });
    assert_eq!(office.json(&["status"])["held"], 0);
}
