//! The client against Samba, and against servers that are none.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use std::{collections::BTreeSet, time::Duration};

use bytes::Bytes;
use futures_util::{StreamExt, TryStreamExt, stream};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::{TcpListener, TcpStream},
};
use wetbank_smb::{Account, Client, Error, Open, Protection, Status};
use wetbank_testbed::{SHARE_NAME, SHARE_USER, Samba, ShareOffer};

const SILENCE: Duration = Duration::from_secs(5);

fn account(password: &str) -> Account {
    Account { domain: String::new(), user: SHARE_USER.0.to_owned(), password: password.into() }
}

async fn connect(server: &Samba, share: &str, password: &str) -> Result<Client, Error> {
    let stream = TcpStream::connect(("127.0.0.1", server.port)).await.unwrap();
    Client::connect(stream, "127.0.0.1", share, &account(password), Protection::Encrypted, SILENCE).await
}

async fn signed_in(server: &Samba) -> Client {
    connect(server, SHARE_NAME, SHARE_USER.1).await.unwrap()
}

async fn put(client: &Client, path: &str, content: &[u8]) {
    let file = client.open(path, Open::CreateNew).await.unwrap();
    for (number, piece) in content.chunks(client.piece()).enumerate() {
        file.write((number * client.piece()) as u64, Bytes::copy_from_slice(piece)).await.unwrap();
    }
    file.sync().await.unwrap();
    file.close().await.unwrap();
}

async fn get(client: &Client, path: &str, from: u64) -> Vec<u8> {
    let file = client.open(path, Open::Read).await.unwrap();
    let pieces: Vec<Bytes> = file.content(from).try_collect().await.unwrap();
    pieces.concat()
}

async fn names(client: &Client, path: &str) -> BTreeSet<String> {
    let directory = client.open_directory(path).await.unwrap();
    let mut names = BTreeSet::new();
    while let Some(page) = directory.next().await.unwrap() {
        names.extend(page.into_iter().map(|found| found.name).filter(|name| name != "." && name != ".."));
    }
    names
}

#[tokio::test(flavor = "multi_thread")]
async fn many_files_at_once_go_over_one_connection_and_keep_to_themselves() {
    let server = Samba::start(ShareOffer::Usual);
    let client = signed_in(&server).await;
    client.make_directory("levels").await.unwrap();
    let content = |number: usize| vec![(number % 251) as u8; 100 + number * 997];
    stream::iter(0..200)
        .for_each_concurrent(64, |number| {
            let client = client.clone();
            async move {
                let path = format!("levels\\gauge-{number:03}.csv");
                put(&client, &path, &content(number)).await;
                assert!(get(&client, &path, 0).await == content(number), "{path}");
            }
        })
        .await;
    let expected: BTreeSet<String> = (0..200).map(|number| format!("gauge-{number:03}.csv")).collect();
    assert_eq!(names(&client, "levels").await, expected);
    assert_eq!(client.in_flight(), 0);
}

#[tokio::test(flavor = "multi_thread")]
async fn a_large_file_is_read_from_anywhere_cut_and_written_on() {
    let server = Samba::start(ShareOffer::Usual);
    let client = signed_in(&server).await;
    let content: Vec<u8> = (0..9_000_001_u32).map(|at| (at % 253) as u8).collect();
    put(&client, "survey.raw", &content).await;
    assert!(std::fs::read(server.root.path().join("survey.raw")).unwrap() == content);
    for from in [0, 1, client.piece() - 1, client.piece(), client.piece() + 1, 9_000_000, 9_000_001, 9_100_000] {
        let part = get(&client, "survey.raw", from as u64).await;
        assert!(part == content[from.min(content.len())..], "from {from}: {} bytes", part.len());
    }
    let file = client.open("survey.raw", Open::Write).await.unwrap();
    assert_eq!(file.attributes().size, 9_000_001, "its content is kept");
    file.set_length(10).await.unwrap();
    file.write(10, Bytes::from_static(b"the end")).await.unwrap();
    file.close().await.unwrap();
    assert_eq!(get(&client, "survey.raw", 0).await, [&content[..10], b"the end"].concat());
}

