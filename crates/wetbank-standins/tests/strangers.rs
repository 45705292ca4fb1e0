//! Every stand-in serves a client that knows nothing of us, the system's curl, as a real server
//! would, and refuses it what a real server refuses.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use std::{
    net::SocketAddr,
    process::{Command, Stdio},
};

use tempfile::TempDir;
use wetbank_standins::{
    BucketStandin, BucketStandinOptions, DriveStandin, DriveStandinOptions, DriveUser, FtpStandin, FtpStandinOptions,
    PostStandin, PostStandinOptions, SftpStandin, SftpStandinOptions,
};

const USER: &str = "merrow";
const PASSWORD: &str = "grey heron";

fn free() -> SocketAddr {
    ([127, 0, 0, 1], 0).into()
}

/// What came of a call: how the program ended, and what it brought.
struct Told {
    code: i32,
    status: u16,
    body: Vec<u8>,
}

impl Told {
    fn text(&self) -> String {
        String::from_utf8_lossy(&self.body).into_owned()
    }
}

/// Runs curl, which reads `input` where a word is `-T -`.
async fn curl(words: &[&str], input: &[u8]) -> Told {
    let words: Vec<String> = words.iter().map(|word| (*word).to_owned()).collect();
    let input = input.to_vec();
    tokio::task::spawn_blocking(move || {
        let status = tempfile::NamedTempFile::new().unwrap();
        let mut child = Command::new("curl")
            .args(["-sS", "--max-time", "20", "-w", "%{stderr}%{http_code}"])
            .args(words)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .stderr(status.reopen().unwrap())
            .spawn()
            .unwrap();
        let mut to = child.stdin.take().unwrap();
        let writer = std::thread::spawn(move || {
            use std::io::Write;
            let _ = to.write_all(&input);
        });
        let output = child.wait_with_output().unwrap();
        writer.join().unwrap();
        let said = std::fs::read_to_string(status.path()).unwrap();
        let status = said.chars().rev().take(3).collect::<Vec<_>>().into_iter().rev().collect::<String>();
        Told { code: output.status.code().unwrap(), status: status.parse().unwrap_or(0), body: output.stdout }
    })
    .await
    .unwrap()
}

