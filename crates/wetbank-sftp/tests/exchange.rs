//! Client and server together, over a connection that cuts bytes anywhere, with a server that is
//! slow, answers out of order and reads less than it is asked for: every byte still arrives once.

#![allow(clippy::unwrap_used, reason = "a test fails by panicking")]

use std::{
    collections::BTreeMap,
    sync::{
        Arc, Mutex,
        atomic::{AtomicUsize, Ordering},
    },
    time::Duration,
};

use bytes::Bytes;
use futures_util::{StreamExt, TryStreamExt, future::join_all};
use proptest::prelude::*;
use tokio::io::split;
use wetbank_sftp::{
    Attributes, Bytewise, Client, ClientError, FileType, Files, Listed, Name, OpenFile, OpenFlags, Opening, Status,
    StatusCode, serve,
};

const SILENCE: Duration = Duration::from_secs(10);
/// The bits of a mode that make it a regular file, a directory.
const FILE: u32 = 0o100_644;
const DIRECTORY: u32 = 0o040_755;

type Content = Arc<Mutex<Vec<u8>>>;

/// Files in memory.
#[derive(Default)]
struct Shelf {
    files: Mutex<BTreeMap<Vec<u8>, Content>>,
    /// Files that are open now.
    open: Arc<AtomicUsize>,
    /// A read brings at most so many bytes, if this is not zero.
    shortest: usize,
    /// Whether answers come out of order.
    shuffles: bool,
}

struct OnShelf {
    content: Content,
    open: Arc<AtomicUsize>,
    shortest: usize,
    shuffles: bool,
}

impl Drop for OnShelf {
    fn drop(&mut self) {
        self.open.fetch_sub(1, Ordering::Relaxed);
    }
}

fn refused<T>(code: StatusCode) -> Result<T, Status> {
    Err(Status { code, message: String::new() })
}

fn regular(size: usize) -> Attributes {
    Attributes { size: Some(size as u64), permissions: Some(FILE), ..Attributes::default() }
}

impl OnShelf {
    async fn linger(&self, offset: u64) {
        if self.shuffles {
            // Every third answer comes late.
            let turns = if (offset / 100).is_multiple_of(3) { 9 } else { 1 };
            for _ in 0..turns {
                tokio::task::yield_now().await;
            }
        }
    }
}

impl OpenFile for OnShelf {
    async fn read(&self, offset: u64, length: u32) -> Result<Bytes, Status> {
        self.linger(offset).await;
        let content = self.content.lock().unwrap();
        let from = (offset as usize).min(content.len());
        let mut to = (from + length as usize).min(content.len());
        if self.shortest > 0 {
            to = to.min(from + self.shortest);
        }
        Ok(Bytes::copy_from_slice(&content[from..to]))
    }
    async fn write(&self, offset: u64, data: Bytes) -> Result<(), Status> {
        self.linger(offset).await;
        let mut content = self.content.lock().unwrap();
        let end = offset as usize + data.len();
        if content.len() < end {
            content.resize(end, 0);
        }
        content[offset as usize..end].copy_from_slice(&data);
        Ok(())
    }
    async fn attributes(&self) -> Result<Attributes, Status> {
        Ok(regular(self.content.lock().unwrap().len()))
    }
    async fn set_attributes(&self, wanted: Attributes) -> Result<(), Status> {
        if let Some(length) = wanted.size {
            self.content.lock().unwrap().resize(length as usize, 0);
        }
        Ok(())
    }
    async fn sync(&self) -> Result<(), Status> {
        Ok(())
    }
}

