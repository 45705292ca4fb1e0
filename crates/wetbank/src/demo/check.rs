//! The whole example by itself: every file must be where it should be.

use std::{fs, io::Cursor, path::Path, time::Duration};

use anyhow::{Context, Result, bail};
use jiff::Timestamp;
use serde::Serialize;
use tokio::time::Instant;
use wetbank_crypt::{Hashing, Opening, PgpKey, decrypt};
use wetbank_engine::Engine;
use wetbank_journal::RunFilter;

use super::scene::{AT_THE_OFFICE, Expected, SHARED, Sample, Scene, content, samples};
use crate::output::{Output, line, table};

/// The rule that packs.
const PARCEL: &str = "hut-parcel";
/// The rule that extracts what was loaded.
const REPORT: &str = "level-report";
/// So long nothing must move for all to be over.
const QUIET: Duration = Duration::from_millis(1500);

/// The example may take so long.
const PATIENCE: Duration = Duration::from_secs(60);

/// What became of one file.
#[derive(Debug, Serialize)]
struct Became {
    file: String,
    fine: bool,
    what: String,
}

/// Feeds, waits, looks. Answers whether everything is as it should be.
pub(crate) async fn run(scene: &Scene, engine: &Engine, output: Output) -> Result<bool> {
    scene.feed_all(engine).await?;
    // Its schedule would have us wait for up to two minutes.
    engine.run_rule(PARCEL, false).await?;
    let mut quiet = wait(engine, samples().len()).await?;
    engine.run_rule(REPORT, false).await?;
    quiet &= wait(engine, samples().len()).await?;
    let mut rows = Vec::new();
    for sample in samples() {
        let (fine, what) = match look(scene, engine, &sample).await {
            Ok(what) => (true, what),
            Err(error) => (false, format!("{error:#}")),
        };
        rows.push(Became { file: sample.path.to_owned(), fine, what });
    }
    let (fine, what) = match report(scene).await {
        Ok(what) => (true, what),
        Err(error) => (false, format!("{error:#}")),
    };
    rows.push(Became { file: "the readings in the table".to_owned(), fine, what });
    let (fine, what) = match alike(scene, engine).await {
        Ok(what) => (true, what),
        Err(error) => (false, format!("{error:#}")),
    };
    rows.push(Became { file: "the volunteers' folder and their drive".to_owned(), fine, what });
    let leftovers = leftovers(scene.data().parent().unwrap_or(Path::new("/")))?;
    output.show(&rows, |rows| {
        let cells = rows
            .iter()
            .map(|row| vec![if row.fine { "✓" } else { "✗" }.to_owned(), row.file.clone(), row.what.clone()]);
        table(&["", "file", "what became of it"], cells.collect());
    })?;
    for leftover in &leftovers {
        eprintln!("left over: {leftover}");
    }
    let good = rows.iter().filter(|row| row.fine).count();
    let fine = quiet && good == rows.len() && leftovers.is_empty();
    if !output.json {
        line(format!("{good} of {} are as they should be", rows.len()));
    }
    Ok(fine)
}

/// What was loaded was extracted again, and the wardens were told.
async fn report(scene: &Scene) -> Result<String> {
    let folder = scene.office().join("reports");
    let entry = fs::read_dir(&folder).with_context(|| format!("{} is not there", folder.display()))?.next();
    let path = entry.context("there is no report")??.path();
    let lines = fs::read_to_string(&path)?.lines().count();
    if lines < 2 {
        bail!("the report has no readings");
    }
    let end = Instant::now() + PATIENCE;
    let told = |letter: &Vec<u8>| String::from_utf8_lossy(letter).contains("Highest levels");
    while !scene.post().sent().iter().any(told) {
        if Instant::now() > end {
            bail!("the wardens were not told");
        }
        tokio::time::sleep(QUIET / 10).await;
    }
    let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
    Ok(format!("extracted to reports/{name}, {} stations; the wardens were told", lines - 1))
}

