//! The figures of schedules, archives and tables.

use std::{
    fs,
    io::{BufWriter, Write},
    path::Path,
    process::Command,
    thread::sleep,
    time::Duration,
};

use anyhow::{Context, Result, bail};
use serde_json::Value;

use super::{Figure, Office, at_least, median, shell};

const PLACES: &str = "[place.office]\nkind = \"folder\"\nroot = \"@/office\"\n";
/// Runs of one figure.
const ROUNDS: usize = 3;

/// Starts a rule by hand and waits for its end; answers how long its step of this kind took.
pub(crate) fn step_of(office: &Office, rule: &str, kind: &str) -> Result<Duration> {
    let run = office.wetbank(&["rule", "run", rule, "--all"], "")?;
    if run["state"] != "done" {
        bail!("{rule} is not done: {run}");
    }
    let attempts = run["items"].as_array().context("items")?.iter().flat_map(|item| item["attempts"].as_array());
    let attempt = attempts.flatten().find(|attempt| attempt["kind"] == kind).context("a step of this kind")?;
    let time = |key: &str| -> Result<f64> { seconds_of(attempt[key].as_str().context("a time")?) };
    Ok(Duration::from_secs_f64(time("ended")? - time("began")?))
}

/// Seconds of the day that a time of RFC 3339 tells.
fn seconds_of(time: &str) -> Result<f64> {
    let clock = time.split_once('T').context("a time")?.1.trim_end_matches('Z');
    let parts: Vec<f64> = clock.split(':').map(str::parse).collect::<Result<_, _>>()?;
    Ok(parts[0] * 3600.0 + parts[1] * 60.0 + parts[2])
}

/// A thousand schedules between their firings, and how late one is.
pub(crate) fn schedules(figures: &mut Vec<Figure>) -> Result<()> {
    let mut book = PLACES.to_owned();
    for rule in 0..1000 {
        book.push_str(&format!(
            "[rule.r{rule}]\nzone = \"Europe/London\"\nstarts = {{ schedule = {{ at = \"{:02}:{:02}\", on = \"last-working-day\" }} }}\n\
             [[rule.r{rule}.branch]]\nsteps = [ {{ note = {{ text = \"x\" }} }} ]\n",
            rule % 24,
            rule % 60
        ));
    }
    let office = Office::open(&["office"], &book, &[])?;
    sleep(Duration::from_secs(5));
    let before = office.ticks()?;
    sleep(Duration::from_secs(20));
    let used = office.ticks()? - before;
    figures.push(Figure {
        what: "idle, 1,000 scheduled rules".to_owned(),
        ours: format!("{:.0} MiB", office.memory("VmRSS:")?),
        theirs: format!("{} ms of processor in 20 s", used * 10),
        ratio: "–".to_owned(),
        promised: "no measurable processor between firings",
        kept: used <= 2,
    });
    book.push_str(
        "[rule.often]\nstarts = { schedule = { every = \"2s\" } }\n[[rule.often.branch]]\nsteps = [ { note = { text = \"x\" } } ]\n",
    );
    let root = fs::canonicalize(office.path("office"))?;
    let root = root.parent().context("a parent")?.display().to_string();
    fs::write(office.path("book.toml"), book.replace('@', &root))?;
    office.wetbank(&["book", "apply", &office.path("book.toml").display().to_string()], "")?;
    sleep(Duration::from_secs(41));
    let runs = office.wetbank(&["run", "list", "--rule", "often"], "")?;
    let late =
        |run: &Value| -> Result<f64> { Ok(seconds_of(run["started"].as_str().context("a time")?)? % 2.0 * 1000.0) };
    let mut late: Vec<f64> = runs["runs"].as_array().context("runs")?.iter().map(late).collect::<Result<_>>()?;
    late.sort_by(f64::total_cmp);
    let (middle, worst) = (late[late.len() / 2], late[late.len() - 1]);
    figures.push(Figure {
        what: format!("{} firings among 1,000 schedules", late.len()),
        ours: format!("median {middle:.0} ms, worst {worst:.0} ms late"),
        theirs: "–".to_owned(),
        ratio: "–".to_owned(),
        promised: "within 200 ms of its time",
        kept: worst < 200.0,
    });
    Ok(())
}

