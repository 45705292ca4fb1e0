//! Servers of every kind against the plainest client for each.

use std::{
    fs,
    path::Path,
    time::{Duration, Instant},
};

use futures_util::{TryStreamExt, stream};
use rusty_s3::S3Action;
use wetbank_core::{FtpSecurity, Name, RelPath};
use wetbank_crypt::Hashing;
use wetbank_places::{Ahead, Bucket, Collision, Ftp, Place, PlaceError, Sftp, SftpCredentials, Webdav};
use wetbank_standins::{BucketStandin, BucketStandinOptions};
use wetbank_testbed::{Apache, FTP_USER, FtpOffer, Moto, Proftpd, SHARE_USER, Samba, ShareOffer, Sshd, WEBDAV_USER};

use crate::{
    AT_ONCE, ROUNDS, beside, folder, middle, noise, row, scratch, shell,
    support::{bucket_spec, client_key, proftpd_spec, sftp_spec, share_place, webdav_spec},
    tree,
};

/// So many are sent one by one; the others would take as long each.
const ONE_BY_ONE: usize = 100;
/// What a store that believes any signature is told.
const WHO: &str =
    "AWS4-HMAC-SHA256 Credential=merrow/20260314/us-east-1/s3/aws4_request, SignedHeaders=host, Signature=0";

/// Brings a file from one place to another, as the service does it.
async fn bring(from: &dyn Place, to: &dyn Place, path: &RelPath) -> Result<(), PlaceError> {
    let temporary = beside(path);
    let mut hashing = Hashing::for_ourselves();
    let mut staged = to.stage(&temporary, path, None).await?;
    let mut content = Ahead::open(from, path).await?;
    while let Some(chunk) = content.next().await? {
        hashing.update(&chunk).await;
        staged.write(chunk).await?;
    }
    staged.finish().await?;
    hashing.finish();
    to.rename(&temporary, path, Collision::Replace).await.map(drop)
}

/// A line for the shell about a file of this name on the server.
type Line = Box<dyn Fn(&str) -> String>;

/// How the plainest client sends the file "large" and fetches it.
struct Plain {
    name: &'static str,
    put: Line,
    get: Line,
}

/// `address` tells where a file of a name is, for being put and for being fetched.
fn curl(address: impl Fn(&str, bool) -> String + Clone + 'static, how: &str, at: &Path) -> Plain {
    let (from, to) = (at.join("source/large").display().to_string(), at.join("theirs/large").display().to_string());
    let (there, with, how) = (address.clone(), how.to_owned(), how.to_owned());
    Plain {
        name: "curl",
        put: Box::new(move |name| format!("curl -sSf {with} -T '{from}' '{}' > /dev/null", there(name, true))),
        get: Box::new(move |name| format!("curl -sSf {how} -o '{to}' '{}'", address(name, false))),
    }
}

/// Files of a name below an address.
fn below(base: String) -> impl Fn(&str, bool) -> String + Clone {
    move |name, _| format!("{base}/{name}")
}