#[tokio::test(flavor = "multi_thread")]
async fn names_are_given_and_refused_in_one_step() {
    let server = Samba::start(ShareOffer::Usual);
    let client = signed_in(&server).await;
    put(&client, "a.csv", b"a").await;
    put(&client, "b.csv", b"b").await;
    client.make_directory("sent").await.unwrap();
    let status = |result: Result<(), Error>| result.unwrap_err().status();
    assert_eq!(status(client.rename("a.csv", "b.csv", false).await), Some(Status::OBJECT_NAME_COLLISION));
    assert_eq!((get(&client, "a.csv", 0).await, get(&client, "b.csv", 0).await), (b"a".to_vec(), b"b".to_vec()));
    client.rename("a.csv", "b.csv", true).await.unwrap();
    client.rename("b.csv", "sent\\b.csv", false).await.unwrap();
    assert_eq!(names(&client, "").await, BTreeSet::from(["sent".to_owned()]));
    assert_eq!(get(&client, "sent\\b.csv", 0).await, b"a");
    let taken = client.open("sent\\b.csv", Open::CreateNew).await.map(drop);
    assert_eq!(status(taken), Some(Status::OBJECT_NAME_COLLISION));
    assert_eq!(status(client.remove("sent").await), Some(Status::FILE_IS_A_DIRECTORY));
    assert_eq!(status(client.make_directory("sent").await), Some(Status::OBJECT_NAME_COLLISION));
    assert_eq!(status(client.open("missing", Open::Read).await.map(drop)), Some(Status::OBJECT_NAME_NOT_FOUND));
    assert_eq!(status(client.look("no\\where").await.map(drop)), Some(Status::OBJECT_PATH_NOT_FOUND));
    client.remove("sent\\b.csv").await.unwrap();
    assert_eq!(status(client.remove("sent\\b.csv").await), Some(Status::OBJECT_NAME_NOT_FOUND));
}

#[tokio::test(flavor = "multi_thread")]
async fn what_nobody_holds_any_more_is_closed() {
    let server = Samba::start(ShareOffer::Usual);
    let client = signed_in(&server).await;
    // A server allows a client some thousands of open files; far more are opened here in all.
    put(&client, "a.csv", b"a").await;
    for _ in 0..60 {
        let opened = stream::iter(0..300).map(|_| client.open("a.csv", Open::Read)).buffer_unordered(64);
        let files: Vec<_> = opened.try_collect().await.unwrap();
        drop(files);
    }
    // A file that vanishes is gone once nobody has it open.
    client.remove("a.csv").await.unwrap();
    assert!(names(&client, "").await.is_empty());
}

#[tokio::test(flavor = "multi_thread")]
async fn who_may_not_in_is_told_why() {
    let server = Samba::start(ShareOffer::Usual);
    let refused = connect(&server, SHARE_NAME, "bittern").await.unwrap_err();
    assert_eq!(refused.status(), Some(Status::LOGON_FAILURE), "{refused}");
    let refused = connect(&server, "elsewhere", SHARE_USER.1).await.unwrap_err();
    assert_eq!(refused.status(), Some(Status::BAD_NETWORK_NAME), "{refused}");
    let refused = connect(&server, "IPC$", SHARE_USER.1).await.unwrap_err();
    assert!(refused.to_string().contains("holds no files"), "{refused}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_server_that_goes_ends_every_call_and_the_connection() {
    let mut server = Samba::start(ShareOffer::Usual);
    let client = signed_in(&server).await;
    put(&client, "survey.raw", &vec![7; 20 << 20]).await;
    let file = client.open("survey.raw", Open::Read).await.unwrap();
    let mut content = Box::pin(file.content(0));
    content.next().await.unwrap().unwrap();
    server.crash();
    let rest = async { while content.next().await.is_some_and(|piece| piece.is_ok()) {} };
    tokio::time::timeout(SILENCE * 2, rest).await.expect("reading ends");
    let error = client.look("survey.raw").await.unwrap_err();
    assert!(client.is_closed(), "{error}");
}

#[tokio::test(flavor = "multi_thread")]
async fn a_server_that_is_none_is_given_up_at_once_or_after_its_silence() {
    let said: [&[u8]; 5] = [
        b"SSH-2.0-something\r\n",
        b"HTTP/1.1 400 Bad Request\r\n\r\n",
        &[0, 0, 0, 4, 0xfe, b'S', b'M', b'B'],
        &[0, 0xff, 0xff, 0xff],
        b"",
    ];
    for words in said {
        let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
        let address = listener.local_addr().unwrap();
        tokio::spawn(async move {
            let (mut stream, _) = listener.accept().await.unwrap();
            let _ = stream.write_all(words).await;
            // It stays silent, and does not hang up.
            let _ = stream.read_to_end(&mut Vec::new()).await;
        });
        let stream = TcpStream::connect(address).await.unwrap();
        let silence = Duration::from_millis(300);
        let greeted = tokio::time::timeout(SILENCE, Client::greet(stream, silence)).await.expect("it is given up");
        assert!(greeted.is_err(), "{words:?}");
    }
}

#[tokio::test(flavor = "multi_thread")]
async fn a_file_that_the_server_shows_under_another_name_tells_its_own() {
    let server = Samba::start(ShareOffer::Usual);
    let made = ["con", "trailing blank.csv ", "a:b.csv", "REPORT~1.CSV", "plain.csv"];
    for name in made {
        std::fs::write(server.root.path().join(name), name).unwrap();
    }
    let client = signed_in(&server).await;
    let shown = names(&client, "").await;
    assert!(shown.contains("REPORT~1.CSV") && !shown.contains("con"), "{shown:?}");
    let mut own = BTreeSet::new();
    for name in &shown {
        own.insert(client.own_name(name).await.unwrap());
    }
    assert_eq!(own, made.map(str::to_owned).into());
}
