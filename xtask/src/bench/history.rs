//! What a journal of some years answers, through the API, and what it costs to write on in it.

use std::{fs, path::Path, process::Command, time::Duration};

use anyhow::{Context, Result, bail};
use serde_json::Value;

use super::{Figure, Office, median, shell, silent_wait};
use crate::steps::{run, say};

/// Items in the journal, unless `WETBANK_HISTORY` says how many, or names the data folder of a journal that is there.
const ITEMS: u64 = 2_000_000;
/// Rules that worked on them.
const RULES: u64 = 40;
/// Everything that pages ask for is answered in this time.
const PROMISED: Duration = Duration::from_millis(100);
const ROUNDS: usize = 7;

pub(crate) fn history(figures: &mut Vec<Figure>) -> Result<()> {
    let said = std::env::var("WETBANK_HISTORY").unwrap_or_default();
    let items = said.parse().unwrap_or(ITEMS);
    let mut book = "[place.office]\nkind = \"folder\"\nroot = \"@/office\"\n\n[place.harbour]\nkind = \"folder\"\nroot = \"@/harbour\"\n\n"
        .to_owned();
    for rule in 0..RULES {
        book.push_str(&format!(
            "[rule.rule-{rule}]\nstarts = {{ hand = {{}} }}\nfinds = [ {{ place = \"office\", folder = \"in-{rule}\" }} ]\n\
             [[rule.rule-{rule}.branch]]\nsteps = [ {{ copy = {{ to = \"harbour\", folder = \"out-{rule}\" }} }} ]\n"
        ));
    }
    let folder = Office::folder()?;
    let data = folder.path().join("data");
    if Path::new(&said).is_dir() {
        // What was copied is on the disk before anything is measured.
        shell(&format!("mkdir '{0}' && cp '{said}/journal.db' '{0}' && sync", data.display()))?;
    } else {
        write(&data, items)?;
    }
    let office = Office::open_in(folder, &["office", "harbour"], &book, &[])?;
    answers(&office, items, figures)?;
    writes(&office, figures)
}

/// Writes a journal by the journal's own code.
fn write(data: &Path, items: u64) -> Result<()> {
    say(&format!("writing a journal of {items} items"));
    run("cargo", &["build", "--quiet", "--release", "--workspace", "--example", "history"])?;
    let made = Command::new("target/release/examples/history").arg(data).arg(items.to_string()).output()?;
    if !made.status.success() {
        bail!("the journal could not be written: {}", String::from_utf8_lossy(&made.stderr));
    }
    say(String::from_utf8_lossy(&made.stdout).trim());
    Ok(())
}

/// The time of each question that the console's pages and the commands ask.
fn answers(office: &Office, items: u64, figures: &mut Vec<Figure>) -> Result<()> {
    let large = large_run(office)?;
    let common = format!("{:064x}", 1);
    let asked = [
        ("how things stand", "/status".to_owned()),
        ("rules, with their last 14 days", "/rules".to_owned()),
        ("one rule", "/rules/rule-7".to_owned()),
        ("runs", "/runs".to_owned()),
        ("runs of one rule", "/runs?rule=rule-7".to_owned()),
        ("runs that are held", "/runs?state=held".to_owned()),
        ("runs in a state that none is in", "/runs?state=skipped".to_owned()),
        ("held runs of one rule", "/runs?rule=rule-7&state=held".to_owned()),
        ("runs of no rule", "/runs?rule=nothing".to_owned()),
        ("one run of many files", format!("/runs/{large}")),
        ("what is held", "/holds".to_owned()),
        ("trace: a common word", "/trace?text=assay".to_owned()),
        ("trace: a long name", format!("/trace?text=tide-table-sent-{}", items / 2)),
        ("trace: a name that none has", "/trace?text=assay-levels-survey-readings".to_owned()),
        ("trace: the checksum of many files", format!("/trace?text={common}")),
        ("trace: twenty zeros, which look like a part of many names", "/trace?text=00000000000000000000".to_owned()),
    ];
    for (what, path) in asked {
        let mut times = Vec::new();
        for _ in 0..ROUNDS {
            times.push(call(office, &path)?);
        }
        let (first, usual) = (times[0], median(times));
        figures.push(Figure {
            what: format!("{items} items: {what}"),
            ours: format!("{:.1} ms", usual.as_secs_f64() * 1000.0),
            theirs: format!("asked for the first time {:.1} ms", first.as_secs_f64() * 1000.0),
            ratio: "–".to_owned(),
            promised: "under 100 ms",
            kept: usual < PROMISED,
        });
    }
    Ok(())
}