/// Each side has what the other had, and what lies on both and differs is asked.
async fn alike(scene: &Scene, engine: &Engine) -> Result<String> {
    let end = Instant::now() + PATIENCE;
    loop {
        let twin = engine.twin_now("volunteers", 1).await?;
        let missing =
            SHARED.iter().map(|(path, _)| *path).find(|path| !scene.office().join("volunteers").join(path).is_file());
        let missing = missing
            .or_else(|| AT_THE_OFFICE.into_iter().find(|path| scene.on_drive(&format!("shared/{path}")).is_none()));
        match (missing, twin.question) {
            (None, Some((_, why))) => return Ok(format!("each has what the other had; asked: {why}")),
            (Some(path), _) if Instant::now() > end => bail!("{path} is on one side only"),
            (None, None) if Instant::now() > end => bail!("nobody was asked about what lies on both sides"),
            _ => tokio::time::sleep(QUIET / 10).await,
        }
    }
}

/// Waits until every file was taken and nothing moves any more.
async fn wait(engine: &Engine, expected: usize) -> Result<bool> {
    let end = Instant::now() + PATIENCE;
    let (mut seen, mut since) = (0, Instant::now());
    while Instant::now() < end {
        let mut runs = engine.journal().runs(&RunFilter { limit: 500, ..RunFilter::default() }).await?;
        // What twins do is looked at by itself.
        runs.retain(|run| !run.rule.starts_with("twin-"));
        if runs.len() != seen || runs.iter().any(|run| run.state == "running") {
            (seen, since) = (runs.len(), Instant::now());
        }
        if seen > expected && since.elapsed() > QUIET {
            return Ok(true);
        }
        tokio::time::sleep(Duration::from_millis(50)).await;
    }
    Ok(false)
}

fn sha256(bytes: &[u8]) -> String {
    let mut hashing = Hashing::default();
    hashing.update_slice(bytes);
    hashing.finish().sha256.unwrap_or_default()
}

async fn look(scene: &Scene, engine: &Engine, sample: &Sample) -> Result<String> {
    let plain = content(sample.path);
    let name = sample.path.rsplit('/').next().unwrap_or_default();
    let held = engine.journal().holds(None, 500).await?;
    let hold = held.iter().find(|hold| hold.file.path.to_string() == sample.path);
    if let Expected::Held(code) = sample.expected {
        let hold = hold.context("it should be held and is not")?;
        if hold.code != code {
            bail!("held for another reason than expected ({}): {}", hold.code, hold.why);
        }
        if !scene.office().join(sample.path).exists() {
            bail!("held, but the original is gone");
        }
        return Ok(format!("held: {}", hold.why));
    }
    if let Some(hold) = hold {
        bail!("held: {}", hold.why);
    }
    Ok(match sample.expected {
        Expected::HarbourEncrypted => {
            let day = jiff::Zoned::now().with_time_zone(jiff::tz::TimeZone::UTC).date();
            let path = scene.harbour().join(day.to_string()).join(format!("{name}.pgp"));
            opened(&path, &scene.harbour_key, &plain, engine).await?;
            if !scene.office().join("assays/out/sent").join(name).exists() {
                bail!("the original was not set aside");
            }
            format!("at the harbour in {day}, opens with its key, same checksum; original set aside")
        }
        Expected::HereEncrypted(path) => {
            opened(&scene.office().join(path), &scene.merrow_key, &plain, engine).await?;
            if scene.office().join(sample.path).exists() {
                bail!("the original is still there");
            }
            format!("sealed as {path}, opens with our key, same checksum")
        }
        Expected::Archived(key) => {
            let there = scene.archive().object(key).with_context(|| format!("the bucket has no object {key}"))?;
            if there != plain {
                bail!("the object {key} has another content");
            }
            recorded(&there, engine).await?;
            format!("in the archive's bucket as {key}, same checksum")
        }
        Expected::Sorted(path) => {
            let there = scene.on_drive(path).with_context(|| format!("the drive has no file {path}"))?;
            if there != plain {
                bail!("the file {path} has another content");
            }
            if let Some(first) = sample.path.split_once(':').and_then(|(_, path)| scene.on_drive(path)) {
                bail!("{} bytes of it are still where it was put", first.len());
            }
            format!("on the drive as {path}")
        }
        Expected::Packed(folder) => {
            let (zip, _) = zip_with(scene, folder, name, &plain)?;
            if !scene.office().join("crossings/sent").join(name).exists() {
                bail!("the original was not set aside");
            }
            format!("with the others in {folder}/{zip}; original set aside")
        }
        Expected::Mailed(path) => {
            same(&scene.office().join(path), &plain, engine).await?;
            let opened = scene.data().join("letter-opened");
            let mut attached = false;
            for letter in scene.post().sent() {
                let wants = |found: &str| found == name;
                let taken =
                    wetbank_errands::take_out(letter.as_slice(), u64::MAX, wants, |_| fs::File::create(&opened))?;
                attached |= !taken.attachments.is_empty() && fs::read(&opened)? == plain;
            }
            if !attached {
                bail!("no letter to the wardens has it");
            }
            format!("in {path}, same checksum; mailed to the wardens")
        }
        Expected::InParcel => {
            let (parcel, held) = zip_with(scene, "archive/parcels", name, &plain)?;
            if scene.archive().object(&format!("parcels/{parcel}")).is_none_or(|there| there != held) {
                bail!("the archive's bucket has no such parcel {parcel}");
            }
            if !scene.office().join("huts/sent").join(name).exists() {
                bail!("the original was not set aside");
            }
            format!("in the parcel {parcel}, delivered to the archive, a copy kept; original set aside")
        }
        Expected::Here(path) => {
            same(&scene.office().join(path), &plain, engine).await?;
            format!("in {path}, same checksum")
        }
        Expected::Decrypted(path) => {
            same(&scene.office().join(path), &plain, engine).await?;
            if scene.office().join(sample.path).exists() {
                bail!("the encrypted original is still there");
            }
            format!("decrypted to {path}, same checksum; encrypted original removed")
        }
        Expected::Held(_) => unreachable!("looked at above"),
    })
}

