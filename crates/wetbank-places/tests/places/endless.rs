//! Servers that send something without end, at each point of each protocol of lines or markup.

use std::{
    io::{Read, Write},
    net::TcpListener,
    path::Path,
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering::SeqCst},
    },
    time::{Duration, Instant},
};

use futures_util::{StreamExt, future::join_all};
use wetbank_core::{
    FtpSecurity, MailSecurity, MailServer, MailboxSpec, Name, RelPath, SftpSignIn, SftpSpec, ShareSpec,
};
use wetbank_places::{Bucket, Depth, Ftp, Mailbox, Place, PlaceError, Sftp, SftpCredentials, Share, Webdav};

use crate::support::{bucket_spec, ftp_spec, webdav_spec};

/// More than any of our readers may take in before it gives up.
const MOST: u64 = 48 << 20;

/// A server that gives these answers, one after each request, and then begins one that never ends.
struct Endless {
    port: u16,
    sent: Arc<AtomicU64>,
}

impl Endless {
    fn with(greets: bool, answers: Vec<Vec<u8>>, begun: &str, forever: &'static [u8]) -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let (port, sent) = (listener.local_addr().unwrap().port(), Arc::<AtomicU64>::default());
        let (counted, begun) = (sent.clone(), begun.as_bytes().to_vec());
        std::thread::spawn(move || {
            for mut stream in listener.incoming().flatten() {
                let (answers, begun, counted) = (answers.clone(), begun.clone(), counted.clone());
                std::thread::spawn(move || {
                    let mut request = [0; 65_536];
                    for (number, answer) in answers.iter().enumerate() {
                        if (number > 0 || !greets) && !matches!(stream.read(&mut request), Ok(1..)) {
                            return;
                        }
                        if stream.write_all(answer).is_err() {
                            return;
                        }
                    }
                    if (!answers.is_empty() || !greets) && !matches!(stream.read(&mut request), Ok(1..)) {
                        return;
                    }
                    let _ = stream.write_all(&begun);
                    let block = forever.repeat((64 << 10) / forever.len() + 1);
                    while stream.write_all(&block).is_ok() {
                        counted.fetch_add(block.len() as u64, SeqCst);
                    }
                });
            }
        });
        Self { port, sent }
    }
}

async fn gives_up(what: &str, server: &Endless, tried: impl Future<Output = Result<(), PlaceError>>) {
    let began = Instant::now();
    let result = tokio::time::timeout(Duration::from_secs(120), tried).await;
    let error = result.unwrap_or_else(|_| panic!("{what}: it goes on")).expect_err(what);
    let sent = server.sent.load(SeqCst);
    assert!(sent < MOST, "{what}: {sent} bytes were taken in {:?}: {error}", began.elapsed());
}

fn lines(texts: &[&str]) -> Vec<Vec<u8>> {
    texts.iter().map(|text| format!("{text}\r\n").into_bytes()).collect()
}

#[tokio::test(flavor = "multi_thread")]
async fn an_ftp_server_without_end_is_given_up() {
    let known = ["220 ready", "331 password", "230 in", "211 no features", "200 binary"];
    let ways = (0..=known.len()).flat_map(|point| [(point, &b"x"[..]), (point, b"211-more\r\n")]);
    join_all(ways.map(async |(point, forever)| {
        let server = Endless::with(true, lines(&known[..point]), "", forever);
        let spec = ftp_spec(server.port, FtpSecurity::None, Path::new(""));
        let place = Ftp::new(Name::new("server").unwrap(), spec, "x".into());
        gives_up(&format!("after {point} answers"), &server, async { place.reach().await.map(drop) }).await;
    }))
    .await;
}

fn mailbox(read: Option<u16>, send: Option<u16>) -> Mailbox {
    let server =
        |port| MailServer { host: "127.0.0.1".to_owned(), port, security: MailSecurity::None, certificate: None };
    let spec = MailboxSpec {
        read: read.map(server),
        send: send.map(server),
        sign_in: Some(("merrow".to_owned(), Name::new("post").unwrap())),
        sender: Some("office@merrow.example".to_owned()),
        connections: 2,
        silence: Duration::from_secs(10),
    };
    Mailbox::new(Name::new("post").unwrap(), spec, Some("x".into()))
}

