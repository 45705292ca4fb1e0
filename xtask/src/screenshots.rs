//! The pictures of `docs/screenshots` and those of the guide, taken from the demo.

use std::{
    fs,
    io::{BufRead, BufReader},
    path::Path,
    process::{Command, Stdio},
    thread::sleep,
    time::Duration,
};

use anyhow::{Context, Result};
use serde_json::Value;

use crate::{browser::Browser, setup, steps};

const BINARY: &str = "target/release/wetbank";
const FOLDER: &str = "docs/screenshots";
/// Those that only the guide shows.
const GUIDE: &str = "docs/pictures";
/// The demo's first files are through after this time, and some fresh ones have come.
const WARM_UP: Duration = Duration::from_secs(22);

/// Takes them all anew; with `--built` of the release binary that is there.
pub fn take(words: &[String]) -> Result<()> {
    setup::packages()?;
    if !words.iter().any(|word| word == "--built") {
        steps::build()?;
    }
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
    for folder in [FOLDER, GUIDE] {
        fs::create_dir_all(folder)?;
    }
    let runs = first(data, &["run", "list", "--rule", "assay-results", "--state", "done"])?;
    let run = format!("/runs/{}", runs["runs"][0]["id"]);
    let letters = first(data, &["run", "list", "--rule", "sheets-by-mail", "--state", "done"])?;
    let letter = format!("/runs/{}", letters["runs"][0]["id"]);
    let (light, dark) = (Browser::open(false)?, Browser::open(true)?);
    for browser in [&light, &dark] {
        let link = first(data, &["link"])?;
        browser.go(link["address"].as_str().context("a link that opens once")?)?;
        browser.click("main button")?;
    }
    let (base, _) = link.split_once("/sign-in").context("a sign-in link")?;
    for (name, page, browser) in [
        ("today", "/", &light),
        ("today-dark", "/", &dark),
        ("rules", "/rules", &light),
        ("rule", "/rules/assay-results", &light),
        ("rehearse", "/rules/assay-results?tab=rehearse&days=30", &dark),
        ("starters", "/rules/new", &light),
        ("signal", "/rules/tile-ready?tab=text", &light),
        ("runs", "/runs", &dark),
        ("run", run.as_str(), &light),
        ("letter", letter.as_str(), &dark),
        ("places", "/places", &light),
        ("place", "/places/skerrow-harbour?test=now", &light),
        (
            "side-by-side",
            "/places/side-by-side?near=office&near-folder=gauges/sent&far=tidewatch-archive&far-folder=gauges",
            &light,
        ),
        ("twin", "/twins/charts", &light),
        ("partner", "/partners/skerrow", &dark),
        ("sign-in", "/places/lindmoor-drive", &light),
        ("new-place", "/places/new", &dark),
        ("trace", "/trace?text=assay-0412", &dark),
        ("people", "/settings?tab=people", &light),
    ] {
        picture(browser, &format!("{base}{page}"), &format!("{FOLDER}/{name}.png"))?;
    }
    let form = "/places/new?kind";
    let share = format!("{form}=share&name=files&share=survey&user=MERROW%5Ctove&root=Field+notes");
    let ftp = format!("{form}=ftp&name=print-shop&user=merrow&root=%2Fproofs");
    let webdav = format!("{form}=webdav&name=field-notes&url={base}&user=tove");
    for (name, page) in [
        ("connect-share", share.as_str()),
        ("connect-ftp", ftp.as_str()),
        ("connect-webdav", webdav.as_str()),
        ("connect-bucket", "/places/tidewatch-archive?test=now"),
        ("connect-mailbox", "/places/post?test=now"),
        ("twin-add", "/twins/logbooks"),
        ("twin-update", "/twins/notices"),
        ("twin-exact", "/twins/charts"),
        ("twin-both", "/twins/volunteers"),
    ] {
        picture(&light, &format!("{base}{page}"), &format!("{GUIDE}/{name}.png"))?;
    }
    Ok(())
}

fn picture(browser: &Browser, address: &str, file: &str) -> Result<()> {
    browser.go(address)?;
    browser.picture(Path::new(file))?;
    steps::say(&format!("took {file}"));
    Ok(())
}
