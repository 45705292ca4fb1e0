//! What the places do by themselves, without rules and journal, against the system's own tools:
//! files copied here and sent to servers and fetched from them, each hashed, written under a
//! temporary name and renamed. Prints lines of a table. Words choose figures by their beginning.

#![allow(clippy::unwrap_used, clippy::print_stdout, reason = "a measurement prints what it found, or ends")]

mod servers;
#[path = "../../tests/places/support/mod.rs"]
mod support;

use std::{
    fs,
    path::{Path, PathBuf},
    process::Command,
    sync::Arc,
    time::{Duration, Instant},
};

use futures_util::{TryStreamExt, stream};
use tokio_util::sync::CancellationToken;
use wetbank_core::{Name, RelPath};
use wetbank_crypt::{PgpKey, Sealing};
use wetbank_places::{Collision, Folder, Place, PlaceError};

/// As the service has it.
#[global_allocator]
static MEMORY: mimalloc::MiMalloc = mimalloc::MiMalloc;

/// Runs of one figure, of which the middle one counts.
const ROUNDS: usize = 3;
/// Files in hand at once, as the service has them.
const AT_ONCE: usize = 64;

fn main() {
    let words: Vec<String> = std::env::args().skip(1).filter(|word| !word.starts_with('-')).collect();
    let wanted = |name: &str| words.is_empty() || words.iter().any(|word| name.starts_with(word.as_str()));
    let runtime = tokio::runtime::Builder::new_multi_thread().enable_all().build().unwrap();
    runtime.block_on(async {
        if wanted("large") {
            large_here().await;
        }
        if wanted("small") {
            small_here().await;
        }
        if wanted("openpgp") {
            openpgp();
        }
        if wanted("sftp") {
            servers::sftp().await;
        }
        for kind in ["ftp", "webdav", "share", "bucket", "stand-in bucket"] {
            if wanted(kind) {
                servers::plain(kind).await;
            }
        }
    });
}

fn row(what: &str, ours: Duration, theirs: (&str, Duration), limit: f64, faster: bool) {
    let (ours, others) = (ours.as_secs_f64(), theirs.1.as_secs_f64());
    let (ratio, kept, promised) = if faster {
        let ratio = others / ours;
        (format!("{ratio:.2} times as fast"), ratio >= limit, format!("at least {limit}"))
    } else {
        let ratio = ours / others;
        (format!("{ratio:.2}"), ratio <= limit, format!("at most {limit}"))
    };
    let sign = if kept { "✓" } else { "✗" };
    println!("| {what} | {ours:.2} s | {} {others:.2} s | {ratio} | {promised} | {sign} |", theirs.0);
}

fn shell(line: &str) -> Duration {
    let began = Instant::now();
    assert!(Command::new("sh").args(["-ec", line]).status().unwrap().success(), "{line}");
    began.elapsed()
}

fn middle(mut times: Vec<Duration>) -> Duration {
    times.sort();
    times[times.len() / 2]
}

/// A folder on the disk that holds the project, not in memory.
fn scratch() -> tempfile::TempDir {
    tempfile::Builder::new().prefix("wetbank-bench-").tempdir_in(env!("CARGO_TARGET_TMPDIR")).unwrap()
}

fn noise(path: &Path, mib: u64) {
    shell(&format!("head -c {} /dev/urandom > '{}'", mib << 20, path.display()));
}

fn tree(at: &Path, folders: usize, files: usize) -> Vec<RelPath> {
    let mut paths = Vec::new();
    for folder in 0..folders {
        fs::create_dir_all(at.join(format!("{folder:03}"))).unwrap();
        for file in 0..files / folders {
            let path = format!("{folder:03}/{file:04}.csv");
            fs::write(at.join(&path), vec![(file % 251) as u8; 4096]).unwrap();
            paths.push(RelPath::parse(&path).unwrap());
        }
    }
    paths
}

fn folder(root: PathBuf) -> Folder {
    Folder::new(Name::new("here").unwrap(), root)
}

fn beside(path: &RelPath) -> RelPath {
    let name = [b".wetbank-bench-", path.name()].concat();
    path.parent().join_name(&name).unwrap()
}

