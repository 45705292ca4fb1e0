//! The figures of files on this machine: copied, sealed, many at once, none at all.

use std::{
    fs,
    path::Path,
    thread::sleep,
    time::{Duration, Instant},
};

use anyhow::Result;
use tempfile::TempDir;

use super::{Figure, Office, at_least, at_most, median, noise, seconds, shell, tree, wait};

/// How long SHA-256 of a file takes by itself: nothing that records it can be faster, and on a
/// processor without SHA instructions it takes longer than all the rest.
fn sha256_alone(file: &Path) -> Result<Duration> {
    shell(&format!("openssl dgst -sha256 '{}' > /dev/null", file.display()))
}

const COPY: &str = "[place.office]\nkind = \"folder\"\nroot = \"@/office\"\n[place.archive]\nkind = \"folder\"\nroot = \"@/archive\"\n\
[rule.keep]\nstarts = { arrival = { place = \"office\", folder = \"in\", below = true } }\n\
[[rule.keep.branch]]\nsteps = [ { copy = { to = \"archive\", folder = \"{{ file.folder }}\" } } ]\n";

pub(super) fn large_copy(figures: &mut Vec<Figure>) -> Result<()> {
    let office = Office::open(&["office/in", "archive/in", "theirs"], COPY, &[])?;
    noise(&office.path("source"), 1024)?;
    let (mut ours, mut theirs) = (Vec::new(), Vec::new());
    for round in 0..3 {
        let folder = office.folder.path().display();
        shell(&format!("cp '{folder}/source' '{folder}/office/.wetbank-{round}'; sync"))?;
        theirs.push(shell(&format!(
            "cp '{folder}/source' '{folder}/theirs/{round}'; sync '{folder}/theirs/{round}' '{folder}/theirs'"
        ))?);
        let there = office.path(&format!("archive/in/{round}"));
        let began = Instant::now();
        fs::rename(office.path(&format!("office/.wetbank-{round}")), office.path(&format!("office/in/{round}")))?;
        wait(|| there.exists())?;
        ours.push(began.elapsed());
        office.wait_done(round + 1)?;
        fs::remove_file(there)?;
        fs::remove_file(office.path(&format!("theirs/{round}")))?;
        fs::remove_file(office.path(&format!("office/in/{round}")))?;
        sleep(Duration::from_millis(500));
    }
    let mut figure = at_most(
        "1 GiB copied here, SHA-256 and BLAKE3 on record",
        median(ours),
        ("cp, sync", median(theirs)),
        1.7,
        "at most 1.7",
    );
    figure.theirs += &format!("; SHA-256 alone {}", seconds(sha256_alone(&office.path("source"))?));
    figures.push(figure);
    Ok(())
}

pub(super) fn small_copies(figures: &mut Vec<Figure>) -> Result<()> {
    let office = Office::open(&["office/in", "archive/in", "theirs"], COPY, &[])?;
    let (mut ours, mut theirs) = (Vec::new(), Vec::new());
    for round in 0..3i64 {
        let source = office.path("office/aside");
        tree(&source, 20, 20_000, 4096)?;
        let folder = office.folder.path().display();
        shell("sync; sleep 3")?;
        theirs.push(shell(&format!(
            "cp -r '{folder}/office/aside' '{folder}/theirs/{round}'; sync -f '{folder}/theirs'"
        ))?);
        let began = Instant::now();
        fs::rename(source, office.path(&format!("office/in/r{round}")))?;
        office.wait_done((round + 1) * 20_000)?;
        ours.push(began.elapsed());
    }
    figures.push(at_most(
        "20,000 files of 4 KiB copied here through a rule, journalled",
        median(ours),
        ("cp -r, sync", median(theirs)),
        1.2,
        "at most 1.2",
    ));
    Ok(())
}

pub(super) fn burst(figures: &mut Vec<Figure>) -> Result<()> {
    let office = Office::open(&["office/in/old", "archive"], COPY, &[])?;
    let began = Instant::now();
    let writers: Vec<_> = (0..4)
        .map(|writer| {
            let root = office.path("office/in");
            std::thread::spawn(move || -> std::io::Result<()> {
                for file in 0..5000 {
                    let folder =
                        if file % 2 == 0 { root.join("old") } else { root.join(format!("new-{writer}-{}", file / 50)) };
                    fs::create_dir_all(&folder)?;
                    fs::write(folder.join(format!("{writer}-{file}.csv")), [writer; 1024])?;
                }
                Ok(())
            })
        })
        .collect();
    for writer in writers {
        writer.join().map_err(|_| anyhow::anyhow!("a writer broke off"))??;
    }
    office.wait_done(20_000)?;
    let took = began.elapsed();
    sleep(Duration::from_secs(3));
    let done = office.wetbank(&["status"], "")?["today"]["done"].as_i64().unwrap_or(0);
    let count: usize = walk(&office.path("archive"))?;
    let rate = 20_000.0 / took.as_secs_f64();
    figures.push(Figure {
        what: "20,000 files dropped by four writers, half into new folders".to_owned(),
        ours: seconds(took),
        theirs: format!("{count} arrived, {done} runs, peak {:.0} MiB", office.peak()?),
        ratio: format!("{rate:.0} files/s"),
        promised: "at least 2,000/s, none lost, none twice",
        kept: rate >= 2000.0 && count == 20_000 && done == 20_000,
    });
    Ok(())
}

