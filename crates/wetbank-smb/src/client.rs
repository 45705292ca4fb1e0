//! One share: its files and folders.

use std::{sync::Arc, time::Duration};

use bytes::Bytes;
use futures_util::{Stream, StreamExt, stream};
use tokio::{
    io::{AsyncRead, AsyncWrite},
    sync::OnceCell,
};

use crate::{
    AccountId, Error, Malformed, Status, accounts,
    message::{self, Created, Opening, PER_CREDIT, Request},
    session::{Account, Protection, Secured, Session, opening::Greeted},
    wire::text,
};

/// Tenths of microseconds from 1601, where the protocol's time begins, to 1970.
const SINCE_1601: u64 = 116_444_736_000_000_000;
/// The length of a read or write: long enough for a fast line, short enough to share it.
const PIECE: usize = 1 << 20;
/// Pieces in flight for one file.
const AHEAD: usize = 6;
/// With fewer credits than this at the start, pieces cost one each.
const FEW_CREDITS: usize = 64;
/// What one listing brings at once.
const LISTED: usize = 256 << 10;

const ACCESS_READ: u32 = 0x0000_0001;
const ACCESS_WRITE: u32 = 0x0000_0002;
const ACCESS_LOOK: u32 = 0x0000_0080;
const ACCESS_CHANGE: u32 = 0x0000_0100;
const ACCESS_DELETE: u32 = 0x0001_0000;
const ACCESS_PROTECTION: u32 = 0x0002_0000;
const OPEN: u32 = 1;
const CREATE: u32 = 2;
const FOLDER: u32 = 0x0000_0001;
const NO_FOLDER: u32 = 0x0000_0040;
/// A link is opened itself, never what it leads to.
const NO_LINK: u32 = 0x0020_0000;

/// What a file or folder is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Attributes {
    /// Bytes.
    pub size: u64,
    /// When it was last written: nanoseconds since 1970, in steps of 100.
    pub modified: i64,
    /// Its number on the server's disk, if the server tells it.
    pub number: Option<u64>,
    /// It is a folder.
    pub is_folder: bool,
    /// It is a link, or something else that stands for another file.
    pub is_link: bool,
}

impl Attributes {
    fn of(created: &Created) -> Self {
        let since = i128::from(created.written) - i128::from(SINCE_1601);
        Self {
            size: created.size,
            modified: i64::try_from(since * 100).unwrap_or(0),
            number: created.number,
            is_folder: created.attributes & 0x10 != 0,
            is_link: created.attributes & 0x400 != 0,
        }
    }
}

/// An entry of a folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Found {
    /// The bare name as the server tells it.
    pub name: String,
    /// What it is.
    pub attributes: Attributes,
}

/// How to open a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Open {
    /// Read an existing file.
    Read,
    /// Write an existing file, keeping its content.
    Write,
    /// Make a new file to write; it must not exist.
    CreateNew,
}

/// A share on a connection. Clones share it. Paths have backslashes; the empty one is the share.
#[derive(Debug, Clone)]
pub struct Client {
    session: Arc<Session>,
    tree: u32,
    piece: usize,
    server: Arc<str>,
    /// The tree of the server's pipes, once it was asked for names.
    pipes: Arc<OnceCell<u32>>,
}

/// An open file. The last clone to go closes it.
#[derive(Debug, Clone)]
pub struct RemoteFile {
    inner: Arc<Handle>,
    attributes: Attributes,
}

/// An open folder. Dropping it closes it.
#[derive(Debug)]
pub struct Directory {
    inner: Handle,
}

#[derive(Debug)]
struct Handle {
    client: Client,
    id: [u8; 16],
    is_open: bool,
}

impl Drop for Handle {
    fn drop(&mut self) {
        if self.is_open {
            self.client.session.close_later(self.id, self.client.tree);
        }
    }
}

impl Client {
    /// What a server offers to protect a connection, before anybody signs in.
    pub async fn greet(stream: impl AsyncRead + AsyncWrite + Unpin, silence: Duration) -> Result<Secured, Error> {
        Ok(Greeted::start(stream, silence).await?.secured())
    }

