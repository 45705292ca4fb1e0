//! The pictures of `docs/screenshots`, taken from the demo.

use std::{
    fs,
    io::{BufRead, BufReader},
    path::Path,
    process::{Command, Stdio},
    thread::sleep,
    time::Duration,
};

use anyhow::{Context, Result, bail};
use serde_json::Value;

use crate::{setup, steps};

const BINARY: &str = "target/release/wetbank";
const FOLDER: &str = "docs/screenshots";
/// The demo's first files are through after this time, and some fresh ones have come.
const WARM_UP: Duration = Duration::from_secs(22);

/// Takes them all anew.
pub fn take() -> Result<()> {
    setup::packages()?;
    steps::build()?;
    let folder = tempfile::tempdir()?;
    let mut demo = Command::new(BINARY)
        .args(["demo", "--listen", "127.0.0.1:0", "--folder"])
        .arg(folder.path())
        .stderr(Stdio::piped())
        .spawn()?;
    let mut lines = BufReader::new(demo.stderr.take().context("a pipe")?).lines();
    let link = loop {
        let line = lines.next().context("the demo ended early")??;
        if let Some(link) = line.trim().strip_prefix("Console ") {
            break link.trim().to_owned();
        }
    };
    // What it says later is of no use here, but must not fill the pipe.
    std::thread::spawn(move || lines.for_each(drop));
    sleep(WARM_UP);
    let result = pictures(&link, &folder.path().join("data"));
    Command::new("kill").arg(demo.id().to_string()).status()?;
    demo.wait()?;
    result
}

fn first(data: &Path, words: &[&str]) -> Result<Value> {
    let output = Command::new(BINARY).arg("--json").args(words).env("WETBANK_DATA", data).output()?;
    Ok(serde_json::from_slice(&output.stdout)?)
}

fn pictures(link: &str, data: &Path) -> Result<()> {
    fs::create_dir_all(FOLDER)?;
    let runs = first(data, &["run", "list", "--rule", "assay-results", "--state", "done"])?;
    let run = format!("/runs/{}", runs["runs"][0]["id"]);
    for (name, page, dark) in [
        ("today", "/", false),
        ("today-dark", "/", true),
        ("rules", "/rules", false),
        ("rule", "/rules/assay-results", false),
        ("runs", "/runs", true),
        ("run", run.as_str(), false),
        ("place", "/places/skerrow-harbour", false),
        ("trace", "/trace?text=assay-0412", true),
    ] {
        picture(&format!("{link}&to={}", page.replace('?', "%3F").replace('=', "%3D")), name, dark)?;
    }
    Ok(())
}

fn picture(address: &str, name: &str, dark: bool) -> Result<()> {
    let profile = tempfile::tempdir()?;
    let file = format!("{FOLDER}/{name}.png");
    let status = Command::new("chromium")
        .args(["--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--hide-scrollbars"])
        .args(["--disable-background-networking", "--disable-component-update", "--disable-sync"])
        .arg(format!("--user-data-dir={}", profile.path().display()))
        .arg(format!("--blink-settings=preferredColorScheme={}", if dark { 0 } else { 1 }))
        .args(["--window-size=1280,800", "--timeout=4000"])
        .arg(format!("--screenshot={file}"))
        .arg(address)
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .status()?;
    if !status.success() || !Path::new(&file).exists() {
        bail!("no picture of {name}");
    }
    steps::say(&format!("took {file}"));
    Ok(())
}
