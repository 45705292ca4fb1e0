//! What a server serves, as whoever provides it sees it.

use std::{collections::VecDeque, io};

use bytes::Bytes;

use crate::{Attributes, Name, StatusCode};

/// A failure as the client is told it.
#[derive(Debug, Clone)]
pub struct Status {
    /// The code.
    pub code: StatusCode,
    /// Words for people.
    pub message: String,
}

impl Status {
    /// A failure with these words.
    pub fn new(code: StatusCode, message: impl Into<String>) -> Self {
        Self { code, message: message.into() }
    }
}

impl From<io::Error> for Status {
    fn from(error: io::Error) -> Self {
        let code = match error.kind() {
            io::ErrorKind::NotFound => StatusCode::NoSuchFile,
            io::ErrorKind::PermissionDenied => StatusCode::PermissionDenied,
            io::ErrorKind::Unsupported => StatusCode::Unsupported,
            _ => StatusCode::Failure,
        };
        Self { code, message: error.to_string() }
    }
}

/// What a server answers.
pub type Answer<T> = Result<T, Status>;

/// How a client opens a file (section 6.3).
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Opening {
    /// To read.
    pub read: bool,
    /// To write.
    pub write: bool,
    /// To write at its end.
    pub append: bool,
    /// It is made if it is not there.
    pub create: bool,
    /// It starts empty.
    pub truncate: bool,
    /// It must not be there.
    pub exclusive: bool,
}

impl Opening {
    pub(super) fn of(flags: u32) -> Self {
        let has = |flag: u32| flags & flag != 0;
        Self { read: has(1), write: has(2), append: has(4), create: has(8), truncate: has(0x10), exclusive: has(0x20) }
    }
}

/// How much room there is, in bytes and in files.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Room {
    /// Bytes in all.
    pub bytes: u64,
    /// Bytes that are free.
    pub free: u64,
}

/// An open file of a server.
pub trait OpenFile: Send + Sync + 'static {
    /// Reads at an offset; empty at the end.
    fn read(&self, offset: u64, length: u32) -> impl Future<Output = Answer<Bytes>> + Send;
    /// Writes at an offset.
    fn write(&self, offset: u64, data: Bytes) -> impl Future<Output = Answer<()>> + Send;
    /// Its attributes.
    fn attributes(&self) -> impl Future<Output = Answer<Attributes>> + Send;
    /// Changes those attributes that are given.
    fn set_attributes(&self, wanted: Attributes) -> impl Future<Output = Answer<()>> + Send;
    /// Waits until it is on disk.
    fn sync(&self) -> impl Future<Output = Answer<()>> + Send;
    /// The client is done with it, and waits for this answer. One that is dropped without it was cut off.
    fn close(&self) -> impl Future<Output = Answer<()>> + Send {
        std::future::ready(Ok(()))
    }
}

/// An open directory of a server.
pub trait OpenFolder: Send + 'static {
    /// The next names, not more than so many; none at the end.
    fn next(&mut self, most: usize) -> impl Future<Output = Answer<Vec<Name>>> + Send;
}

/// The names of a directory that is known whole.
#[derive(Debug)]
pub struct Listed(VecDeque<Name>);

impl From<Vec<Name>> for Listed {
    fn from(names: Vec<Name>) -> Self {
        Self(names.into())
    }
}

impl OpenFolder for Listed {
    async fn next(&mut self, most: usize) -> Answer<Vec<Name>> {
        Ok(self.0.drain(..most.min(self.0.len())).collect())
    }
}

/// What a server serves. Paths are as the client sent them; keeping them inside is up to this.
pub trait Files: Send + Sync + 'static {
    /// An open file.
    type File: OpenFile;
    /// An open directory.
    type Folder: OpenFolder;
    /// Opens a file.
    fn open(&self, path: &[u8], how: Opening) -> impl Future<Output = Answer<Self::File>> + Send;
    /// Opens a directory.
    fn folder(&self, path: &[u8]) -> impl Future<Output = Answer<Self::Folder>> + Send;
    /// Attributes, of a link itself unless `follow`.
    fn attributes(&self, path: &[u8], follow: bool) -> impl Future<Output = Answer<Attributes>> + Send;
    /// Changes those attributes that are given.
    fn set_attributes(&self, _path: &[u8], _wanted: Attributes) -> impl Future<Output = Answer<()>> + Send {
        std::future::ready(Ok(()))
    }
    /// Removes a file.
    fn remove(&self, path: &[u8]) -> impl Future<Output = Answer<()>> + Send;
    /// Makes a directory.
    fn make_directory(&self, path: &[u8]) -> impl Future<Output = Answer<()>> + Send;
    /// Removes an empty directory.
    fn remove_directory(&self, path: &[u8]) -> impl Future<Output = Answer<()>> + Send;
    /// Renames, replacing the target or failing if it exists.
    fn rename(&self, from: &[u8], to: &[u8], replace: bool) -> impl Future<Output = Answer<()>> + Send;
    /// The absolute form of a path.
    fn real_path(&self, path: &[u8]) -> impl Future<Output = Answer<Bytes>> + Send;
    /// How much room there is where a path lies.
    fn room(&self, _path: &[u8]) -> impl Future<Output = Answer<Room>> + Send {
        std::future::ready(Err(Status::new(StatusCode::Unsupported, "how much room there is is not told")))
    }
}