    /// Signs in and opens a share. `silence` is how long the server may be silent while we wait.
    pub async fn connect<S: AsyncRead + AsyncWrite + Unpin + Send + 'static>(
        stream: S,
        server: &str,
        share: &str,
        account: &Account,
        protection: Protection,
        silence: Duration,
    ) -> Result<Self, Error> {
        let greeted = Greeted::start(stream, silence).await?;
        let opened = greeted.sign_in(account, server, protection, silence).await?;
        let is_sealed = opened.is_sealed;
        let session = Session::start(opened, silence);
        let answer = session.request(message::tree_connect(&format!("\\\\{server}\\{share}")), 0).await?;
        let (must_encrypt, has_files) = message::tree_connected(&answer)?;
        if must_encrypt && !is_sealed {
            return Err(Error::Unfit("the share demands encryption"));
        }
        if !has_files {
            return Err(Error::Unfit("the share is a printer or a pipe and holds no files"));
        }
        let longest = session.negotiated.longest_read.min(session.negotiated.longest_write).max(1) as usize;
        let wanted =
            if session.negotiated.has_credits && session.credits() >= FEW_CREDITS { PIECE } else { PER_CREDIT };
        let (session, pipes) = (Arc::new(session), Arc::default());
        Ok(Self { session, tree: answer.tree, piece: longest.min(wanted), server: server.into(), pipes })
    }

    /// Whether the connection is gone.
    pub fn is_closed(&self) -> bool {
        self.session.is_closed()
    }

    /// Requests that wait for an answer: the load of the connection.
    pub fn in_flight(&self) -> usize {
        self.session.in_flight()
    }

    /// The length of one write.
    pub fn piece(&self) -> usize {
        self.piece
    }

    async fn request(&self, request: Request) -> Result<message::Answer, Error> {
        self.session.request(request, self.tree).await
    }

    async fn create(&self, path: &str, opening: Opening) -> Result<(Handle, Attributes), Error> {
        let created = Created::read(&self.request(message::create(path, opening)).await?)?;
        let handle = Handle { client: self.clone(), id: created.id, is_open: true };
        Ok((handle, Attributes::of(&created)))
    }

    /// What lies at a path; a link is told as a link.
    pub async fn look(&self, path: &str) -> Result<Attributes, Error> {
        let opening = Opening { access: ACCESS_LOOK, disposition: OPEN, options: NO_LINK };
        Ok(self.create(path, opening).await?.1)
    }

    /// Opens a file.
    pub async fn open(&self, path: &str, open: Open) -> Result<RemoteFile, Error> {
        let (access, disposition) = match open {
            Open::Read => (ACCESS_READ | ACCESS_LOOK, OPEN),
            Open::Write => (ACCESS_WRITE | ACCESS_LOOK | ACCESS_CHANGE, OPEN),
            Open::CreateNew => (ACCESS_WRITE | ACCESS_LOOK | ACCESS_CHANGE, CREATE),
        };
        let (handle, attributes) =
            self.create(path, Opening { access, disposition, options: NO_FOLDER | NO_LINK }).await?;
        if attributes.is_link {
            return Err(Error::Unfit("it is a link"));
        }
        Ok(RemoteFile { inner: Arc::new(handle), attributes })
    }

    /// Opens a folder.
    pub async fn open_directory(&self, path: &str) -> Result<Directory, Error> {
        let opening = Opening { access: ACCESS_READ | ACCESS_LOOK, disposition: OPEN, options: FOLDER };
        Ok(Directory { inner: self.create(path, opening).await?.0 })
    }

    /// Makes a folder; it must not exist.
    pub async fn make_directory(&self, path: &str) -> Result<(), Error> {
        let opening = Opening { access: ACCESS_LOOK, disposition: CREATE, options: FOLDER };
        self.create(path, opening).await.map(drop)
    }

    async fn open_to_delete(&self, path: &str, options: u32) -> Result<Handle, Error> {
        let opening = Opening { access: ACCESS_DELETE | ACCESS_LOOK, disposition: OPEN, options: options | NO_LINK };
        Ok(self.create(path, opening).await?.0)
    }

    /// Gives a file another path in one step; a taken name is replaced or refused.
    pub async fn rename(&self, from: &str, to: &str, replace: bool) -> Result<(), Error> {
        let handle = self.open_to_delete(from, NO_FOLDER).await?;
        self.request(message::rename(&handle.id, to, replace)).await.map(drop)
    }

    /// Says when a file was last written, in nanoseconds since 1970. Answers how it is then.
    pub async fn set_modified(&self, path: &str, at: i64) -> Result<Attributes, Error> {
        let opening = Opening { access: ACCESS_LOOK | ACCESS_CHANGE, disposition: OPEN, options: NO_LINK };
        let (handle, _) = self.create(path, opening).await?;
        // Zero would leave it as it is.
        let at = SINCE_1601.saturating_add_signed(at.div_euclid(100)).max(1);
        self.request(message::set_written(&handle.id, at)).await?;
        drop(handle);
        self.look(path).await
    }

    /// Who owns what lies at a path, if the server tells it.
    pub async fn owner(&self, path: &str) -> Result<Option<AccountId>, Error> {
        let opening = Opening { access: ACCESS_PROTECTION | ACCESS_LOOK, disposition: OPEN, options: NO_LINK };
        let (handle, _) = self.create(path, opening).await?;
        let answer = self.request(message::query_owner(&handle.id)).await?;
        Ok(accounts::owner(&message::info(&answer)?)?)
    }

    /// The last name of the path by which the server itself knows what lies at a path.
    pub async fn own_name(&self, path: &str) -> Result<String, Error> {
        let (handle, _) =
            self.create(path, Opening { access: ACCESS_LOOK, disposition: OPEN, options: NO_LINK }).await?;
        let path = message::own_path(&self.request(message::query_all(&handle.id)).await?)?;
        let units: Vec<u16> = path.chunks_exact(2).map(|unit| u16::from_le_bytes([unit[0], unit[1]])).collect();
        let path = String::from_utf16_lossy(&units);
        Ok(path.rsplit('\\').next().unwrap_or_default().to_owned())
    }

    /// The names of accounts as the server knows them, in their order; nothing for one that it
    /// does not know.
    pub async fn account_names(&self, accounts: &[AccountId]) -> Result<Vec<Option<String>>, Error> {
        let tree = self.pipes.get_or_try_init(|| async {
            let pipes = message::tree_connect(&format!("\\\\{}\\IPC$", self.server));
            Ok::<_, Error>(self.session.request(pipes, 0).await?.tree)
        });
        let pipes = Self { tree: *tree.await?, ..self.clone() };
        let opening = Opening { access: ACCESS_READ | ACCESS_WRITE, disposition: OPEN, options: NO_FOLDER };
        let (pipe, _) = pipes.create("lsarpc", opening).await?;
        let exchange = async |message: Vec<u8>| {
            let answer = pipes.request(message::transceive(&pipe.id, &message)).await?;
            Ok::<_, Error>(message::transceived(&answer)?)
        };
        if !accounts::is_bound(&exchange(accounts::bind()).await?)? {
            return Err(Error::Unfit("the server does not tell the names of accounts"));
        }
        let directory = accounts::opened(&exchange(accounts::open()).await?)?;
        let mut names = Vec::with_capacity(accounts.len());
        for some in accounts.chunks(accounts::AT_ONCE) {
            let answer = exchange(accounts::look_up(&directory, some)).await?;
            names.extend(accounts::names(&answer, some.len())?);
        }
        Ok(names)
    }

    /// Removes a file. When it returns the file is gone, unless another program has it open.
    pub async fn remove(&self, path: &str) -> Result<(), Error> {
        self.remove_any(path, NO_FOLDER).await
    }

    /// Removes a folder in which nothing lies.
    pub async fn remove_directory(&self, path: &str) -> Result<(), Error> {
        self.remove_any(path, FOLDER).await
    }

    async fn remove_any(&self, path: &str, options: u32) -> Result<(), Error> {
        let mut handle = self.open_to_delete(path, options).await?;
        self.request(message::vanish(&handle.id)).await?;
        handle.is_open = false;
        self.request(message::close(&handle.id)).await.map(drop)
    }
}

