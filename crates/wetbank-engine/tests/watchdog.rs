//! Hard work never keeps the threads that everybody waits for: a clock that ticks on the only one of them
//! measures the longest time between two ticks.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use std::{
    fs,
    process::Command,
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering::Relaxed},
    },
    time::{Duration, Instant},
};

use tempfile::TempDir;
use wetbank_engine::{Engine, EngineOptions};

const FILES: usize = 30;
/// Far less than it takes to open a secret key, far more than anything that belongs on such a thread.
const LONGEST: Duration = Duration::from_millis(300);

fn gpg(home: &std::path::Path, words: &[&str]) -> Vec<u8> {
    let mut all = vec!["--batch", "--yes", "--quiet", "--pinentry-mode", "loopback", "--passphrase", "grey heron"];
    all.extend(words);
    let output = Command::new("gpg").arg("--homedir").arg(home).args(all).output().unwrap();
    assert!(output.status.success(), "{words:?}: {}", String::from_utf8_lossy(&output.stderr));
    output.stdout
}

#[test]
fn keys_with_passphrases_are_opened_beside_everything_else() {
    let folder = TempDir::new().unwrap();
    let home = folder.path().join("gnupg");
    fs::create_dir(&home).unwrap();
    gpg(&home, &["--quick-gen-key", "Merrow <desk@merrow.example>", "default", "default", "never"]);
    let key = gpg(&home, &["--armor", "--export-secret-keys"]);
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(1).enable_all().build().unwrap();
    let longest = Arc::new(AtomicU64::new(0));
    let kept = longest.clone();
    runtime.spawn(async move {
        let mut last = Instant::now();
        loop {
            tokio::time::sleep(Duration::from_millis(2)).await;
            kept.fetch_max(u64::try_from(last.elapsed().as_millis()).unwrap(), Relaxed);
            last = Instant::now();
        }
    });
    let root = folder.path().to_owned();
    runtime.block_on(async move {
        let data = root.join("data");
        let engine = Engine::start(EngineOptions { data, programs: None, new_vault_key: false }).await.unwrap();
        engine.import_key("merrow", &key, Some(&"grey heron".into())).await.unwrap();
        let text = |below: &str| root.join(below).display().to_string();
        for below in ["office", "archive"] {
            fs::create_dir(root.join(below)).unwrap();
        }
        let book = format!(
            "[place.office]\nkind = \"folder\"\nroot = \"{}\"\n[place.archive]\nkind = \"folder\"\nroot = \"{}\"\n\
             [rule.seal]\nstarts = {{ arrival = {{ place = \"office\" }} }}\n[[rule.seal.branch]]\n\
             steps = [ {{ encrypt = {{ to = [\"merrow\"], sign = \"merrow\" }} }}, {{ copy = {{ to = \"archive\" }} }} ]\n",
            text("office"),
            text("archive")
        );
        engine.apply_book(&[("book.toml".to_owned(), book)], true, "test").await.unwrap();
        for number in 0..FILES {
            let aside = root.join(format!("{number}"));
            fs::write(&aside, "06:00;1.20\n").unwrap();
            fs::rename(aside, root.join(format!("office/gauge-{number}.csv"))).unwrap();
        }
        let end = Instant::now() + Duration::from_secs(60);
        while fs::read_dir(root.join("archive")).unwrap().filter(|e| e.as_ref().unwrap().path().extension().is_some_and(|e| e == "pgp")).count() < FILES {
            assert!(Instant::now() < end, "never encrypted");
            tokio::time::sleep(Duration::from_millis(20)).await;
        }
        engine.stop().await;
    });
    let _ = Command::new("gpgconf").arg("--homedir").arg(&home).args(["--kill", "all"]).status();
    let longest = Duration::from_millis(longest.load(Relaxed));
    assert!(longest < LONGEST, "something kept the thread for {longest:?}");
}