#[tokio::test(flavor = "multi_thread")]
async fn a_mail_server_without_end_is_given_up() {
    let ways = (0..3).flat_map(|point| [(point, &b"x"[..]), (point, b"250-more\r\n")]);
    join_all(ways.map(async |(point, forever)| {
        let known = ["220 ready", "250-mail\r\n250 AUTH PLAIN LOGIN", "235 in"];
        let server = Endless::with(true, lines(&known[..point]), "", forever);
        let place = mailbox(None, Some(server.port));
        gives_up(&format!("SMTP, after {point} answers"), &server, async { place.reach().await.map(drop) }).await;
    }))
    .await;
    for known in [&[][..], &["* OK ready"]] {
        let server = Endless::with(true, lines(known), "", b"x");
        let place = mailbox(Some(server.port), None);
        gives_up("IMAP", &server, async { place.reach().await.map(drop) }).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_web_server_without_end_is_given_up() {
    const HEAD: &str = "HTTP/1.1 207 Multi-Status\r\nContent-Type: application/xml\r\n\r\n";
    for begun in [
        "HTTP/1.1 207 ",
        "HTTP/1.1 207 Multi-Status\r\nX: ",
        &format!("{HEAD}<"),
        &format!("{HEAD}<D:multistatus xmlns:D=\"DAV:\"><D:response a=\""),
        &format!("{HEAD}<D:multistatus xmlns:D=\"DAV:\"><D:response><D:href>"),
        &format!("{HEAD}<!--"),
    ] {
        let server = Endless::with(false, Vec::new(), begun, b"x");
        let url = format!("http://127.0.0.1:{}", server.port);
        let place = Webdav::new(Name::new("server").unwrap(), webdav_spec(&url, None), Some("x".into()));
        gives_up(begun, &server, async { place.list(&RelPath::root(), Depth::One).next().await.unwrap().map(drop) })
            .await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_object_store_without_end_is_given_up() {
    const HEAD: &str = "HTTP/1.1 200 OK\r\nContent-Type: application/xml\r\n\r\n";
    const REFUSED: &str = "HTTP/1.1 403 Forbidden\r\nContent-Type: application/xml\r\n\r\n";
    for begun in [
        "HTTP/1.1 200 ",
        &format!("{HEAD}<"),
        &format!("{HEAD}<ListBucketResult><Name>"),
        &format!("{HEAD}<ListBucketResult><Contents><Key>"),
        &format!("{REFUSED}<Error><Message>"),
    ] {
        let server = Endless::with(false, Vec::new(), begun, b"x");
        let url = format!("http://127.0.0.1:{}", server.port);
        let place = Bucket::new(Name::new("server").unwrap(), bucket_spec(&url, "survey"), Some("x".into())).unwrap();
        gives_up(begun, &server, async { place.list(&RelPath::root(), Depth::One).next().await.unwrap().map(drop) })
            .await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn an_ssh_server_without_end_is_given_up() {
    // No line end; lines before the one that counts (RFC 4253, section 4.2); a packet of any length (section 6).
    for (begun, forever) in [
        ("", &b"x"[..]),
        ("", b"a line\r\n"),
        ("SSH-2.0-x", b"x"),
        ("SSH-2.0-x\r\n", b"\xff"),
        ("SSH-2.0-x\r\n", b"\0\0\x7f\xff"),
    ] {
        let server = Endless::with(true, Vec::new(), begun, forever);
        let spec = SftpSpec {
            host: "127.0.0.1".to_owned(),
            port: server.port,
            user: "merrow".to_owned(),
            sign_in: SftpSignIn::Password(Name::new("server").unwrap()),
            host_key: Some("SHA256:none".to_owned()),
            root: String::new(),
            staged: true,
            connections: 1,
            silence: Duration::from_secs(10),
        };
        let place = Sftp::new(Name::new("server").unwrap(), spec, SftpCredentials::Password("x".into()));
        gives_up(&format!("{begun:?}, {forever:?}"), &server, async { place.reach().await.map(drop) }).await;
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_share_without_end_is_given_up() {
    // A message of the greatest length that four bytes can say, and messages that never answer anything.
    for forever in [&b"\xff"[..], b"\0", b"\0\xff\xff\xffx", b"\0\0\0\x40\xfeSMB@"] {
        let server = Endless::with(false, Vec::new(), "", forever);
        let spec = ShareSpec {
            host: "127.0.0.1".to_owned(),
            port: server.port,
            share: "survey".to_owned(),
            domain: String::new(),
            user: "merrow".to_owned(),
            password: Name::new("server").unwrap(),
            encrypted: false,
            root: String::new(),
            connections: 1,
            silence: Duration::from_secs(10),
        };
        let place = Share::new(Name::new("server").unwrap(), spec, "x".into());
        gives_up(&format!("{forever:?}"), &server, async { place.reach().await.map(drop) }).await;
    }
}
