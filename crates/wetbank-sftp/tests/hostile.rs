//! A peer that lies: whatever bytes come, nobody panics, hangs or takes memory for what is not
//! there.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use std::{sync::Arc, time::Duration};

use bytes::Bytes;
use proptest::prelude::*;
use tokio::io::{AsyncReadExt, AsyncWriteExt, DuplexStream, split};
use wetbank_sftp::{
    Attributes, Bytewise, Client, ClientError, Files, Listed, OpenFile, OpenFlags, Opening, Status, StatusCode, serve,
};

const SILENCE: Duration = Duration::from_secs(5);

/// Frames a packet.
fn packet(body: &[u8]) -> Vec<u8> {
    let mut packet = (body.len() as u32).to_be_bytes().to_vec();
    packet.extend_from_slice(body);
    packet
}

fn hello() -> Vec<u8> {
    packet(&[2, 0, 0, 0, 3])
}

/// The number of the next request that comes in.
async fn next_request(stream: &mut DuplexStream) -> Option<(u8, u32)> {
    let length = stream.read_u32().await.ok()?;
    let mut body = vec![0; length as usize];
    stream.read_exact(&mut body).await.ok()?;
    let id = body.get(1..5).map_or(0, |id| u32::from_be_bytes(id.try_into().unwrap()));
    Some((body[0], id))
}

/// A client whose server answers every request with this type and body.
async fn against(kind: u8, body: Vec<u8>) -> Client {
    let (ours, mut theirs) = tokio::io::duplex(1 << 20);
    tokio::spawn(async move {
        next_request(&mut theirs).await;
        theirs.write_all(&hello()).await.unwrap();
        while let Some((_, id)) = next_request(&mut theirs).await {
            let mut answer = vec![kind];
            answer.extend_from_slice(&id.to_be_bytes());
            answer.extend_from_slice(&body);
            if theirs.write_all(&packet(&answer)).await.is_err() {
                return;
            }
        }
    });
    let (read, write) = split(ours);
    Client::connect(Bytewise(read), Bytewise(write), SILENCE).await.unwrap()
}

fn run<T>(work: impl Future<Output = T>) -> T {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    runtime.block_on(async { tokio::time::timeout(Duration::from_secs(20), work).await.expect("it hangs") })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(64))]

    #[test]
    fn no_answer_of_a_server_breaks_a_client(kind in prop_oneof![Just(101u8), Just(102), Just(103), Just(104), Just(105), any::<u8>()], body in proptest::collection::vec(any::<u8>(), 0..80)) {
        run(async move {
            let client = against(kind, body).await;
            let _ = client.lstat(b"a").await;
            let _ = client.real_path(b".").await;
            let _ = client.remove(b"a").await;
            if let Ok(directory) = client.open_directory(b".").await {
                let _ = directory.next().await;
            }
            if let Ok(file) = client.open(b"a", OpenFlags::READ).await {
                let _ = file.attributes().await;
                let _ = file.write(0, Bytes::from_static(b"x")).await;
            }
        });
    }

    #[test]
    fn no_bytes_of_a_client_break_a_server(bytes in proptest::collection::vec(any::<u8>(), 0..200), kind in 1u8..21, framed in any::<bool>()) {
        run(async move {
            let (ours, theirs) = tokio::io::duplex(1 << 20);
            let (read, write) = split(theirs);
            let serving = tokio::spawn(serve(Arc::new(Nothing), Bytewise(read), Bytewise(write)));
            let (mut answers, mut requests) = split(ours);
            let sent = if framed {
                let mut body = vec![kind];
                body.extend_from_slice(&bytes);
                packet(&body)
            } else {
                bytes
            };
            let _ = requests.write_all(&sent).await;
            let _ = requests.shutdown().await;
            drop(requests);
            let drain = tokio::spawn(async move { let mut rest = Vec::new(); let _ = answers.read_to_end(&mut rest).await; });
            let _ = serving.await.expect("no panic");
            drain.abort();
        });
    }
}

#[test]
fn a_count_of_names_that_are_not_there_takes_no_memory() {
    run(async {
        let client = against(104, vec![0xff, 0xff, 0xff, 0xff]).await;
        assert!(matches!(client.real_path(b".").await, Err(ClientError::Protocol(_))));
    });
}

