//! Somebody between us and the server: whatever they change, repeat, hold back or put in, nothing of it is taken for the
//! server's word, and nothing is told as written that is not.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use std::{sync::Arc, time::Duration};

use bytes::Bytes;
use futures_util::{StreamExt, TryStreamExt, stream};
use tokio::{
    io::{AsyncReadExt, AsyncWriteExt},
    net::{
        TcpListener, TcpStream,
        tcp::{OwnedReadHalf, OwnedWriteHalf},
    },
    sync::Mutex,
};
use wetbank_smb::{Account, Client, Error, Open, Protection};
use wetbank_testbed::{SHARE_NAME, SHARE_USER, Samba, ShareOffer};

const SILENCE: Duration = Duration::from_secs(1);
/// Longer than what is read and written in one piece.
const LENGTH: usize = 2_500_000;
/// Messages of the server until a file is open: what is agreed, the sign-in (twice), the share, the file.
const OPENED: usize = 5;

/// What is done to a message, counted from the first that goes this way.
#[derive(Debug, Clone, Copy)]
enum Meddling {
    Nothing,
    /// A bit of the byte at this part of the message, in thousandths, is another.
    Change(usize, usize),
    /// It comes twice.
    Repeat(usize),
    /// It comes behind the one after it.
    Swap(usize),
    /// In its place comes what the client itself said last.
    Mirror(usize),
    /// In its place comes the message before it.
    Again(usize),
    /// Its end is missing; its length says so.
    Cut(usize),
}

/// One message, without its length.
async fn frame(from: &mut OwnedReadHalf) -> Option<Vec<u8>> {
    let length = from.read_u32().await.ok()? as usize;
    let mut body = vec![0; length];
    from.read_exact(&mut body).await.ok()?;
    Some(body)
}

async fn send(to: &mut OwnedWriteHalf, body: &[u8]) -> Option<()> {
    to.write_u32(body.len() as u32).await.ok()?;
    to.write_all(body).await.ok()
}

/// Hands messages on, until one side is gone. `last` is what went this way last, `others` what went the other way.
async fn hand_on(
    mut from: OwnedReadHalf,
    mut to: OwnedWriteHalf,
    meddling: Meddling,
    last: Arc<Mutex<Vec<u8>>>,
    others: Arc<Mutex<Vec<u8>>>,
) -> Option<()> {
    let mut number = 0;
    loop {
        let mut body = frame(&mut from).await?;
        let before = std::mem::replace(&mut *last.lock().await, body.clone());
        match meddling {
            Meddling::Change(which, part) if which == number => {
                let at = (body.len() - 1) * part / 1000;
                body[at] ^= 0x10;
                send(&mut to, &body).await?;
            }
            Meddling::Repeat(which) if which == number => {
                send(&mut to, &body).await?;
                send(&mut to, &body).await?;
            }
            Meddling::Swap(which) if which == number => {
                // Where nothing comes after it, it is only late.
                if let Ok(next) = tokio::time::timeout(Duration::from_millis(100), frame(&mut from)).await {
                    send(&mut to, &next?).await?;
                    number += 1;
                }
                send(&mut to, &body).await?;
            }
            Meddling::Mirror(which) if which == number => {
                let said = others.lock().await.clone();
                send(&mut to, &said).await?;
            }
            Meddling::Again(which) if which == number => send(&mut to, &before).await?,
            Meddling::Cut(which) if which == number => send(&mut to, &body[..body.len() / 2]).await?,
            _ => send(&mut to, &body).await?,
        }
        number += 1;
    }
}

/// A connection through somebody who meddles with what the client says, and with what the server does.
async fn through(server: &Samba, said: Meddling, answered: Meddling) -> TcpStream {
    let listener = TcpListener::bind("127.0.0.1:0").await.unwrap();
    let address = listener.local_addr().unwrap();
    let port = server.port;
    tokio::spawn(async move {
        let (ours, _) = listener.accept().await.unwrap();
        let theirs = TcpStream::connect(("127.0.0.1", port)).await.unwrap();
        let (our_read, our_write) = ours.into_split();
        let (their_read, their_write) = theirs.into_split();
        let (asked, told) = (Arc::<Mutex<Vec<u8>>>::default(), Arc::<Mutex<Vec<u8>>>::default());
        tokio::spawn(hand_on(our_read, their_write, said, asked.clone(), told.clone()));
        tokio::spawn(hand_on(their_read, our_write, answered, told, asked));
    });
    TcpStream::connect(address).await.unwrap()
}

