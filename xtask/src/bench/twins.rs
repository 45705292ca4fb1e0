//! Keeping two folders alike.

use std::{
    fs,
    path::Path,
    time::{Duration, Instant},
};

use anyhow::{Context, Result};

use super::{Figure, Office, at_least, at_most, median, seconds, shell, sshd::sshd, tree, wait};

const LOCAL: &str = "[place.office]\nkind = \"folder\"\nroot = \"@/office\"\n[place.store]\nkind = \"folder\"\nroot = \"@/store\"\n\
[twin.both]\nnear = { place = \"office\" }\nfar = { place = \"store\" }\nway = \"both\"\nsettle = \"0s\"\n";

/// Files that are sent each by a call of its own: all 20,000 would take most of an hour.
const FEW: u32 = 100;

/// A pass, and how long it takes.
fn pass(office: &Office, twin: &str) -> Result<Duration> {
    let began = Instant::now();
    office.wetbank(&["twin", "run", twin], "")?;
    Ok(began.elapsed())
}

/// Looks at size and time of all below two folders, twice as much as one of them.
fn find(one: &Path, other: &Path) -> Result<Duration> {
    shell(&format!("find '{}' '{}' -printf '%s %T@\\n' > /dev/null", one.display(), other.display()))
}

fn is_alike(office: &Office, twin: &str) -> Result<bool> {
    Ok(office.wetbank(&["twin", "show", twin], "")?["state"] == "alike")
}

/// A million files on each side, and nothing to do.
pub(super) fn alike(figures: &mut Vec<Figure>) -> Result<()> {
    let office = Office::open(&["office", "store"], LOCAL, &[])?;
    let (near, far) = (office.path("office"), office.path("store"));
    tree(&near, 1_000, 1_000_000, 1)?;
    shell(&format!("cp -rp '{}/.' '{}'", near.display(), far.display()))?;
    pass(&office, "both")?;
    pass(&office, "both")?;
    let (mut ours, mut theirs) = (Vec::new(), Vec::new());
    for _ in 0..3 {
        theirs.push(find(&near, &far)?);
        ours.push(pass(&office, "both")?);
    }
    let what = "a pass over 1,000,000 files on both sides, nothing to do";
    let mut figure = at_most(what, median(ours), ("find over both", median(theirs)), 1.5, "at most 1.5, under 200 MiB");
    let peak = office.peak()?;
    figure.ours += &format!(", peak {peak:.0} MiB");
    figure.kept &= peak < 200.0 && is_alike(&office, "both")?;
    figures.push(figure);
    Ok(())
}

/// Many small files to a server at first, and some of very many afterwards.
pub(super) fn sent(figures: &mut Vec<Figure>) -> Result<()> {
    let server = sshd()?;
    let twin = "[twin.sent]\nnear = { place = \"office\" }\nfar = { place = \"server\" }\nway = \"update\"\nsettle = \"0s\"\nbrake = { files = 5000 }\n";
    let book = format!("[place.office]\nkind = \"folder\"\nroot = \"@/office\"\n{}{twin}", server.place("remote")?);
    let office = Office::open(&["office", "remote", "theirs"], &book, &[("key", &server.key()?)])?;
    let root = fs::canonicalize(office.folder.path())?;
    tree(&root.join("office"), 20, 20_000, 4096)?;
    let theirs = root.join("theirs").display().to_string();
    let all_at_once = server.client("", &format!("put -r {}/office {theirs}\n", root.display()))?;
    let began = Instant::now();
    for file in 0..FEW {
        server.client("", &format!("put {}/office/000/{file:04}.csv {theirs}/{file}\n", root.display()))?;
    }
    let one_by_one = began.elapsed() * (20_000 / FEW);
    let ours = pass(&office, "sent")?;
    let same = format!("diff -r -x .wetbank-kept '{0}/office' '{0}/remote'", root.display());
    shell(&same)?;
    let what = "20,000 files of 4 KiB to sshd, a first pass";
    let mut figure = at_least(what, ours, ("a call of sftp a file, told by 100,", one_by_one), 3.0, "at least 3");
    figure.theirs += &format!("; put -r of all {}", seconds(all_at_once));
    figures.push(figure);
    // Now as many more that 1,000 are few; what is there already is joined.
    tree(&root.join("office/more"), 180, 180_000, 16)?;
    shell(&format!("cp -rp '{0}/office/more' '{0}/remote/more'", root.display()))?;
    pass(&office, "sent")?;
    pass(&office, "sent")?;
    let mut batch = String::new();
    for folder in 0..20 {
        batch += &format!("ls -l {}/remote/{folder:03}\n", root.display());
        for file in 0..50 {
            let name = format!("{folder:03}/{file:04}.csv");
            fs::write(root.join("office").join(&name), vec![7; 4096 + folder])?;
            batch += &format!("put {0}/office/{name} {theirs}/office/{name}\n", root.display());
        }
    }
    for folder in 0..180 {
        batch += &format!("ls -l {}/remote/more/{folder:03}\n", root.display());
    }
    let by_hand = server.client("", &batch)?;
    let ours = pass(&office, "sent")?;
    shell(&same)?;
    let what = "1,000 changed of 200,000 files to sshd";
    figures.push(at_most(what, ours, ("sftp ls of all, put of these", by_hand), 1.3, "at most 1.3"));
    Ok(())
}

