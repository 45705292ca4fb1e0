//! The client: many requests in flight on one connection.

mod session;

use std::{io, sync::Arc, time::Duration};

use bytes::Bytes;
use futures_util::{Stream, StreamExt, stream};

use crate::{
    Attributes, Incoming, Malformed, Outgoing, StatusCode,
    codec::{Fields, Packet, kind},
};
use session::Session;

/// Requests in flight on one connection: enough for small files to overlap, few enough that a
/// server's own queue stays short.
const IN_FLIGHT: usize = 64;
/// The lengths that every server takes (section 6.4), used where it names no limits.
const SAFE_LENGTH: u64 = 32 << 10;
/// A write of this length fills whole SSH packets.
const BEST_WRITE: u64 = 229_347;
const BEST_READ: u64 = 255 << 10;
/// Large requests in flight for one file.
const AHEAD: usize = 16;

/// Why a request failed.
#[derive(Debug, Clone, thiserror::Error)]
#[non_exhaustive]
pub enum ClientError {
    /// The server said no.
    #[error("{}", words(*.code, .message))]
    Status {
        /// Its code.
        code: StatusCode,
        /// Its words, made readable.
        message: String,
    },
    /// The server was silent for too long.
    #[error("the server did not answer for {} s", .0.as_secs())]
    TimedOut(Duration),
    /// The connection is gone.
    #[error("the connection broke: {0}")]
    Lost(String),
    /// The server broke the protocol.
    #[error("the server broke the protocol: {0}")]
    Protocol(#[from] Malformed),
}

fn words(code: StatusCode, message: &str) -> String {
    let plain = match code {
        StatusCode::NoSuchFile => "no such file",
        StatusCode::PermissionDenied => "permission denied",
        StatusCode::Unsupported => "the server cannot do this",
        StatusCode::Eof => "end of file",
        _ => "the server refused",
    };
    if message.is_empty() || message.eq_ignore_ascii_case(plain) {
        plain.to_owned()
    } else {
        format!("{plain}: {message}")
    }
}

impl ClientError {
    /// The status code, if the server said no.
    pub fn code(&self) -> Option<StatusCode> {
        match self {
            Self::Status { code, .. } => Some(*code),
            _ => None,
        }
    }

    /// Whether the connection is of no more use.
    pub fn is_fatal(&self) -> bool {
        !matches!(self, Self::Status { .. })
    }
}

type Result<T> = std::result::Result<T, ClientError>;

/// How to open a file (section 6.3).
#[derive(Debug, Clone, Copy)]
pub struct OpenFlags(u32);

impl OpenFlags {
    /// Read an existing file.
    pub const READ: Self = Self(1);
    /// Write an existing file, keeping its content.
    pub const WRITE: Self = Self(2);
    /// Make a new file to write; it must not exist.
    pub const CREATE_NEW: Self = Self(2 | 8 | 0x20);
}

/// The lengths of requests on a connection.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Limits {
    /// Bytes in one read.
    pub read: u64,
    /// Bytes in one write.
    pub write: u64,
}

/// Free space where a path lies.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct SpaceLeft {
    /// Bytes that we may use.
    pub bytes: u64,
}

/// A name in a directory, as the server keeps it.
#[derive(Debug, Clone)]
pub struct Name {
    /// The bare name.
    pub name: Bytes,
    /// Its line for people, in any form the server likes (section 7).
    pub long_form: Bytes,
    /// Its attributes; a link's own.
    pub attributes: Attributes,
}

/// A connection. Clones share it.
#[derive(Debug, Clone)]
pub struct Client {
    session: Arc<Session>,
    limits: Limits,
}

/// An open file. Dropping it closes it.
#[derive(Debug, Clone)]
pub struct RemoteFile {
    inner: Arc<Handle>,
    limits: Limits,
}

/// An open directory. Dropping it closes it.
#[derive(Debug)]
pub struct Directory {
    inner: Arc<Handle>,
}

#[derive(Debug)]
struct Handle {
    session: Arc<Session>,
    handle: Bytes,
}

impl Drop for Handle {
    fn drop(&mut self) {
        self.session.close_later(self.handle.clone());
    }
}

