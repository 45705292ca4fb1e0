//! A small post office: one mailbox that is read with IMAP, and a server that takes letters with SMTP; not
//! secured. Every letter is also a file, so that people can look at it.

mod imap;
mod smtp;

use std::{collections::BTreeMap, fs, io, net::SocketAddr, path::PathBuf, sync::Arc};

use jiff::Timestamp;
use parking_lot::{Mutex, MutexGuard};
use tokio::{
    io::{AsyncBufRead, AsyncBufReadExt, AsyncReadExt},
    net::TcpListener,
};
use tokio_util::sync::CancellationToken;

use crate::guests::serve_all;

/// Where letters come in.
const INBOX: &str = "INBOX";
/// Where letters to others are kept.
const SENT: &str = "sent";
/// A command is never longer.
const LONGEST_LINE: u64 = 64 << 10;

/// How a stand-in is set up.
#[derive(Debug, Clone)]
pub struct PostStandinOptions {
    /// Where letters are read; port 0 takes a free one.
    pub reading: SocketAddr,
    /// Where letters are handed in; port 0 takes a free one.
    pub sending: SocketAddr,
    /// Its one user.
    pub user: String,
    /// The user's password.
    pub password: String,
    /// The address whose letters come into the mailbox; all others are kept in `sent`.
    pub address: String,
    /// Where every letter is a file.
    pub folder: PathBuf,
}

/// A letter in a folder.
#[derive(Debug, Clone)]
struct Letter {
    number: u32,
    came: Timestamp,
    content: Arc<[u8]>,
}

#[derive(Debug, Default)]
struct Store {
    folders: BTreeMap<String, Vec<Letter>>,
    last: u32,
}

/// What both servers share.
#[derive(Debug)]
struct Office {
    options: PostStandinOptions,
    store: Mutex<Store>,
}

impl Office {
    fn store(&self) -> MutexGuard<'_, Store> {
        self.store.lock()
    }

    fn path(&self, folder: &str, number: u32) -> PathBuf {
        // A folder's name is a person's; as a path it is one part and leads nowhere.
        let folder: String = folder.chars().map(|c| if c == '/' || c.is_control() { '_' } else { c }).collect();
        self.options.folder.join(folder.trim_start_matches('.')).join(format!("{number}.eml"))
    }

    fn put(&self, folder: &str, content: &[u8]) -> io::Result<()> {
        let mut store = self.store();
        store.last += 1;
        let number = store.last;
        let path = self.path(folder, number);
        fs::create_dir_all(path.parent().unwrap_or(&self.options.folder))?;
        fs::write(path, content)?;
        let letter = Letter { number, came: Timestamp::now(), content: content.into() };
        store.folders.entry(folder.to_owned()).or_default().push(letter);
        Ok(())
    }

    /// Puts a letter into another folder; answers whether both were there.
    fn relocate(&self, from: &str, number: u32, to: &str) -> bool {
        let mut store = self.store();
        if !store.folders.contains_key(to) {
            return false;
        }
        store.last += 1;
        let new = store.last;
        let Some(letters) = store.folders.get_mut(from) else { return false };
        let Some(at) = letters.iter().position(|letter| letter.number == number) else { return false };
        let letter = letters.remove(at);
        let (old_path, new_path) = (self.path(from, number), self.path(to, new));
        let _ = fs::create_dir_all(new_path.parent().unwrap_or(&self.options.folder));
        let _ = fs::rename(old_path, new_path);
        store.folders.entry(to.to_owned()).or_default().push(Letter { number: new, ..letter });
        true
    }

    fn remove(&self, folder: &str, number: u32) {
        let mut store = self.store();
        if let Some(letters) = store.folders.get_mut(folder) {
            letters.retain(|letter| letter.number != number);
        }
        let _ = fs::remove_file(self.path(folder, number));
    }

    fn lets_in(&self, user: &str, password: &str) -> bool {
        user == self.options.user && password == self.options.password
    }
}

/// A running stand-in. Dropping it stops it and cuts its connections.
#[derive(Debug)]
pub struct PostStandin {
    reading: SocketAddr,
    sending: SocketAddr,
    office: Arc<Office>,
    stop: CancellationToken,
}

impl PostStandin {
    /// Starts to listen.
    ///
    /// # Errors
    /// If it cannot listen there, or its folder cannot be made.
    pub async fn start(options: PostStandinOptions) -> io::Result<Self> {
        fs::create_dir_all(&options.folder)?;
        let (reading, sending) = (TcpListener::bind(options.reading).await?, TcpListener::bind(options.sending).await?);
        let stop = CancellationToken::new();
        let mut store = Store::default();
        store.folders.insert(INBOX.to_owned(), Vec::new());
        let office = Arc::new(Office { options, store: Mutex::new(store) });
        let standin =
            Self { reading: reading.local_addr()?, sending: sending.local_addr()?, office, stop: stop.clone() };
        let office = standin.office.clone();
        serve_all(reading, stop.clone(), move |stream| {
            let office = office.clone();
            async move {
                if let Err(error) = imap::serve(stream, &office).await {
                    tracing::debug!(%error, "a connection for reading letters broke");
                }
            }
        });
        let office = standin.office.clone();
        serve_all(sending, stop, move |stream| {
            let office = office.clone();
            async move {
                if let Err(error) = smtp::serve(stream, &office).await {
                    tracing::debug!(%error, "a connection for sending letters broke");
                }
            }
        });
        Ok(standin)
    }

    /// Where letters are read.
    pub fn reading(&self) -> SocketAddr {
        self.reading
    }

    /// Where letters are handed in.
    pub fn sending(&self) -> SocketAddr {
        self.sending
    }

    /// Where every letter is a file.
    pub fn folder(&self) -> &std::path::Path {
        &self.office.options.folder
    }

    /// Brings a letter into the mailbox, as another server would.
    ///
    /// # Errors
    /// If it cannot be written.
    pub fn bring(&self, letter: &[u8]) -> io::Result<()> {
        self.office.put(INBOX, letter)
    }

    /// The letters that were handed in for others, in their order.
    pub fn sent(&self) -> Vec<Vec<u8>> {
        self.letters(SENT)
    }

    /// The letters in a folder of the mailbox, in their order.
    pub fn letters(&self, folder: &str) -> Vec<Vec<u8>> {
        let store = self.office.store();
        store.folders.get(folder).into_iter().flatten().map(|letter| letter.content.to_vec()).collect()
    }
}

impl Drop for PostStandin {
    fn drop(&mut self) {
        self.stop.cancel();
    }
}

/// A line without its end; nothing when there is no more.
async fn line(reader: &mut (impl AsyncBufRead + Unpin)) -> io::Result<Option<String>> {
    let mut bytes = Vec::new();
    reader.take(LONGEST_LINE).read_until(b'\n', &mut bytes).await?;
    if bytes.is_empty() {
        return Ok(None);
    }
    Ok(Some(String::from_utf8_lossy(&bytes).trim_end_matches(['\r', '\n']).to_owned()))
}