fn content() -> Vec<u8> {
    (0..300_000_u32).map(|at| (at % 251) as u8).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn the_bucket_keeps_what_is_signed_and_nothing_else() {
    let options = BucketStandinOptions {
        listen: free(),
        bucket: "tidewatch".to_owned(),
        access_key: USER.to_owned(),
        secret_key: PASSWORD.to_owned(),
    };
    let bucket = BucketStandin::start(options).await.unwrap();
    let at = |rest: &str| format!("{}/tidewatch{rest}", bucket.url());
    let (signed, as_us) = (["--aws-sigv4", "aws:amz:us-east-1:s3", "-u"], format!("{USER}:{PASSWORD}"));
    let us = [&signed[..], &[as_us.as_str(), "-H", "x-amz-content-sha256: UNSIGNED-PAYLOAD"]].concat();
    let ask = async |more: &[&str], input: &[u8]| curl(&[&us[..], more].concat(), input).await;
    let (whole, file) = (content(), tempfile::NamedTempFile::new().unwrap());
    std::fs::write(file.path(), &whole).unwrap();
    for key in ["/in/levels.csv", "/in/gauge%2007.csv", "/survey.raw"] {
        // A file has a length; a store takes nothing else.
        let put = ask(&["-T", file.path().to_str().unwrap(), &at(key)], b"").await;
        assert_eq!((put.code, put.status), (0, 200), "{key}: {}", put.text());
    }
    assert_eq!(bucket.keys(), ["in/gauge 07.csv", "in/levels.csv", "survey.raw"]);
    let got = ask(&[&at("/survey.raw")], b"").await;
    assert!(got.body == whole);
    let part = ask(&["-r", "1000-1999", &at("/survey.raw")], b"").await;
    assert!(part.status == 206 && part.body == whole[1000..2000], "{}: {} bytes", part.status, part.body.len());
    for (range, status) in [("300000-", 416), ("20-10", 416), ("299999-400000", 206)] {
        assert_eq!(ask(&["-H", &format!("Range: bytes={range}"), &at("/survey.raw")], b"").await.status, status);
    }
    let head = ask(&["-I", &at("/survey.raw")], b"").await.text().to_lowercase();
    assert!(head.contains(&format!("content-length: {}", whole.len())) && head.contains("etag:"), "{head}");
    let listed = ask(&[&at("?delimiter=%2F&list-type=2")], b"").await.text();
    assert!(listed.contains("<Prefix>in/</Prefix>") && listed.contains("<Key>survey.raw</Key>"), "{listed}");
    assert!(!listed.contains("levels.csv"), "it lies in a folder: {listed}");
    let page = ask(&[&at("?list-type=2&max-keys=2&prefix=in%2F")], b"").await.text();
    assert!(page.contains("levels.csv") && page.contains("<IsTruncated>false</IsTruncated>"), "{page}");
    let page = ask(&[&at("?list-type=2&max-keys=1")], b"").await.text();
    assert!(page.contains("<IsTruncated>true</IsTruncated>") && page.contains("NextContinuationToken"), "{page}");
    assert_eq!(ask(&[&at("/missing")], b"").await.status, 404);
    assert_eq!(ask(&["-X", "DELETE", &at("/survey.raw")], b"").await.status, 204);
    assert_eq!(bucket.object("survey.raw"), None);
    let levels = at("/in/levels.csv");
    assert_eq!(curl(&[&signed[..], &["merrow:guess", &levels]].concat(), b"").await.status, 403);
    assert_eq!(curl(&[&levels], b"").await.status, 403, "nothing is open");
    assert_eq!(bucket.keys().len(), 2);
}

/// The facts of both servers that show a folder: what is sent is there, and nothing leads out.
async fn a_folder_is_served(base: &str, root: &TempDir, more: &[&str]) {
    let as_us = format!("{USER}:{PASSWORD}");
    let ask = async |words: &[&str], input: &[u8]| curl(&[more, &["-u", &as_us], words].concat(), input).await;
    let (outside, whole) = (TempDir::new().unwrap(), content());
    std::fs::write(outside.path().join("secret"), b"not for partners").unwrap();
    std::os::unix::fs::symlink(outside.path(), root.path().join("way-out")).unwrap();
    std::fs::create_dir(root.path().join("in")).unwrap();
    let sent = ask(&["-T", "-", &format!("{base}/in/gauge%2007.csv")], &whole).await;
    assert_eq!(sent.code, 0);
    assert!(std::fs::read(root.path().join("in/gauge 07.csv")).unwrap() == whole);
    let got = ask(&[&format!("{base}/in/gauge%2007.csv")], b"").await;
    assert!(got.code == 0 && got.body == whole);
    let part = ask(&["-r", "299000-", &format!("{base}/in/gauge%2007.csv")], b"").await;
    assert!(part.body == whole[299_000..], "{} bytes", part.body.len());
    let facts: &[&str] = if base.starts_with("ftp:") { &["-X", "MLSD"] } else { &[] };
    let listed = ask(&[facts, &[&format!("{base}/in/")]].concat(), b"").await.text();
    assert!(listed.contains("gauge 07.csv"), "{listed}");
    for leading in ["/way-out/secret", "/../../../../../../etc/hostname", "/in/../../secret"] {
        let told = ask(&["--path-as-is", &format!("{base}{leading}")], b"").await;
        assert!(told.code != 0 && told.body.is_empty(), "{leading}: {}", told.text());
    }
    let told = ask(&["-T", "-", &format!("{base}/way-out/planted")], b"x").await;
    assert!(told.code != 0 && !outside.path().join("planted").exists());
    let file = format!("{base}/in/gauge%2007.csv");
    let told = curl(&[more, &["-u", "merrow:guess", &file]].concat(), b"").await;
    assert!(told.code == 67 && told.body.is_empty(), "a wrong password is told as that: {}", told.code);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_ftp_server_serves_its_folder() {
    let root = TempDir::new().unwrap();
    let options = FtpStandinOptions {
        listen: free(),
        root: root.path().to_owned(),
        user: USER.to_owned(),
        password: PASSWORD.to_owned(),
    };
    let server = FtpStandin::start(options).await.unwrap();
    let base = format!("ftp://{}", server.address());
    a_folder_is_served(&base, &root, &[]).await;
    let as_us = format!("{USER}:{PASSWORD}");
    let said =
        ["-u", &as_us, "-Q", "RNFR in/gauge 07.csv", "-Q", "RNTO in/done.csv", "-Q", "MKD sent", "-X", "MLSD", &base];
    let renamed = curl(&said, b"").await;
    assert_eq!(renamed.code, 0, "{}", renamed.text());
    assert!(root.path().join("in/done.csv").exists() && root.path().join("sent").is_dir());
    let said = ["-u", &as_us, "-Q", "DELE in/done.csv", "-Q", "DELE in/done.csv", "-X", "MLSD", &base];
    assert_ne!(curl(&said, b"").await.code, 0, "what is gone cannot go again");
    assert!(!root.path().join("in/done.csv").exists());
    a_guest_is_cut_off(server, &base, &root).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn the_sftp_server_serves_its_folder() {
    let root = TempDir::new().unwrap();
    let options = SftpStandinOptions {
        listen: free(),
        root: root.path().to_owned(),
        user: USER.to_owned(),
        password: PASSWORD.to_owned(),
    };
    let server = SftpStandin::start(options).await.unwrap();
    assert!(server.fingerprint().starts_with("SHA256:"));
    let base = format!("sftp://{}", server.address());
    a_folder_is_served(&base, &root, &["--insecure"]).await;
    a_guest_is_cut_off(server, &base, &root).await;
}

/// Who downloads from a server that is dropped is cut off then, and not served to the end.
async fn a_guest_is_cut_off<Server>(server: Server, base: &str, root: &TempDir) {
    std::fs::write(root.path().join("large.xyz"), vec![7; 64 << 20]).unwrap();
    let (as_us, file) = (format!("{USER}:{PASSWORD}"), format!("{base}/large.xyz"));
    // Slow enough that it would outlast curl's patience.
    let words = ["--insecure", "--limit-rate", "2M", "-u", &as_us, &file];
    let ((), told) = tokio::join!(
        async {
            tokio::time::sleep(std::time::Duration::from_millis(700)).await;
            drop(server);
        },
        curl(&words, b"")
    );
    assert!(told.code != 0 && told.code != 28, "{}", told.code);
    assert!(!told.body.is_empty() && told.body.len() < 64 << 20, "{}", told.body.len());
}

#[tokio::test(flavor = "multi_thread")]
async fn the_drive_keeps_its_tenants_apart_and_gives_the_rights_that_were_agreed_to() {
    let user = |tenant: &str, name: &str| DriveUser {
        tenant: tenant.to_owned(),
        name: name.to_owned(),
        password: PASSWORD.to_owned(),
    };
    let users = vec![user("merrow", "tove"), user("ferry", "odd")];
    let drive = DriveStandin::start(DriveStandinOptions { token_seconds: 600, ..DriveStandinOptions::new(users) });
    let drive = drive.await.unwrap();
    let metadata = curl(&[&format!("{}/.well-known/oauth-authorization-server", drive.url())], b"").await;
    let metadata: serde_json::Value = serde_json::from_slice(&metadata.body).unwrap();
    assert_eq!(metadata["issuer"], drive.url());
    assert_eq!(metadata["code_challenge_methods_supported"], serde_json::json!(["S256"]));
    let file = format!("{}/levels.csv", drive.files("merrow"));
    for (who, status) in [(None, 401), (Some("made-up"), 401)] {
        let header = who.map(|token| format!("Authorization: Bearer {token}"));
        let words: Vec<&str> = header.iter().flat_map(|header| ["-H", header]).chain([file.as_str()]).collect();
        assert_eq!(curl(&words, b"").await.status, status, "{who:?}");
    }
    // An agreement is renewed into an access, as every client does it.
    let access = async |user: &str, rights: &[&str]| {
        let renewal = drive.grant(user, rights);
        let form = format!("grant_type=refresh_token&client_id=wetbank&refresh_token={renewal}");
        let told = curl(&["-d", &form, &format!("{}/token", drive.url())], b"").await;
        let told: serde_json::Value = serde_json::from_slice(&told.body).unwrap();
        format!("Authorization: Bearer {}", told["access_token"].as_str().unwrap_or_else(|| panic!("{told}")))
    };
    let (writes, reads) = (access("tove", &["files.read", "files.write"]).await, access("tove", &["files.read"]).await);
    let other = access("odd", &["files.read", "files.write"]).await;
    assert_eq!(curl(&["-H", &writes, "-T", "-", &file], b"07:00;2.31").await.status, 201);
    assert_eq!(curl(&["-H", &reads, &file], b"").await.body, b"07:00;2.31");
    assert_eq!(curl(&["-H", &reads, "-T", "-", &file], b"changed").await.status, 403, "reading was agreed to, no more");
    assert!(matches!(curl(&["-H", &other, &file], b"").await.status, 403 | 404), "another tenant's");
    assert_eq!(drive.get("merrow", "levels.csv").as_deref(), Some(&b"07:00;2.31"[..]));
    let find = ["-H", &reads, "-X", "PROPFIND", "-H", "Depth: 1", &drive.files("merrow")];
    let listed = curl(&find, b"").await;
    assert_eq!(listed.status, 207);
    assert!(listed.text().contains("levels.csv") && listed.text().contains("tove"), "{}", listed.text());
    drive.be_busy(1, 7);
    let busy = curl(&["-i", "-H", &reads, &file], b"").await;
    assert!(busy.status == 429 && busy.text().to_lowercase().contains("retry-after: 7"), "{}", busy.text());
    assert_eq!(curl(&["-H", &reads, &file], b"").await.status, 200, "only once");
    drive.revoke_all();
    assert_eq!(curl(&["-H", &reads, &file], b"").await.status, 401);
}

#[tokio::test(flavor = "multi_thread")]
async fn the_post_takes_letters_and_shows_them() {
    let folder = TempDir::new().unwrap();
    let options = PostStandinOptions {
        reading: free(),
        sending: free(),
        address: "levels@merrow.example".to_owned(),
        folder: folder.path().join("post"),
        user: USER.to_owned(),
        password: PASSWORD.to_owned(),
    };
    let post = PostStandin::start(options).await.unwrap();
    let letter = b"From: tove@merrow.example\r\nSubject: Levels\r\n\r\n.07:00;2.31\r\n..\r\n";
    post.bring(letter).unwrap();
    let (as_us, to) = (format!("{USER}:{PASSWORD}"), format!("smtp://{}", post.sending()));
    let mail = ["--mail-from", "tove@merrow.example", "--mail-rcpt", "odd@ferry.example", "-T", "-", &to];
    let sent = curl(&[&["-u", as_us.as_str()], &mail[..]].concat(), letter).await;
    assert_eq!(sent.code, 0, "{}", sent.text());
    let kept = String::from_utf8(post.sent().pop().unwrap()).unwrap();
    assert!(kept.contains("Subject: Levels") && kept.contains("\r\n.07:00;2.31\r\n..\r\n"), "dots stay: {kept:?}");
    assert_eq!(curl(&[&["-u", "merrow:guess"], &mail[..]].concat(), letter).await.code, 67);
    assert_eq!(post.sent().len(), 1);
    let inbox = format!("imap://{}/INBOX", post.reading());
    let read = curl(&["-u", &as_us, &format!("{inbox};UID=1")], b"").await;
    assert!(read.text().contains("Subject: Levels"), "{}: {}", read.code, read.text());
    assert_eq!(curl(&["-u", "merrow:guess", &inbox], b"").await.code, 67);
    assert!(folder.path().join("post").read_dir().unwrap().count() > 0, "every letter is a file");
}