/// A server that ends with this, its place, and its plainest client.
async fn server(kind: &str, at: &Path) -> (Box<dyn std::any::Any>, Box<dyn Place>, Plain) {
    let name = Name::new("server").unwrap();
    match kind {
        "ftp" => {
            let server = Proftpd::start(FtpOffer::Plain);
            let spec = proftpd_spec(&server, FtpSecurity::None);
            let base = format!("ftp://127.0.0.1:{}/{}", server.port, server.root.path().display());
            let plain = curl(below(base), &format!("-u '{}:{}'", FTP_USER.0, FTP_USER.1), at);
            (Box::new(server), Box::new(Ftp::new(name, spec, FTP_USER.1.into())), plain)
        }
        "webdav" => {
            let server = Apache::start(false);
            let spec = webdav_spec(&server.url, server.certificate.as_ref());
            let plain = curl(below(server.url.clone()), &format!("-u '{}:{}'", WEBDAV_USER.0, WEBDAV_USER.1), at);
            (Box::new(server), Box::new(Webdav::new(name, spec, Some(WEBDAV_USER.1.into()))), plain)
        }
        "share" => {
            let server = Samba::start(ShareOffer::Usual);
            let (user, password) = SHARE_USER;
            let client = format!(
                "smbclient //127.0.0.1/survey -p {} -U '{user}%{password}' --client-protection=encrypt",
                server.port
            );
            let (same, from, to) = (client.clone(), at.display().to_string(), at.display().to_string());
            let plain = Plain {
                name: "smbclient, encrypted",
                put: Box::new(move |name| format!("{client} -c 'put {from}/source/large {name}' >/dev/null 2>&1")),
                get: Box::new(move |name| format!("{same} -c 'get {name} {to}/theirs/large' >/dev/null 2>&1")),
            };
            let place = share_place(&server, true);
            (Box::new(server), Box::new(place), plain)
        }
        "stand-in bucket" => {
            let options = BucketStandinOptions {
                listen: ([127, 0, 0, 1], 0).into(),
                bucket: "bench".to_owned(),
                access_key: "merrow".to_owned(),
                secret_key: "grey heron".to_owned(),
            };
            let server = BucketStandin::start(options).await.unwrap();
            let url = server.url().parse().unwrap();
            let bucket = rusty_s3::Bucket::new(url, rusty_s3::UrlStyle::Path, "bench", "us-east-1").unwrap();
            let signed = move |name: &str, puts: bool| {
                let who = rusty_s3::Credentials::new("merrow", "grey heron");
                let signed = if puts {
                    bucket.put_object(Some(&who), name).sign(Duration::from_secs(600))
                } else {
                    bucket.get_object(Some(&who), name).sign(Duration::from_secs(600))
                };
                signed.to_string()
            };
            let plain = curl(signed, "", at);
            let place = Bucket::new(name, bucket_spec(&server.url(), "bench"), Some("grey heron".into())).unwrap();
            (Box::new(server), Box::new(place), plain)
        }
        _ => {
            let server = Moto::own();
            let who = format!("-H 'authorization: {WHO}'");
            shell(&format!("curl -sSf -X PUT {who} '{}/bench' > /dev/null", server.url));
            let plain = curl(below(format!("{}/bench", server.url)), &who, at);
            let place = Bucket::new(name, bucket_spec(&server.url, "bench"), Some("any".into())).unwrap();
            (Box::new(server), Box::new(place), plain)
        }
    }
}

/// 512 MiB to a server and from it.
pub async fn plain(kind: &str) {
    let scratch = scratch();
    let at = scratch.path();
    for name in ["ours", "theirs", "source"] {
        fs::create_dir(at.join(name)).unwrap();
    }
    noise(&at.join("source/large"), 512);
    let (_server, place, plain) = server(kind, at).await;
    place.reach().await.unwrap();
    let (source, ours) = (folder(at.join("source")), folder(at.join("ours")));
    let path = RelPath::parse("large").unwrap();
    let shown = at.display();
    let (mut up, mut down, mut their_up, mut their_down) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
    for round in 0..ROUNDS {
        shell("sync");
        // Each under a name of its own: writing over a file costs the server more.
        let name = format!("theirs-{round}");
        their_up.push(shell(&(plain.put)(&name)));
        shell("sync");
        let began = Instant::now();
        bring(&source, place.as_ref(), &path).await.unwrap();
        up.push(began.elapsed());
        shell("sync");
        // What comes here is on disk before we say so.
        their_down.push(shell(&format!("{}; sync '{shown}/theirs/large'", (plain.get)(&name))));
        shell("sync");
        let began = Instant::now();
        bring(place.as_ref(), &ours, &path).await.unwrap();
        down.push(began.elapsed());
        // A name that is taken costs the server more, too.
        place.delete(&path).await.unwrap();
        shell(&format!(
            "cmp '{shown}/source/large' '{shown}/ours/large'; rm '{shown}/theirs/large' '{shown}/ours/large'"
        ));
    }
    let synced = format!("{}, sync", plain.name);
    let (to, from) = (format!("512 MiB to {kind}, BLAKE3"), format!("512 MiB from {kind}, BLAKE3"));
    row(&to, middle(up), (plain.name, middle(their_up)), 0.9, true);
    row(&from, middle(down), (&synced, middle(their_down)), 0.9, true);
    // The others are measured through a rule.
    if kind == "stand-in bucket" {
        let paths = tree(&at.join("source"), 1, 2000);
        let began = Instant::now();
        for (number, path) in paths.iter().take(ONE_BY_ONE).enumerate() {
            let large = at.join("source/large").display().to_string();
            let small = at.join("source").join(path.to_string()).display().to_string();
            shell(&(plain.put)(&format!("one-{number}")).replace(&large, &small));
        }
        let theirs = began.elapsed() * u32::try_from(paths.len() / ONE_BY_ONE).unwrap();
        let began = Instant::now();
        many(&source, place.as_ref(), &paths).await;
        let what = format!("2,000 files of 4 KiB to {kind}, BLAKE3");
        row(&what, began.elapsed(), ("one curl a file", theirs), 3.0, true);
    }
}

