//! What the places do by themselves, without rules and journal, against the system's own tools:
//! files copied here and sent to OpenSSH's server, each hashed, written under a temporary name,
//! on disk and renamed. Prints lines of a table. Words choose figures by their beginning.

#![allow(clippy::unwrap_used, clippy::print_stdout, reason = "a measurement prints what it found, or ends")]

use std::{
    fs,
    path::{Path, PathBuf},
    process::Command,
    sync::Arc,
    time::{Duration, Instant},
};

use futures_util::{StreamExt, TryStreamExt, stream};
use tokio_util::sync::CancellationToken;
use wetbank_core::{Name, RelPath, SILENCE, SftpSignIn, SftpSpec};
use wetbank_crypt::Hashing;
use wetbank_places::{Collision, Folder, Place, PlaceError, Sftp, SftpCredentials};
use wetbank_testbed::{Sshd, client_key};

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
        if wanted("sftp") {
            sftp().await;
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

async fn send(from: &Folder, to: &Sftp, path: &RelPath) -> Result<(), PlaceError> {
    let temporary = beside(path);
    let mut hashing = Hashing::for_ourselves();
    let mut staged = to.stage(&temporary, path, None).await?;
    let mut content = from.read(path, 0).await?;
    while let Some(chunk) = content.next().await.transpose()? {
        hashing.update(chunk.clone()).await;
        staged.write(chunk).await?;
    }
    staged.finish().await?;
    hashing.finish();
    to.rename(&temporary, path, Collision::Replace).await.map(drop)
}

async fn sftp() {
    let scratch = scratch();
    let at = scratch.path();
    for name in ["ours", "theirs", "source"] {
        fs::create_dir(at.join(name)).unwrap();
    }
    let sshd = Sshd::start();
    let (file, text) = client_key(sshd.folder.path(), &["ed25519"], "");
    sshd.authorize(&file);
    let spec = SftpSpec {
        host: sshd.address.ip().to_string(),
        port: sshd.address.port(),
        user: sshd.user(),
        sign_in: SftpSignIn::Key { key: Name::new("key").unwrap(), passphrase: None },
        host_key: Some(sshd.fingerprint.clone()),
        root: at.join("ours").display().to_string(),
        connections: 4,
        silence: SILENCE,
    };
    let to = Sftp::new(Name::new("server").unwrap(), spec, SftpCredentials::Key { key: text.into(), passphrase: None });
    let client = |options: &str, batch: &str| {
        shell(&format!(
            "printf '{batch}' | sftp -q -b - {options} -P {} -i '{}' -o StrictHostKeyChecking=no \
             -o UserKnownHostsFile=/dev/null {}@127.0.0.1 > /dev/null",
            sshd.address.port(),
            file.display(),
            sshd.user()
        ))
    };
    noise(&at.join("source/large"), 512);
    let from = folder(at.join("source"));
    to.reach().await.unwrap();
    let shown = at.display();
    let (mut ours, mut plain, mut gcm) = (Vec::new(), Vec::new(), Vec::new());
    let (mut down, mut down_plain) = (Vec::new(), Vec::new());
    let path = RelPath::parse("large").unwrap();
    for _ in 0..ROUNDS {
        let put = format!("put {shown}/source/large {shown}/theirs/large\\n");
        plain.push(client("", &put));
        gcm.push(client("-c aes128-gcm@openssh.com", &put));
        let began = Instant::now();
        send(&from, &to, &path).await.unwrap();
        ours.push(began.elapsed());
        down_plain.push(client("", &format!("get {shown}/source/large {shown}/theirs/down\\n")));
        let began = Instant::now();
        let (mut hashing, mut file) = (Hashing::for_ourselves(), fs::File::create(at.join("down")).unwrap());
        let mut content = to.read(&path, 0).await.unwrap();
        while let Some(chunk) = content.next().await.transpose().unwrap() {
            hashing.update(chunk.clone()).await;
            tokio::task::block_in_place(|| std::io::Write::write_all(&mut file, &chunk).unwrap());
        }
        hashing.finish();
        down.push(began.elapsed());
        shell(&format!("rm -f '{shown}/theirs/'* '{shown}/ours/large' '{shown}/down'; sync"));
    }
    let (ours, what) = (middle(ours), "512 MiB to sshd, BLAKE3");
    row(what, ours, ("sftp", middle(plain)), 1.4, true);
    row(what, ours, ("sftp, AES-128-GCM", middle(gcm)), 1.0, true);
    row("512 MiB from sshd, BLAKE3", middle(down), ("sftp", middle(down_plain)), 1.0, true);
    let paths = tree(&at.join("source"), 1, 2000);
    let (mut small, mut theirs) = (Vec::new(), Vec::new());
    for round in 0..ROUNDS {
        theirs.push(client("", &format!("put -r {shown}/source/000 {shown}/theirs/{round}\\n")));
        fs::create_dir(at.join("ours/000")).unwrap();
        let began = Instant::now();
        stream::iter(paths.iter().map(Ok::<_, PlaceError>))
            .try_for_each_concurrent(AT_ONCE, |path| send(&from, &to, path))
            .await
            .unwrap();
        small.push(began.elapsed());
        shell(&format!("rm -rf '{shown}/ours/000'; sync"));
    }
    let what = "2,000 files of 4 KiB to sshd, each under a temporary name";
    row(what, middle(small), ("sftp put -r", middle(theirs)), 2.3, true);
}