impl Files for Shelf {
    type File = OnShelf;
    type Folder = Listed;
    async fn open(&self, path: &[u8], how: Opening) -> Result<OnShelf, Status> {
        let Opening { create, exclusive, .. } = how;
        let mut files = self.files.lock().unwrap();
        let content = match (files.get(path), create) {
            (Some(_), true) if exclusive => return refused(StatusCode::Failure),
            (Some(content), _) => content.clone(),
            (None, true) => files.entry(path.to_vec()).or_default().clone(),
            (None, false) => return refused(StatusCode::NoSuchFile),
        };
        self.open.fetch_add(1, Ordering::Relaxed);
        Ok(OnShelf { content, open: self.open.clone(), shortest: self.shortest, shuffles: self.shuffles })
    }
    async fn folder(&self, _: &[u8]) -> Result<Listed, Status> {
        let own = [b".".to_vec(), b"..".to_vec()].into_iter().map(|name| (name, DIRECTORY));
        let files = self.files.lock().unwrap();
        let names = own.chain(files.keys().map(|name| (name.clone(), FILE)));
        let names = names.map(|(name, permissions)| Name {
            name: name.clone().into(),
            long_form: name.into(),
            attributes: Attributes { permissions: Some(permissions), ..Attributes::default() },
        });
        Ok(names.collect::<Vec<_>>().into())
    }
    async fn attributes(&self, path: &[u8], _: bool) -> Result<Attributes, Status> {
        match self.files.lock().unwrap().get(path) {
            Some(content) => Ok(regular(content.lock().unwrap().len())),
            None => refused(StatusCode::NoSuchFile),
        }
    }
    async fn remove(&self, path: &[u8]) -> Result<(), Status> {
        self.files.lock().unwrap().remove(path).map_or_else(|| refused(StatusCode::NoSuchFile), |_| Ok(()))
    }
    async fn make_directory(&self, _: &[u8]) -> Result<(), Status> {
        refused(StatusCode::PermissionDenied)
    }
    async fn remove_directory(&self, _: &[u8]) -> Result<(), Status> {
        refused(StatusCode::Unsupported)
    }
    async fn rename(&self, from: &[u8], to: &[u8], replace: bool) -> Result<(), Status> {
        let mut files = self.files.lock().unwrap();
        if files.contains_key(to) && !replace {
            return refused(StatusCode::Failure);
        }
        let Some(content) = files.remove(from) else { return refused(StatusCode::NoSuchFile) };
        files.insert(to.to_vec(), content);
        Ok(())
    }
    async fn real_path(&self, path: &[u8]) -> Result<Bytes, Status> {
        Ok([b"/shelf/", path].concat().into())
    }
}

impl Shelf {
    fn content(&self, path: &[u8]) -> Vec<u8> {
        self.files.lock().unwrap()[path].lock().unwrap().clone()
    }

    fn put(&self, path: &[u8], content: &[u8]) {
        self.files.lock().unwrap().insert(path.to_vec(), Arc::new(Mutex::new(content.to_vec())));
    }
}

/// A client of a shelf, over a connection that takes so many bytes at a time.
async fn client(shelf: Arc<Shelf>, pipe: usize) -> Client {
    let (ours, theirs) = tokio::io::duplex(pipe);
    let (read, write) = split(theirs);
    tokio::spawn(serve(shelf, Bytewise(read), Bytewise(write)));
    let (read, write) = split(ours);
    Client::connect(Bytewise(read), Bytewise(write), SILENCE).await.unwrap()
}

fn pattern(length: usize) -> Vec<u8> {
    (0..length).map(|at| (at % 251) as u8).collect()
}

async fn read_all(client: &Client, path: &[u8], from: u64) -> Result<Vec<u8>, ClientError> {
    let file = client.open(path, OpenFlags::READ).await?;
    file.content(from)
        .try_fold(Vec::new(), async |mut all, chunk| {
            all.extend_from_slice(&chunk);
            Ok(all)
        })
        .await
}

/// Writes in pieces of one length, all at once.
async fn write_all(client: &Client, path: &[u8], content: &[u8], piece: usize) {
    let file = client.open(path, OpenFlags::CREATE_NEW).await.unwrap();
    let writes = content.chunks(piece).enumerate().map(|(number, chunk)| {
        let file = file.clone();
        async move { file.write((number * piece) as u64, Bytes::copy_from_slice(chunk)).await }
    });
    for written in join_all(writes).await {
        written.unwrap();
    }
}