fn walk(folder: &Path) -> Result<usize> {
    let mut count = 0;
    for entry in fs::read_dir(folder)? {
        let entry = entry?;
        count += if entry.file_type()?.is_dir() { walk(&entry.path())? } else { 1 };
    }
    Ok(count)
}

pub(super) fn one_file(figures: &mut Vec<Figure>) -> Result<()> {
    let office = Office::open(&["office/in", "archive/in"], COPY, &[])?;
    let mut times = Vec::new();
    for number in 0..200 {
        let there = office.path(&format!("archive/in/{number}.csv"));
        let began = Instant::now();
        fs::write(office.path(&format!("office/in/{number}.csv")), b"one reading")?;
        wait(|| there.exists())?;
        times.push(began.elapsed());
        sleep(Duration::from_millis(5));
    }
    times.sort();
    let ms = |time: Duration| time.as_secs_f64() * 1000.0;
    let middle = ms(times[times.len() / 2]);
    figures.push(Figure {
        what: "one file alone, from close to committed".to_owned(),
        ours: format!("median {middle:.1} ms"),
        theirs: format!("99th percentile {:.1} ms", ms(times[times.len() * 99 / 100])),
        ratio: "–".to_owned(),
        promised: "median under 30 ms",
        kept: middle < 30.0,
    });
    Ok(())
}

pub(super) fn openpgp(figures: &mut Vec<Figure>) -> Result<()> {
    let home = TempDir::new()?;
    let at = home.path().display();
    shell(&format!(
        "chmod 700 '{at}'; GNUPGHOME='{at}' gpg --batch --quiet --passphrase '' --quick-generate-key bench default default never; GNUPGHOME='{at}' gpg --armor --export bench > '{at}/key.asc'"
    ))?;
    let book = "[place.office]\nkind = \"folder\"\nroot = \"@/office\"\n[rule.seal]\nstarts = { arrival = { place = \"office\", folder = \"in\" } }\n\
                [[rule.seal.branch]]\nsteps = [ { encrypt = { to = [\"bench\"] } } ]\n";
    let office = Office::open(&["office/in"], book, &[])?;
    office.wetbank(&["key", "import", "bench", &format!("{at}/key.asc")], "")?;
    noise(&office.path("source"), 512)?;
    let root = office.folder.path().display();
    let (mut ours, mut theirs) = (Vec::new(), Vec::new());
    for round in 0..3i64 {
        fs::copy(office.path("source"), office.path(&format!("office/.wetbank-{round}")))?;
        shell("sync")?;
        theirs.push(shell(&format!("GNUPGHOME='{at}' gpg --batch --yes --quiet --trust-model always --compress-algo none -r bench -o '{root}/theirs.pgp' --encrypt '{root}/source'; sync '{root}/theirs.pgp'"))?);
        let began = Instant::now();
        fs::rename(office.path(&format!("office/.wetbank-{round}")), office.path(&format!("office/in/{round}")))?;
        office.wait_done(round + 1)?;
        ours.push(began.elapsed());
    }
    let mut figure = at_least(
        "512 MiB encrypted with OpenPGP",
        median(ours),
        ("gpg without compression", median(theirs)),
        0.9,
        "at least 0.9",
    );
    let peak = office.peak()?;
    figure.ours = format!("{}, peak {peak:.0} MiB", figure.ours);
    figure.kept &= peak < 120.0;
    figures.push(figure);
    Ok(())
}

pub(super) fn idle(figures: &mut Vec<Figure>) -> Result<()> {
    let mut book = "[place.office]\nkind = \"folder\"\nroot = \"@/office\"\n".to_owned();
    for rule in 0..20 {
        book.push_str(&format!(
            "[rule.r{rule}]\nstarts = {{ arrival = {{ place = \"office\", folder = \"d{rule}\", below = true }} }}\n[[rule.r{rule}.branch]]\nsteps = [ {{ copy = {{ folder = \"out\" }} }} ]\n"
        ));
    }
    let folders: Vec<String> = (0..2000).map(|n| format!("office/d{}/{n}", n % 20)).collect();
    let office = Office::open(&folders.iter().map(String::as_str).collect::<Vec<_>>(), &book, &[])?;
    sleep(Duration::from_secs(5));
    let before = office.ticks()?;
    sleep(Duration::from_secs(20));
    let used = office.ticks()? - before;
    let memory = office.memory("VmRSS:")?;
    figures.push(Figure {
        what: "idle, 20 rules over 2,000 folders".to_owned(),
        ours: format!("{memory:.0} MiB"),
        theirs: format!("{} ms of processor in 20 s", used * 10),
        ratio: "–".to_owned(),
        promised: "under 60 MiB, no measurable processor",
        kept: memory < 60.0 && used <= 2,
    });
    Ok(())
}