impl RemoteFile {
    /// What it was when it was opened.
    pub fn attributes(&self) -> Attributes {
        self.attributes
    }

    async fn request(&self, request: Request) -> Result<message::Answer, Error> {
        self.inner.client.request(request).await
    }

    /// Reads until the length is full or the file ends; short reads go on.
    async fn read_full(self, offset: u64, length: usize) -> Result<Vec<Bytes>, Error> {
        let (mut pieces, mut got) = (Vec::with_capacity(1), 0);
        while got < length {
            // At most PIECE.
            let wanted = (length - got) as u32;
            match self.request(message::read(&self.inner.id, offset + got as u64, wanted)).await {
                Ok(answer) => {
                    let data = message::data(&answer)?;
                    if data.is_empty() || data.len() > wanted as usize {
                        return Err(Malformed("a read brought nothing, or more than was asked").into());
                    }
                    got += data.len();
                    pieces.push(data);
                }
                Err(error) if error.status() == Some(Status::END_OF_FILE) => break,
                Err(error) => return Err(error),
            }
        }
        Ok(pieces)
    }

    /// The content from an offset to the end, in order, read ahead.
    pub fn content(self, from: u64) -> impl Stream<Item = Result<Bytes, Error>> + Send {
        // A file that fits into one piece is not asked for more.
        let length = self.inner.client.piece;
        let ahead = if self.attributes.size.saturating_sub(from) < length as u64 { 1 } else { AHEAD };
        stream::iter((0..).map(move |n| from + n * length as u64))
            .map(move |offset| self.clone().read_full(offset, length))
            .buffered(ahead)
            // A piece shorter than was asked is the last one; an empty one lies behind the end.
            .scan(false, move |ended, pieces| {
                let result = (!*ended).then_some(pieces);
                *ended = match &result {
                    Some(Ok(pieces)) => pieces.iter().map(Bytes::len).sum::<usize>() < length,
                    _ => true,
                };
                std::future::ready(result)
            })
            .flat_map(|result| {
                stream::iter(match result {
                    Ok(pieces) => pieces.into_iter().map(Ok).collect(),
                    Err(error) => vec![Err(error)],
                })
            })
    }