fn run<T>(work: impl Future<Output = T>) -> T {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().unwrap();
    runtime.block_on(async { tokio::time::timeout(Duration::from_secs(30), work).await.expect("it hangs") })
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(40))]

    #[test]
    fn what_is_read_is_what_is_there(
        length in 0usize..1_200_000,
        short in prop_oneof![Just(0usize), 1_000usize..40_000, Just(261_119)],
        shuffles in any::<bool>(),
        pipe in prop_oneof![Just(64usize << 10), 1_000usize..5_000],
        from in 0usize..1_300_000,
    ) {
        run(async move {
            let shelf = Arc::new(Shelf { shortest: short, shuffles, ..Shelf::default() });
            let content = pattern(length);
            shelf.put(b"levels.csv", &content);
            let client = client(shelf, pipe).await;
            let read = read_all(&client, b"levels.csv", from as u64).await.unwrap();
            assert!(read == content[from.min(length)..], "{} bytes of {length} from {from}", read.len());
        });
    }

    #[test]
    fn what_is_written_is_what_is_there_in_whatever_order_it_is_stored(
        length in 0usize..700_000,
        piece in 3_000usize..40_000,
        pipe in prop_oneof![Just(64usize << 10), 1_000usize..5_000],
    ) {
        run(async move {
            let shelf = Arc::new(Shelf { shuffles: true, ..Shelf::default() });
            let content = pattern(length);
            let client = client(shelf.clone(), pipe).await;
            write_all(&client, b"levels.csv", &content, piece).await;
            assert!(shelf.content(b"levels.csv") == content);
        });
    }
}

#[test]
fn two_hundred_files_are_open_at_once_and_every_one_is_closed_again() {
    run(async {
        let shelf = Arc::new(Shelf::default());
        let client = client(shelf.clone(), 64 << 10).await;
        let names: Vec<Vec<u8>> = (0..200).map(|n| format!("{n:03}.csv").into_bytes()).collect();
        let mut files = Vec::new();
        for name in &names {
            files.push(client.open(name, OpenFlags::CREATE_NEW).await.unwrap());
        }
        assert_eq!(shelf.open.load(Ordering::Relaxed), 200);
        let writes = files.iter().zip(&names).map(|(file, name)| file.write(0, Bytes::copy_from_slice(name)));
        assert!(join_all(writes).await.iter().all(Result::is_ok));
        assert!(names.iter().all(|name| shelf.content(name) == *name), "none got the content of another");
        drop(files);
        // Closing is not waited for by whoever drops a file; any answer after it shows that it is done.
        client.lstat(b"000.csv").await.unwrap();
        while shelf.open.load(Ordering::Relaxed) > 0 {
            tokio::task::yield_now().await;
        }
        assert_eq!(client.in_flight(), 0);
    });
}

#[test]
fn more_files_than_a_server_keeps_open_are_refused_and_the_connection_goes_on() {
    run(async {
        let client = client(Arc::new(Shelf::default()), 64 << 10).await;
        let mut files = Vec::new();
        let refusal = loop {
            match client.open(format!("{}.csv", files.len()).as_bytes(), OpenFlags::CREATE_NEW).await {
                Ok(file) => files.push(file),
                Err(error) => break error,
            }
            assert!(files.len() < 10_000, "a server has a limit");
        };
        assert!(!refusal.is_fatal(), "{refusal}");
        files.truncate(3);
        files[0].write(0, Bytes::from_static(b"still there")).await.unwrap();
        assert_eq!(read_all(&client, b"0.csv", 0).await.unwrap(), b"still there");
    });
}