#[test]
fn a_silent_server_is_given_up_and_all_who_wait_are_told() {
    run(async {
        let (ours, mut theirs) = tokio::io::duplex(1 << 16);
        tokio::spawn(async move {
            next_request(&mut theirs).await;
            theirs.write_all(&hello()).await.unwrap();
            std::future::pending::<()>().await;
        });
        let (read, write) = split(ours);
        let client = Client::connect(Bytewise(read), Bytewise(write), Duration::from_millis(200)).await.unwrap();
        let (one, two) = tokio::join!(client.lstat(b"a"), client.lstat(b"b"));
        assert!(one.is_err() && two.is_err());
        assert!(client.is_closed());
        assert!(client.lstat(b"c").await.is_err(), "and nobody waits any more");
    });
}

#[test]
fn a_connection_that_ends_wakes_everybody() {
    run(async {
        let (ours, mut theirs) = tokio::io::duplex(1 << 16);
        tokio::spawn(async move {
            next_request(&mut theirs).await;
            theirs.write_all(&hello()).await.unwrap();
            next_request(&mut theirs).await;
        });
        let (read, write) = split(ours);
        let client = Client::connect(Bytewise(read), Bytewise(write), SILENCE).await.unwrap();
        let asked: Vec<_> = (0..100).map(|_| client.lstat(b"a")).collect();
        for answer in futures_util::future::join_all(asked).await {
            assert!(matches!(answer, Err(ClientError::Lost(_))), "{answer:?}");
        }
    });
}

#[test]
fn a_caller_that_goes_away_leaves_no_handle_open() {
    run(async {
        let (ours, mut theirs) = tokio::io::duplex(1 << 16);
        let (read, write) = split(ours);
        let server = tokio::spawn(async move {
            next_request(&mut theirs).await;
            theirs.write_all(&hello()).await.unwrap();
            let (kind, id) = next_request(&mut theirs).await.unwrap();
            assert_eq!(kind, 3, "open");
            // The caller is gone by now; then the handle comes.
            tokio::time::sleep(Duration::from_millis(100)).await;
            let mut answer = vec![102];
            answer.extend_from_slice(&id.to_be_bytes());
            answer.extend_from_slice(&[0, 0, 0, 1, 7]);
            theirs.write_all(&packet(&answer)).await.unwrap();
            next_request(&mut theirs).await.unwrap().0
        });
        let client = Client::connect(Bytewise(read), Bytewise(write), SILENCE).await.unwrap();
        let gone = tokio::time::timeout(Duration::from_millis(30), client.open(b"a", OpenFlags::READ)).await;
        assert!(gone.is_err());
        assert_eq!(server.await.unwrap(), 4, "close");
    });
}

/// A server with nothing in it.
struct Nothing;

fn no<T>() -> Result<T, Status> {
    Err(Status { code: StatusCode::NoSuchFile, message: "nothing here".to_owned() })
}

impl OpenFile for Nothing {
    async fn read(&self, _: u64, _: u32) -> Result<Bytes, Status> {
        no()
    }
    async fn write(&self, _: u64, _: Bytes) -> Result<(), Status> {
        no()
    }
    async fn attributes(&self) -> Result<Attributes, Status> {
        no()
    }
    async fn set_attributes(&self, _: Attributes) -> Result<(), Status> {
        no()
    }
    async fn sync(&self) -> Result<(), Status> {
        no()
    }
}

impl Files for Nothing {
    type File = Nothing;
    type Folder = Listed;
    async fn open(&self, _: &[u8], _: Opening) -> Result<Nothing, Status> {
        Ok(Nothing)
    }
    async fn folder(&self, _: &[u8]) -> Result<Listed, Status> {
        Ok(Vec::new().into())
    }
    async fn attributes(&self, _: &[u8], _: bool) -> Result<Attributes, Status> {
        no()
    }
    async fn remove(&self, _: &[u8]) -> Result<(), Status> {
        no()
    }
    async fn make_directory(&self, _: &[u8]) -> Result<(), Status> {
        no()
    }
    async fn remove_directory(&self, _: &[u8]) -> Result<(), Status> {
        no()
    }
    async fn rename(&self, _: &[u8], _: &[u8], _: bool) -> Result<(), Status> {
        no()
    }
    async fn real_path(&self, path: &[u8]) -> Result<Bytes, Status> {
        Ok(Bytes::copy_from_slice(path))
    }
}