async fn connect(stream: TcpStream, protection: Protection, silence: Duration) -> Result<Client, Error> {
    let account = Account { domain: String::new(), user: SHARE_USER.0.to_owned(), password: SHARE_USER.1.into() };
    Client::connect(stream, "127.0.0.1", SHARE_NAME, &account, protection, silence).await
}

fn content() -> Vec<u8> {
    (0..LENGTH as u32).map(|at| (at % 251) as u8).collect()
}

async fn read(stream: TcpStream, protection: Protection, silence: Duration) -> Result<Vec<u8>, Error> {
    let client = connect(stream, protection, silence).await?;
    let file = client.open("survey.raw", Open::Read).await?;
    let pieces: Vec<Bytes> = file.content(0).try_collect().await?;
    Ok(pieces.concat())
}

async fn write(stream: TcpStream, protection: Protection, name: &str) -> Result<(), Error> {
    let client = connect(stream, protection, SILENCE).await?;
    let file = client.open(name, Open::CreateNew).await?;
    let content = Bytes::from(content());
    let piece = client.piece();
    for at in (0..LENGTH).step_by(piece) {
        file.write(at as u64, content.slice(at..LENGTH.min(at + piece))).await?;
    }
    file.sync().await?;
    file.close().await
}

/// Every way to meddle, with the messages before and after the file is open.
fn meddlings() -> Vec<Meddling> {
    let changes = (0..OPENED + 3).flat_map(|which| {
        // The beginning is the header with its number and flags, then the signature; the end is content.
        [0, 15, 40, 80, 120, 400, 700, 1000].map(|part| Meddling::Change(which, part))
    });
    let others = (0..OPENED + 3).flat_map(|which| {
        [
            Meddling::Repeat(which),
            Meddling::Swap(which),
            Meddling::Mirror(which),
            Meddling::Again(which),
            Meddling::Cut(which),
        ]
    });
    changes.chain(others).collect()
}

/// Whether reading through this meddling ended well; what was read and written is as it should be, or nothing.
async fn tried(server: &Samba, protection: Protection, number: usize, meddling: Meddling) -> bool {
    let bound = SILENCE * 10;
    let answers = through(server, Meddling::Nothing, meddling).await;
    let read = tokio::time::timeout(bound, read(answers, protection, SILENCE)).await.expect("it is given up");
    if let Ok(found) = &read {
        assert!(*found == content(), "{meddling:?} of an answer changed what was read");
    }
    let requests = through(server, meddling, Meddling::Nothing).await;
    let name = format!("written-{number}.raw");
    let written = tokio::time::timeout(bound, write(requests, protection, &name)).await.expect("it is given up");
    if written.is_ok() {
        let there = std::fs::read(server.root.path().join(&name)).unwrap();
        assert!(there == content(), "{meddling:?} of a request changed what was written");
    }
    read.is_ok()
}

async fn protected(offer: ShareOffer, protection: Protection) {
    let server = Samba::start(offer);
    std::fs::write(server.root.path().join("survey.raw"), content()).unwrap();
    let untouched = through(&server, Meddling::Nothing, Meddling::Nothing).await;
    assert!(read(untouched, protection, SILENCE * 10).await.unwrap() == content());
    // Most of them wait for a server that has hung up or says nothing.
    let tries =
        meddlings().into_iter().enumerate().map(|(number, meddling)| tried(&server, protection, number, meddling));
    let ended_well: Vec<bool> = stream::iter(tries).buffer_unordered(12).collect().await;
    // Only what leaves the words alone can go unnoticed: one that comes late, or twice.
    let harmless = ended_well.iter().filter(|well| **well).count();
    assert!(harmless * 3 < ended_well.len(), "{harmless} of {} harmless", ended_well.len());
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_is_believed_that_was_changed_on_the_way_under_encryption() {
    protected(ShareOffer::Usual, Protection::Encrypted).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_is_believed_that_was_changed_on_the_way_under_signatures() {
    protected(ShareOffer::Usual, Protection::Signed).await;
}

#[tokio::test(flavor = "multi_thread")]
async fn nothing_is_believed_that_was_changed_on_the_way_under_the_oldest_signatures() {
    protected(ShareOffer::Oldest, Protection::Signed).await;
}