impl Client {
    /// Says hello (section 4) and asks for the server's limits. `silence` is how long the server
    /// may be silent while we wait for it.
    pub async fn connect(incoming: impl Incoming, outgoing: impl Outgoing, silence: Duration) -> Result<Self> {
        let session = Session::start(incoming, outgoing, silence, IN_FLIGHT).await?;
        let mut client = Self { session: Arc::new(session), limits: Limits { read: SAFE_LENGTH, write: SAFE_LENGTH } };
        if client.session.offers("limits@openssh.com") {
            client.limits = client.ask_limits().await?;
        }
        Ok(client)
    }

    async fn ask_limits(&self) -> Result<Limits> {
        let mut reply = self.extended("limits@openssh.com", |packet| packet).await?;
        let (_packet, read, write) = (reply.u64_field()?, reply.u64_field()?, reply.u64_field()?);
        // Zero means that the server has no limit of its own.
        let within = |limit: u64, best: u64| if limit == 0 { best } else { limit.min(best).max(1024) };
        Ok(Limits { read: within(read, BEST_READ), write: within(write, BEST_WRITE) })
    }

    /// The lengths in use.
    pub fn limits(&self) -> Limits {
        self.limits
    }

    /// Whether renaming can replace its target.
    pub fn can_replace(&self) -> bool {
        self.session.offers("posix-rename@openssh.com")
    }

    /// Whether the connection is gone.
    pub fn is_closed(&self) -> bool {
        self.session.is_closed()
    }

    /// Requests that wait for an answer: the load of the connection.
    pub fn in_flight(&self) -> usize {
        self.session.in_flight()
    }

    async fn path_request(&self, kind: u8, path: &[u8], more: impl FnOnce(Packet) -> Packet) -> Result<(u8, Bytes)> {
        self.session.request(|id| more(Packet::numbered(kind, id).string(path))).await
    }

    async fn extended(&self, name: &str, more: impl FnOnce(Packet) -> Packet) -> Result<Bytes> {
        let (kind, body) =
            self.session.request(|id| more(Packet::numbered(kind::EXTENDED, id).string(name.as_bytes()))).await?;
        match kind {
            kind::EXTENDED_REPLY => Ok(body),
            _ => {
                done(kind, body)?;
                Ok(Bytes::new())
            }
        }
    }

    /// Opens a file (section 6.3).
    pub async fn open(&self, path: &[u8], flags: OpenFlags) -> Result<RemoteFile> {
        let attributes = Attributes::default().to_bytes();
        let (kind, body) = self.path_request(kind::OPEN, path, |p| p.u32(flags.0).raw(&attributes)).await?;
        Ok(RemoteFile { inner: self.handle(kind, body)?, limits: self.limits })
    }

    /// Opens a directory (section 6.7).
    pub async fn open_directory(&self, path: &[u8]) -> Result<Directory> {
        let (kind, body) = self.path_request(kind::OPENDIR, path, |p| p).await?;
        Ok(Directory { inner: self.handle(kind, body)? })
    }

    fn handle(&self, kind: u8, mut body: Bytes) -> Result<Arc<Handle>> {
        if kind != kind::HANDLE {
            return Err(unexpected(kind, body));
        }
        Ok(Arc::new(Handle { session: self.session.clone(), handle: body.string_field()? }))
    }

    /// Attributes of a path; a link's own (section 6.8).
    pub async fn lstat(&self, path: &[u8]) -> Result<Attributes> {
        let (kind, body) = self.path_request(kind::LSTAT, path, |p| p).await?;
        attributes(kind, body)
    }

    /// Says when a file was last read and changed, in seconds since 1970 (section 6.9).
    pub async fn set_times(&self, path: &[u8], seconds: u32) -> Result<()> {
        let attributes = Attributes { times: Some((seconds, seconds)), ..Attributes::default() }.to_bytes();
        let (kind, body) = self.path_request(kind::SETSTAT, path, |packet| packet.raw(&attributes)).await?;
        done(kind, body)
    }

    /// Attributes of what a path leads to (section 6.8).
    pub async fn stat(&self, path: &[u8]) -> Result<Attributes> {
        let (kind, body) = self.path_request(kind::STAT, path, |p| p).await?;
        attributes(kind, body)
    }

    /// Removes a file (section 6.5).
    pub async fn remove(&self, path: &[u8]) -> Result<()> {
        let (kind, body) = self.path_request(kind::REMOVE, path, |p| p).await?;
        done(kind, body)
    }