/// 256 MiB of readings as text.
fn readings(path: &Path, mib: usize) -> Result<()> {
    let mut file = BufWriter::new(fs::File::create(path)?);
    let (mut written, mut state) = (0usize, 7u64);
    while written < mib << 20 {
        state = state.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
        let line = format!(
            "gauge-{:02},2026-03-14T{:02}:{:02},{}.{:02}\n",
            state >> 59,
            (state >> 40) % 24,
            (state >> 30) % 60,
            (state >> 50) % 8,
            (state >> 20) % 100
        );
        file.write_all(line.as_bytes())?;
        written += line.len();
    }
    Ok(file.flush()?)
}

/// Text packed into a zip.
pub(crate) fn zip(figures: &mut Vec<Figure>) -> Result<()> {
    let rule = "[rule.pack]\nstarts = { hand = {} }\nfinds = [ { place = \"office\" } ]\n[[rule.pack.branch]]\n\
                steps = [ { pack = { as = \"readings.zip\" } } ]\n";
    let office = Office::open(&["office"], &format!("{PLACES}{rule}"), &[])?;
    readings(&office.path("office/readings.csv"), 256)?;
    let (mut ours, mut theirs) = (Vec::new(), Vec::new());
    for round in 0..ROUNDS {
        let folder = office.path("office").display().to_string();
        theirs.push(shell(&format!("cd '{folder}'; zip -q -6 ../theirs-{round}.zip readings.csv"))?);
        ours.push(step_of(&office, "pack", "pack")?);
    }
    let (ours, theirs) = (median(ours), median(theirs));
    figures.push(at_least("256 MiB of text packed into a zip", ours, ("zip -6", theirs), 1.0, "as fast"));
    Ok(())
}

const TABLE: &str = "CREATE TABLE reading (station TEXT, day TEXT, minute INTEGER, metres REAL, note TEXT)";

/// A table of a million rows, in and out.
pub(crate) fn table(figures: &mut Vec<Figure>) -> Result<()> {
    let rules = "[database.survey]\nkind = \"sqlite\"\nfile = \"@/survey.db\"\n\
        [rule.load]\nstarts = { hand = {} }\nfinds = [ { place = \"office\" } ]\n[[rule.load.branch]]\n\
        steps = [ { load = { into = \"survey\", table = \"reading\", replace = true } } ]\n\
        [rule.out]\nstarts = { hand = {} }\n[[rule.out.branch]]\n\
        steps = [ { extract = { from = \"survey\", table = \"reading\", as = \"reading.csv\" } } ]\n";
    let office = Office::open(&["office"], &format!("{PLACES}{rules}"), &[])?;
    let source = office.path("office/readings.csv");
    let mut file = BufWriter::new(fs::File::create(&source)?);
    writeln!(file, "station,day,minute,metres,note")?;
    for row in 0..1_000_000u32 {
        writeln!(
            file,
            "gauge-{:02},2026-03-14,{row},{}.{:02},\"as read, hut {}\"",
            row % 60,
            row % 8,
            row % 100,
            row % 12
        )?;
    }
    file.flush()?;
    drop(file);
    let (mut loads, mut their_loads, mut outs, mut their_outs) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
    for round in 0..ROUNDS {
        let (ours, theirs) = (office.path("survey.db"), office.path(&format!("theirs-{round}.db")));
        if round == 0 {
            make(&ours)?;
        }
        make(&theirs)?;
        let (db, csv) = (theirs.display(), source.display());
        their_loads.push(shell(&format!("sqlite3 '{db}' '.mode csv' '.import --skip 1 {csv} reading'"))?);
        loads.push(step_of(&office, "load", "load")?);
        their_outs.push(shell(&format!(
            "sqlite3 -csv -header '{db}' 'SELECT * FROM reading' > '{csv}.out'; rm '{csv}.out'"
        ))?);
        outs.push(step_of(&office, "out", "extract")?);
    }
    let peak = office.peak()?;
    let (ours, theirs) = (median(loads), median(their_loads));
    let what = format!("1,000,000 rows loaded, peak {peak:.0} MiB");
    figures.push(at_least(what, ours, ("sqlite3 .import", theirs), 1.0, "as fast"));
    let (ours, theirs) = (median(outs), median(their_outs));
    figures.push(at_least("1,000,000 rows extracted", ours, ("sqlite3 -csv", theirs), 1.0, "as fast"));
    Ok(())
}

fn make(file: &Path) -> Result<()> {
    let done = Command::new("sqlite3").arg(file).arg(TABLE).status()?;
    if !done.success() {
        bail!("{} cannot be made", file.display());
    }
    Ok(())
}