/// How soon a change is on the other side.
pub(super) fn follows(figures: &mut Vec<Figure>) -> Result<()> {
    let book = format!("{LOCAL}starts = {{ change = {{}} }}\n");
    let office = Office::open(&["office", "store"], &book, &[])?;
    tree(&office.path("office"), 10, 1_000, 100)?;
    wait(|| is_alike(&office, "both").is_ok_and(|is| is) && office.path("store/009/0099.csv").exists())?;
    let mut times = Vec::new();
    for number in 0..30 {
        let (from, to) = if number % 2 == 0 { ("office", "store") } else { ("store", "office") };
        let (name, content) = (format!("{:03}/0050.csv", number % 10), format!("read again {number}"));
        let began = Instant::now();
        fs::write(office.path(from).join(&name), &content)?;
        wait(|| fs::read_to_string(office.path(to).join(&name)).is_ok_and(|there| there == content))?;
        times.push(began.elapsed());
        wait(|| is_alike(&office, "both").is_ok_and(|is| is))?;
    }
    let longest = times.iter().max().copied().context("a time")?;
    let ours = median(times);
    figures.push(Figure {
        what: "a small file that changed on one side of a twin, until it is on the other".to_owned(),
        ours: format!("median {}", seconds(ours)),
        theirs: format!("longest {}", seconds(longest)),
        ratio: "–".to_owned(),
        promised: "median under 1 s",
        kept: ours < Duration::from_secs(1),
    });
    Ok(())
}

/// A folder of very many files, and folders in folders in folders.
pub(super) fn shapes(figures: &mut Vec<Figure>) -> Result<()> {
    for (what, folders, files) in [("100,000 files in one folder", 1, 100_000), ("folders 200 levels deep", 0, 0)] {
        let office = Office::open(&["office", "store"], LOCAL, &[])?;
        tree(&office.path("office"), folders, files, 1)?;
        let deep = vec!["d"; 200].join("/");
        if folders == 0 {
            fs::create_dir_all(office.path("office").join(&deep))?;
            fs::write(office.path("office").join(&deep).join("x.csv"), "x")?;
        } else {
            shell(&format!("cp -rp '{0}/office/.' '{0}/store'", office.folder.path().display()))?;
        }
        let before = office.peak()?;
        let ours = pass(&office, "both")?;
        let again = pass(&office, "both")?;
        let grown = office.peak()? - before;
        shell(&format!("diff -r -x .wetbank-kept '{0}/office' '{0}/store'", office.folder.path().display()))?;
        figures.push(Figure {
            what: format!("a twin over {what}"),
            ours: format!("{}, then {}", seconds(ours), seconds(again)),
            theirs: format!("{grown:.0} MiB more at most"),
            ratio: "–".to_owned(),
            promised: "under 200 MiB more",
            kept: grown < 200.0,
        });
    }
    Ok(())
}