    /// Makes a directory (section 6.6).
    pub async fn make_directory(&self, path: &[u8]) -> Result<()> {
        let attributes = Attributes::default().to_bytes();
        let (kind, body) = self.path_request(kind::MKDIR, path, |p| p.raw(&attributes)).await?;
        done(kind, body)
    }

    /// Removes an empty directory (section 6.6).
    pub async fn remove_directory(&self, path: &[u8]) -> Result<()> {
        let (kind, body) = self.path_request(kind::RMDIR, path, |p| p).await?;
        done(kind, body)
    }

    /// Renames; fails if the target exists (section 6.5).
    pub async fn rename(&self, from: &[u8], to: &[u8]) -> Result<()> {
        let (kind, body) = self.path_request(kind::RENAME, from, |p| p.string(to)).await?;
        done(kind, body)
    }

    /// Renames as POSIX does, replacing the target in one step (an extension of OpenSSH).
    pub async fn rename_replacing(&self, from: &[u8], to: &[u8]) -> Result<()> {
        self.extended("posix-rename@openssh.com", |p| p.string(from).string(to)).await.map(drop)
    }

    /// The absolute path that a path means (section 6.11).
    pub async fn real_path(&self, path: &[u8]) -> Result<Bytes> {
        let (kind, mut body) = self.path_request(kind::REALPATH, path, |p| p).await?;
        if kind != kind::NAME {
            return Err(unexpected(kind, body));
        }
        if body.u32_field()? == 0 {
            return Err(Malformed("no name where one was asked").into());
        }
        Ok(body.string_field()?)
    }

    /// Free space where a path lies, if the server can tell (an extension of OpenSSH).
    pub async fn space_left(&self, path: &[u8]) -> Result<Option<SpaceLeft>> {
        if !self.session.offers("statvfs@openssh.com") {
            return Ok(None);
        }
        let mut reply = match self.extended("statvfs@openssh.com", |p| p.string(path)).await {
            // It offers to tell of some paths only.
            Err(error) if error.code() == Some(StatusCode::Unsupported) => return Ok(None),
            reply => reply?,
        };
        let (_block, fragment) = (reply.u64_field()?, reply.u64_field()?);
        let (_blocks, _free, available) = (reply.u64_field()?, reply.u64_field()?, reply.u64_field()?);
        Ok(Some(SpaceLeft { bytes: fragment.saturating_mul(available) }))
    }
}

impl RemoteFile {
    async fn read_once(&self, offset: u64, length: u32) -> Result<Option<Bytes>> {
        let handle = &self.inner.handle;
        let (kind, mut body) = self
            .inner
            .session
            .request(|id| Packet::numbered(kind::READ, id).string(handle).u64(offset).u32(length))
            .await?;
        match kind {
            kind::DATA => {
                let data = body.string_field()?;
                if data.is_empty() || data.len() > length as usize {
                    return Err(Malformed("a read brought nothing, or more than was asked").into());
                }
                Ok(Some(data))
            }
            _ => match done(kind, body) {
                Err(ClientError::Status { code: StatusCode::Eof, .. }) => Ok(None),
                Err(error) => Err(error),
                Ok(()) => Err(Malformed("a read brought no data").into()),
            },
        }
    }

    /// Reads at an offset until the length is full or the file ends; short reads go on.
    async fn read_full(self, offset: u64, length: u64) -> Result<Vec<Bytes>> {
        let mut pieces = Vec::with_capacity(1);
        let mut got = 0;
        while got < length {
            // At most BEST_READ.
            let Some(piece) = self.read_once(offset + got, (length - got) as u32).await? else { break };
            got += piece.len() as u64;
            pieces.push(piece);
        }
        Ok(pieces)
    }