/// As many at once as the service has in hand.
async fn many(from: &dyn Place, to: &dyn Place, paths: &[RelPath]) {
    stream::iter(paths.iter().map(Ok::<_, PlaceError>))
        .try_for_each_concurrent(AT_ONCE, |path| bring(from, to, path))
        .await
        .unwrap();
}

/// To OpenSSH's server and from it, large and small.
pub async fn sftp() {
    let scratch = scratch();
    let at = scratch.path();
    for name in ["ours", "theirs", "source", "down"] {
        fs::create_dir(at.join(name)).unwrap();
    }
    let sshd = Sshd::start();
    let (file, text) = client_key(sshd.folder.path(), &["ed25519"], "");
    sshd.authorize(&file);
    let credentials = SftpCredentials::Key { key: text.into(), passphrase: None, password: None };
    let to = Sftp::new(Name::new("server").unwrap(), sftp_spec(&sshd, &at.join("ours")), credentials);
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
    let (from, here) = (folder(at.join("source")), folder(at.join("down")));
    to.reach().await.unwrap();
    let shown = at.display();
    let (mut ours, mut plain, mut gcm) = (Vec::new(), Vec::new(), Vec::new());
    let (mut down, mut down_plain) = (Vec::new(), Vec::new());
    let path = RelPath::parse("large").unwrap();
    for _ in 0..ROUNDS {
        // Each under a name of its own: writing over a file costs the server more.
        let put = |name: &str| format!("put {shown}/source/large {shown}/theirs/{name}\\n");
        shell("sync");
        plain.push(client("", &put("plain")));
        shell("sync");
        gcm.push(client("-c aes128-gcm@openssh.com", &put("gcm")));
        shell("sync");
        let began = Instant::now();
        bring(&from, &to, &path).await.unwrap();
        ours.push(began.elapsed());
        shell("sync");
        let began = Instant::now();
        client("", &format!("get {shown}/source/large {shown}/theirs/down\\n"));
        shell(&format!("sync '{shown}/theirs/down'"));
        down_plain.push(began.elapsed());
        shell("sync");
        let began = Instant::now();
        bring(&to, &here, &path).await.unwrap();
        down.push(began.elapsed());
        shell(&format!("rm -f '{shown}/theirs/'* '{shown}/ours/large' '{shown}/down/large'"));
    }
    let (ours, what) = (middle(ours), "512 MiB to sshd, BLAKE3");
    row(what, ours, ("sftp", middle(plain)), 1.4, true);
    row(what, ours, ("sftp, AES-128-GCM", middle(gcm)), 1.0, true);
    row("512 MiB from sshd, BLAKE3", middle(down), ("sftp, sync", middle(down_plain)), 1.0, true);
    let paths = tree(&at.join("source"), 1, 2000);
    let (mut small, mut theirs) = (Vec::new(), Vec::new());
    for round in 0..ROUNDS {
        theirs.push(client("", &format!("put -r {shown}/source/000 {shown}/theirs/{round}\\n")));
        fs::create_dir(at.join("ours/000")).unwrap();
        let began = Instant::now();
        many(&from, &to, &paths).await;
        small.push(began.elapsed());
        shell(&format!("rm -rf '{shown}/ours/000'; sync"));
    }
    let what = "2,000 files of 4 KiB to sshd, each under a temporary name";
    row(what, middle(small), ("sftp put -r", middle(theirs)), 2.3, true);
}