    /// Writes at an offset; at most [`Client::piece`] bytes.
    pub async fn write(&self, offset: u64, data: Bytes) -> Result<(), Error> {
        let answer = self.request(message::write(&self.inner.id, offset, &data)).await?;
        if message::written(&answer)? as usize != data.len() {
            return Err(Malformed("a write was not stored as a whole").into());
        }
        Ok(())
    }

    /// Cuts the file to a length.
    pub async fn set_length(&self, length: u64) -> Result<(), Error> {
        self.request(message::set_length(&self.inner.id, length)).await.map(drop)
    }

    /// Waits until the server has the file on disk.
    pub async fn sync(&self) -> Result<(), Error> {
        self.request(message::flush(&self.inner.id)).await.map(drop)
    }

    /// Closes the file and waits for it, so that its time is what it stays.
    pub async fn close(self) -> Result<(), Error> {
        let request = message::close(&self.inner.id);
        let client = self.inner.client.clone();
        if let Some(mut handle) = Arc::into_inner(self.inner) {
            handle.is_open = false;
        }
        client.request(request).await.map(drop)
    }
}

impl Directory {
    /// The next entries, `.` and `..` left out, and what has no name in Unicode; nothing at the end.
    pub async fn next(&self) -> Result<Option<Vec<Found>>, Error> {
        let request = message::query_directory(&self.inner.id, LISTED.min(self.inner.client.piece) as u32);
        let answer = match self.inner.client.request(request).await {
            Err(error) if error.status() == Some(Status::NO_SUCH_FILE) => return Ok(None),
            answer => answer?,
        };
        if answer.status == Status::NO_MORE_FILES {
            return Ok(None);
        }
        let mut found = Vec::new();
        for (name, entry) in message::entries(&answer)? {
            if let Some(name) = text(&name).filter(|name| name != "." && name != "..") {
                found.push(Found { name, attributes: Attributes::of(&entry) });
            }
        }
        Ok(Some(found))
    }
}

#[cfg(test)]
mod tests {
    use secrecy::SecretString;
    use tokio::io::{AsyncReadExt, AsyncWriteExt};

    use super::*;

    /// What comes of a connection to a server that says this and no more.
    async fn told(said: Vec<u8>, hang_up: bool) -> Error {
        let (ours, mut theirs) = tokio::io::duplex(1 << 16);
        let server = tokio::spawn(async move {
            let mut hello = [0; 64];
            let _ = theirs.read_exact(&mut hello).await;
            let _ = theirs.write_all(&said).await;
            if !hang_up {
                std::future::pending::<()>().await;
            }
        });
        let account = Account { domain: String::new(), user: "merrow".to_owned(), password: SecretString::from("x") };
        let silence = Duration::from_millis(100);
        let connected = Client::connect(ours, "files", "survey", &account, Protection::Signed, silence).await;
        server.abort();
        connected.expect_err("it said nothing that makes sense")
    }

    #[tokio::test]
    async fn a_server_that_is_none_is_told_soon() {
        for (said, hang_up) in [
            (b"SSH-2.0-OpenSSH_9.2p1 Debian\r\n".to_vec(), false),
            (b"220 ProFTPD Server ready.\r\n".to_vec(), true),
            (vec![0, 0, 0, 4, 0xff, b'S', b'M', b'B'], true),
            (vec![0xff; 4], true),
            (Vec::new(), true),
            (Vec::new(), false),
        ] {
            let error = tokio::time::timeout(Duration::from_secs(5), told(said.clone(), hang_up)).await;
            let error = error.expect("it is told, it does not hang");
            assert!(!matches!(error, Error::Status(_)), "{said:?}: {error}");
        }
    }
}