async fn copy(from: &Folder, to: &Folder, path: &RelPath) -> Result<(), PlaceError> {
    let temporary = beside(path);
    let copied = to.copy_in(from, path, &temporary, true, Arc::default(), CancellationToken::new()).await?;
    assert!(copied.digests.sha256.is_some() && copied.entry.fingerprint.size == copied.source.fingerprint.size);
    to.rename(&temporary, path, Collision::Refuse).await.map(drop)
}

async fn large_here() {
    let scratch = scratch();
    let at = scratch.path();
    fs::create_dir(at.join("ours")).unwrap();
    noise(&at.join("source"), 1024);
    let (from, to) = (folder(at.to_owned()), folder(at.join("ours")));
    let path = RelPath::parse("source").unwrap();
    let (mut ours, mut theirs, mut alone) = (Vec::new(), Vec::new(), Vec::new());
    for _ in 0..ROUNDS {
        let shown = at.display();
        theirs.push(shell(&format!("cp '{shown}/source' '{shown}/theirs'; sync '{shown}/theirs' '{shown}'")));
        alone.push(shell(&format!("openssl dgst -sha256 '{shown}/source' > /dev/null")));
        let began = Instant::now();
        copy(&from, &to, &path).await.unwrap();
        ours.push(began.elapsed());
        shell(&format!("rm '{shown}/theirs' '{shown}/ours/source'; sync; sleep 1"));
    }
    let words = format!("SHA-256 alone {:.2} s; cp, sync", middle(alone).as_secs_f64());
    row("1 GiB copied here, hashed twice", middle(ours), (&words, middle(theirs)), 1.7, false);
}

async fn small_here() {
    let scratch = scratch();
    let at = scratch.path();
    let paths = tree(&at.join("source"), 20, 20_000);
    let from = folder(at.join("source"));
    let (mut ours, mut theirs) = (Vec::new(), Vec::new());
    for round in 0..ROUNDS {
        let shown = at.display();
        shell("sync; sleep 2");
        theirs.push(shell(&format!("cp -r '{shown}/source' '{shown}/theirs{round}'; sync -f '{shown}'")));
        shell("sync; sleep 2");
        let began = Instant::now();
        let root = at.join(format!("ours{round}"));
        for number in 0..20 {
            fs::create_dir_all(root.join(format!("{number:03}"))).unwrap();
        }
        let to = folder(root);
        stream::iter(paths.iter().map(Ok::<_, PlaceError>))
            .try_for_each_concurrent(AT_ONCE, |path| {
                let (from, to, path) = (from.clone(), to.clone(), path.clone());
                async move { tokio::spawn(async move { copy(&from, &to, &path).await }).await.unwrap() }
            })
            .await
            .unwrap();
        ours.push(began.elapsed());
    }
    row("20,000 files of 4 KiB copied here, hashed twice", middle(ours), ("cp -r, sync", middle(theirs)), 1.2, false);
}

/// What the OpenPGP library needs by itself, and what the system's own program needs for all of it.
fn openpgp() {
    let scratch = scratch();
    let shown = scratch.path().display();
    noise(&scratch.path().join("source"), 512);
    shell(&format!(
        "chmod 700 '{shown}'; export GNUPGHOME='{shown}'; gpg --batch --quiet --passphrase '' \
         --quick-generate-key bench default default never 2>/dev/null; gpg --armor --export bench > '{shown}/key.asc'"
    ));
    let text = fs::read(scratch.path().join("key.asc")).unwrap();
    let key = PgpKey::import("bench", &text, None).unwrap();
    let (mut ours, mut theirs) = (Vec::new(), Vec::new());
    for _ in 0..ROUNDS {
        theirs.push(shell(&format!(
            "GNUPGHOME='{shown}' gpg --batch --yes --quiet --trust-model always --compress-algo none -r bench \
             -o /dev/null --encrypt '{shown}/source'"
        )));
        let began = Instant::now();
        let sealing = Sealing { recipients: vec![&key], ..Sealing::default() };
        let input =
            std::io::BufReader::with_capacity(256 << 10, fs::File::open(scratch.path().join("source")).unwrap());
        wetbank_crypt::encrypt(input, std::io::sink(), &sealing, jiff::Timestamp::now()).unwrap();
        ours.push(began.elapsed());
    }
    row("512 MiB through the OpenPGP library alone", middle(ours), ("gpg to /dev/null", middle(theirs)), 0.9, true);
}