    /// The content from an offset to the end, in order, read ahead.
    pub fn content(self, from: u64) -> impl Stream<Item = Result<Bytes>> + Send {
        let length = self.limits.read;
        stream::iter((0..).map(move |n| from + n * length))
            .map(move |offset| self.clone().read_full(offset, length))
            .buffered(AHEAD)
            // A piece shorter than was asked is the last one; an empty one lies behind the end.
            .scan(false, move |ended, pieces| {
                let result = match pieces {
                    _ if *ended => None,
                    Err(error) => {
                        *ended = true;
                        Some(Err(error))
                    }
                    Ok(pieces) => {
                        *ended = pieces.iter().map(|p| p.len() as u64).sum::<u64>() < length;
                        Some(Ok(pieces))
                    }
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

    /// Writes at an offset; at most [`Limits::write`] bytes (section 6.4).
    pub async fn write(&self, offset: u64, data: Bytes) -> Result<()> {
        let handle = &self.inner.handle;
        let (kind, body) = self
            .inner
            .session
            .request(|id| Packet::numbered(kind::WRITE, id).string(handle).u64(offset).string(&data))
            .await?;
        done(kind, body)
    }

    /// The file's attributes (section 6.8).
    pub async fn attributes(&self) -> Result<Attributes> {
        let handle = &self.inner.handle;
        let (kind, body) = self.inner.session.request(|id| Packet::numbered(kind::FSTAT, id).string(handle)).await?;
        attributes(kind, body)
    }

    /// Cuts the file to a length (section 6.9).
    pub async fn set_length(&self, length: u64) -> Result<()> {
        let handle = &self.inner.handle;
        let attributes = Attributes { size: Some(length), ..Attributes::default() }.to_bytes();
        let (kind, body) = self
            .inner
            .session
            .request(|id| Packet::numbered(kind::FSETSTAT, id).string(handle).raw(&attributes))
            .await?;
        done(kind, body)
    }

    /// Waits until the server has the file on disk, if it can say so (an extension of OpenSSH).
    pub async fn sync(&self) -> Result<()> {
        let session = &self.inner.session;
        if !session.offers("fsync@openssh.com") {
            return Ok(());
        }
        let handle = &self.inner.handle;
        let (kind, body) = session
            .request(|id| Packet::numbered(kind::EXTENDED, id).string(b"fsync@openssh.com").string(handle))
            .await?;
        done(kind, body)
    }

    /// The lengths of requests.
    pub fn limits(&self) -> Limits {
        self.limits
    }
}

impl Directory {
    /// The next names, `.` and `..` left out; nothing at the end (section 6.7).
    pub async fn next(&self) -> Result<Option<Vec<Name>>> {
        let handle = &self.inner.handle;
        let (kind, mut body) =
            self.inner.session.request(|id| Packet::numbered(kind::READDIR, id).string(handle)).await?;
        if kind != kind::NAME {
            return match done(kind, body) {
                Err(ClientError::Status { code: StatusCode::Eof, .. }) => Ok(None),
                Err(error) => Err(error),
                Ok(()) => Err(Malformed("a directory brought no names").into()),
            };
        }
        // The count only bounds the loop; memory grows with the bytes that are really there.
        let count = body.u32_field()?;
        let mut names = Vec::new();
        for _ in 0..count {
            let name = body.string_field()?;
            let long_form = body.string_field()?;
            let attributes = Attributes::read(&mut body)?;
            if name != "." && name != ".." {
                names.push(Name { name, long_form, attributes });
            }
        }
        Ok(Some(names))
    }
}

fn status(mut body: Bytes) -> ClientError {
    let Ok(code) = body.u32_field() else { return Malformed("a status without a code").into() };
    // Old servers leave out message and language.
    let message = body.string_field().unwrap_or_default();
    let message: String = String::from_utf8_lossy(&message).chars().filter(|c| !c.is_control()).take(300).collect();
    ClientError::Status { code: StatusCode::from_wire(code), message }
}

fn done(kind: u8, body: Bytes) -> Result<()> {
    match kind {
        kind::STATUS => match status(body) {
            ClientError::Status { code: StatusCode::Ok, .. } => Ok(()),
            error => Err(error),
        },
        _ => Err(Malformed("an answer of the wrong type").into()),
    }
}

fn unexpected(kind: u8, body: Bytes) -> ClientError {
    if kind == kind::STATUS { status(body) } else { Malformed("an answer of the wrong type").into() }
}

fn attributes(kind: u8, mut body: Bytes) -> Result<Attributes> {
    if kind != kind::ATTRS {
        return Err(unexpected(kind, body));
    }
    Ok(Attributes::read(&mut body)?)
}

impl From<io::Error> for ClientError {
    fn from(error: io::Error) -> Self {
        Self::Lost(error.to_string())
    }
}