/// A call of the API, as curl times it.
fn call(office: &Office, path: &str) -> Result<Duration> {
    let address = fs::read_to_string(office.path("data/address"))?;
    let token = fs::read_to_string(office.path("data/token"))?;
    let output = Command::new("curl")
        .args(["--silent", "--show-error", "--fail", "--output", "/dev/null", "--write-out", "%{time_total}"])
        .args(["--header", &format!("authorization: Bearer {}", token.trim())])
        .arg(format!("http://{}/api/v1{path}", address.trim()))
        .output()?;
    if !output.status.success() {
        bail!("{path}: {}", String::from_utf8_lossy(&output.stderr));
    }
    Ok(Duration::from_secs_f64(String::from_utf8_lossy(&output.stdout).trim().parse()?))
}

/// Runs of each size.
const TIMES: usize = 3;

/// A run that has many files.
fn large_run(office: &Office) -> Result<i64> {
    let mut before = i64::MAX;
    for _ in 0..200 {
        let page = office.wetbank(&["run", "list", "--limit", "500", "--before", &before.to_string()], "")?;
        let runs = page["runs"].as_array().context("runs")?;
        if let Some(run) = runs.iter().find(|run| run["items"].as_i64() > Some(100)) {
            return run["id"].as_i64().context("a number");
        }
        before = runs.last().and_then(|run| run["id"].as_i64()).context("a run of many files")?;
    }
    bail!("no run has many files")
}

/// Runs of 10,000 and of 20,000 files, and the commits that took long meanwhile. Each three times, in turn: now and then
/// the index of names is merged, which one run pays for all before it.
fn writes(office: &Office, figures: &mut Vec<Figure>) -> Result<()> {
    let mut times = [Duration::ZERO; 2];
    for rule in 1..=2 * TIMES {
        let files = if rule % 2 == 1 { 10_000 } else { 20_000 };
        fs::create_dir_all(office.path(&format!("office/in-{rule}")))?;
        for number in 0..files {
            fs::write(office.path(&format!("office/in-{rule}/{number:05}.csv")), b"a reading")?;
        }
        let began = std::time::Instant::now();
        let run = office.wetbank(&["rule", "run", &format!("rule-{rule}"), "--detach"], "")?;
        let run: Value = run["run"].clone();
        silent_wait(|| {
            office.wetbank(&["run", "show", &run.to_string()], "").is_ok_and(|told| told["state"] == "done")
        })?;
        times[(rule + 1) % 2] += began.elapsed() / TIMES as u32;
    }
    let ratio = times[1].as_secs_f64() / times[0].as_secs_f64();
    figures.push(Figure {
        what: "a run of 20,000 files".to_owned(),
        ours: super::seconds(times[1]),
        theirs: format!("of 10,000: {}", super::seconds(times[0])),
        ratio: format!("{ratio:.2}"),
        promised: "at most 2.2",
        kept: ratio <= 2.2,
    });
    let log = fs::read_to_string(office.path("log"))?;
    let slow =
        log.lines().filter_map(|line| line.split("millis=").nth(1)?.split_whitespace().next()?.parse::<u64>().ok());
    let slowest = slow.max();
    figures.push(Figure {
        what: "the longest commit meanwhile".to_owned(),
        ours: slowest.map_or("under 50 ms".to_owned(), |millis| format!("{millis} ms")),
        theirs: "–".to_owned(),
        ratio: "–".to_owned(),
        promised: "under 50 ms",
        kept: slowest.is_none(),
    });
    Ok(())
}
