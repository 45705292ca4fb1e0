//! Servers of every kind against the plainest client for each.

use std::{fs, path::Path, time::Instant};

use futures_util::{TryStreamExt, stream};
use wetbank_core::{FtpSecurity, FtpSpec, Name, RelPath, SILENCE, WebSignIn, WebdavSpec};
use wetbank_crypt::Hashing;
use wetbank_places::{Ahead, Bucket, Collision, Ftp, Place, PlaceError, Sftp, SftpCredentials, Webdav};
use wetbank_testbed::{Apache, FTP_USER, FtpOffer, Moto, Proftpd, SHARE_USER, Samba, ShareOffer, Sshd, WEBDAV_USER};

use crate::{
    AT_ONCE, ROUNDS, beside, folder, middle, noise, row, scratch, shell,
    support::{bucket_spec, client_key, sftp_spec, share_place},
    tree,
};

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

/// How the plainest client sends the file "large" under a NAME and fetches it, as lines for the shell.
struct Plain {
    name: &'static str,
    put: String,
    get: String,
}

fn curl(base: &str, how: &str, at: &Path) -> Plain {
    let at = at.display();
    Plain {
        name: "curl",
        put: format!("curl -sSf {how} -T '{at}/source/large' '{base}/NAME' > /dev/null"),
        get: format!("curl -sSf {how} -o '{at}/theirs/large' '{base}/NAME'"),
    }
}

/// A server that ends with this, its place, and its plainest client.
fn server(kind: &str, at: &Path) -> (Box<dyn std::any::Any>, Box<dyn Place>, Plain) {
    let (name, password) = (Name::new("server").unwrap(), Name::new("password").unwrap());
    match kind {
        "ftp" => {
            let server = Proftpd::start(FtpOffer::Plain);
            let spec = FtpSpec {
                host: "127.0.0.1".to_owned(),
                port: server.port,
                user: FTP_USER.0.to_owned(),
                password,
                security: FtpSecurity::None,
                certificate: None,
                root: server.root.path().display().to_string(),
                connections: 4,
                silence: SILENCE,
            };
            let base = format!("ftp://127.0.0.1:{}/{}", server.port, server.root.path().display());
            let plain = curl(&base, &format!("-u '{}:{}'", FTP_USER.0, FTP_USER.1), at);
            (Box::new(server), Box::new(Ftp::new(name, spec, FTP_USER.1.into())), plain)
        }
        "webdav" => {
            let server = Apache::start(false);
            let spec = WebdavSpec {
                url: server.url.clone(),
                sign_in: WebSignIn::Password(WEBDAV_USER.0.to_owned(), password),
                certificate: None,
                connections: 4,
                silence: SILENCE,
            };
            let plain = curl(&server.url, &format!("-u '{}:{}'", WEBDAV_USER.0, WEBDAV_USER.1), at);
            (Box::new(server), Box::new(Webdav::new(name, spec, Some(WEBDAV_USER.1.into()))), plain)
        }
        "share" => {
            let server = Samba::start(ShareOffer::Usual);
            let (user, password) = SHARE_USER;
            let client = format!(
                "smbclient //127.0.0.1/survey -p {} -U '{user}%{password}' --client-protection=encrypt",
                server.port
            );
            let shown = at.display();
            let plain = Plain {
                name: "smbclient, encrypted",
                put: format!("{client} -c 'put {shown}/source/large NAME' >/dev/null 2>&1"),
                get: format!("{client} -c 'get NAME {shown}/theirs/large' >/dev/null 2>&1"),
            };
            let place = share_place(&server, true);
            (Box::new(server), Box::new(place), plain)
        }
        _ => {
            let server = Moto::own();
            let who = format!("-H 'authorization: {WHO}'");
            shell(&format!("curl -sSf -X PUT {who} '{}/bench' > /dev/null", server.url));
            let plain = curl(&format!("{}/bench", server.url), &who, at);
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
    let (_server, place, plain) = server(kind, at);
    place.reach().await.unwrap();
    let (source, ours) = (folder(at.join("source")), folder(at.join("ours")));
    let path = RelPath::parse("large").unwrap();
    let shown = at.display();
    let (mut up, mut down, mut their_up, mut their_down) = (Vec::new(), Vec::new(), Vec::new(), Vec::new());
    for round in 0..ROUNDS {
        shell("sync");
        // Each under a name of its own: writing over a file costs the server more.
        let theirs = |line: &str| shell(&line.replace("NAME", &format!("theirs-{round}")));
        their_up.push(theirs(&plain.put));
        shell("sync");
        let began = Instant::now();
        bring(&source, place.as_ref(), &path).await.unwrap();
        up.push(began.elapsed());
        shell("sync");
        // What comes here is on disk before we say so.
        their_down.push(theirs(&format!("{}; sync '{shown}/theirs/large'", plain.get)));
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
    let (to, from) = (format!("512 MiB to a {kind} server, BLAKE3"), format!("512 MiB from a {kind} server, BLAKE3"));
    row(&to, middle(up), (plain.name, middle(their_up)), 0.9, true);
    row(&from, middle(down), (&synced, middle(their_down)), 0.9, true);
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
    let credentials = SftpCredentials::Key { key: text.into(), passphrase: None };
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
        stream::iter(paths.iter().map(Ok::<_, PlaceError>))
            .try_for_each_concurrent(AT_ONCE, |path| bring(&from, &to, path))
            .await
            .unwrap();
        small.push(began.elapsed());
        shell(&format!("rm -rf '{shown}/ours/000'; sync"));
    }
    let what = "2,000 files of 4 KiB to sshd, each under a temporary name";
    row(what, middle(small), ("sftp put -r", middle(theirs)), 2.3, true);
}