/// The zip of a folder that holds a file with this content.
fn zip_with(scene: &Scene, folder: &str, name: &str, plain: &[u8]) -> Result<(String, Vec<u8>)> {
    let folder = scene.office().join(folder);
    let out = scene.data().join("parcels-opened");
    for entry in fs::read_dir(&folder).with_context(|| format!("{} is not there", folder.display()))? {
        let path = entry?.path();
        let _ = fs::remove_dir_all(&out);
        fs::create_dir_all(&out)?;
        let files = wetbank_archive::unpack(fs::File::open(&path)?, &out, wetbank_archive::Taking::default())?;
        let has =
            files.iter().any(|file| file.name.to_string() == name && fs::read(&file.path).is_ok_and(|c| c == plain));
        fs::remove_dir_all(&out)?;
        if has {
            let parcel = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
            return Ok((parcel, fs::read(&path)?));
        }
    }
    bail!("no parcel in {} holds it with the same content", folder.display())
}

/// The file has the content, and the journal has its checksum.
async fn same(path: &Path, plain: &[u8], engine: &Engine) -> Result<()> {
    let there = fs::read(path).with_context(|| format!("{} is not there", path.display()))?;
    if there != plain {
        bail!("{} has another content", path.display());
    }
    recorded(&there, engine).await
}

async fn opened(path: &Path, key: &PgpKey, plain: &[u8], engine: &Engine) -> Result<()> {
    let there = fs::read(path).with_context(|| format!("{} is not there", path.display()))?;
    let mut opened = Vec::new();
    let opening = Opening { keys: vec![key], ..Opening::default() };
    decrypt(Cursor::new(there.clone()), &mut opened, &opening, Timestamp::now())
        .with_context(|| format!("{} does not open", path.display()))?;
    if opened != plain {
        bail!("{} has another content", path.display());
    }
    recorded(&there, engine).await
}

async fn recorded(there: &[u8], engine: &Engine) -> Result<()> {
    let sum = sha256(there);
    // A move within one file system moves no byte and so has no checksum of its own; the
    // step that made the file has.
    if engine.journal().trace(&sum, 10).await?.is_empty() && there.len() > 1 << 20 {
        bail!("no step with the checksum {sum} is on record");
    }
    Ok(())
}

/// Unfinished files that should no longer be anywhere.
fn leftovers(folder: &Path) -> Result<Vec<String>> {
    let mut found = Vec::new();
    let mut folders = vec![folder.to_owned()];
    while let Some(folder) = folders.pop() {
        for entry in fs::read_dir(&folder)? {
            let entry = entry?;
            let name = entry.file_name().to_string_lossy().into_owned();
            if entry.file_type()?.is_dir() {
                folders.push(entry.path());
            } else if name.starts_with(wetbank_core::TEMPORARY_PREFIX) || name.ends_with(".part") {
                found.push(entry.path().display().to_string());
            }
        }
    }
    Ok(found)
}