#[test]
fn a_directory_of_many_names_is_read_page_by_page_with_names_of_any_bytes() {
    run(async {
        let shelf = Arc::new(Shelf::default());
        for number in 0..950 {
            shelf.put(format!("{number:04}.csv").as_bytes(), b"");
        }
        shelf.put(b"\xff\xfe not UTF-8", b"");
        shelf.put(b"line\nbreak", b"");
        let client = client(shelf.clone(), 64 << 10).await;
        let directory = client.open_directory(b".").await.unwrap();
        let (mut pages, mut names) = (0, Vec::new());
        while let Some(page) = directory.next().await.unwrap() {
            pages += 1;
            names.extend(page.into_iter().map(|name| name.name.to_vec()));
        }
        assert!(pages >= 9, "{pages}");
        let mut expected: Vec<Vec<u8>> = shelf.files.lock().unwrap().keys().cloned().collect();
        names.sort();
        expected.sort();
        assert_eq!(names, expected, "without . and ..");
        assert!(directory.next().await.unwrap().is_none(), "the end stays the end");
    });
}

#[test]
fn renaming_refuses_what_is_there_unless_it_is_asked_to_replace() {
    run(async {
        let shelf = Arc::new(Shelf::default());
        shelf.put(b"new", b"new");
        shelf.put(b"old", b"old");
        let client = client(shelf.clone(), 64 << 10).await;
        let refused = client.rename(b"new", b"old").await.unwrap_err();
        assert_eq!(refused.code(), Some(StatusCode::Failure));
        assert_eq!((shelf.content(b"old"), shelf.content(b"new")), (b"old".to_vec(), b"new".to_vec()));
        assert!(client.can_replace());
        client.rename_replacing(b"new", b"old").await.unwrap();
        assert_eq!(shelf.content(b"old"), b"new");
        let gone = client.rename(b"new", b"other").await.unwrap_err();
        assert_eq!(gone.code(), Some(StatusCode::NoSuchFile));
        client.remove(b"old").await.unwrap();
        assert_eq!(client.lstat(b"old").await.unwrap_err().code(), Some(StatusCode::NoSuchFile));
    });
}

#[test]
fn what_a_server_says_of_a_file_is_told_and_what_it_cannot_say_is_no_failure() {
    run(async {
        let shelf = Arc::new(Shelf::default());
        shelf.put(b"levels.csv", &pattern(1_234));
        let client = client(shelf.clone(), 64 << 10).await;
        let told = client.stat(b"levels.csv").await.unwrap();
        assert_eq!((told.size, told.file_type()), (Some(1_234), FileType::File));
        assert_eq!(client.real_path(b"levels.csv").await.unwrap(), "/shelf/levels.csv");
        assert_eq!(client.space_left(b".").await.unwrap(), None, "it does not tell of this");
        let refused = client.make_directory(b"in").await.unwrap_err();
        assert_eq!(refused.code(), Some(StatusCode::PermissionDenied));
        assert!(!refused.to_string().is_empty());
        let file = client.open(b"levels.csv", OpenFlags::WRITE).await.unwrap();
        file.set_length(10).await.unwrap();
        file.sync().await.unwrap();
        assert_eq!(file.attributes().await.unwrap().size, Some(10));
        let again = client.open(b"levels.csv", OpenFlags::CREATE_NEW).await;
        assert!(again.is_err(), "what is there is not made anew");
        assert_eq!(shelf.content(b"levels.csv"), pattern(10));
    });
}

#[test]
fn a_reader_that_stops_early_leaves_the_connection_in_order() {
    run(async {
        let shelf = Arc::new(Shelf { shuffles: true, ..Shelf::default() });
        shelf.put(b"large", &pattern(5_000_000));
        let client = client(shelf.clone(), 4_096).await;
        for _ in 0..5 {
            let file = client.open(b"large", OpenFlags::READ).await.unwrap();
            let mut content = std::pin::pin!(file.content(0));
            let first = content.next().await.unwrap().unwrap();
            assert!(first == pattern(first.len()));
        }
        assert_eq!(client.lstat(b"large").await.unwrap().size, Some(5_000_000));
        while shelf.open.load(Ordering::Relaxed) > 0 {
            client.lstat(b"large").await.unwrap();
        }
    });
}
