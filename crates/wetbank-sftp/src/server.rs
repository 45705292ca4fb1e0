//! The server: answers requests on files that somebody else provides.

use std::{collections::HashMap, io, sync::Arc};

use bytes::Bytes;
use tokio::{
    sync::{Semaphore, mpsc},
    task::JoinSet,
};

use crate::{
    Attributes, Incoming, Malformed, Name, Outgoing, StatusCode,
    codec::{Fields, Packet, Packets, kind},
};

/// Reads and writes at work at once on one connection.
const AT_ONCE: usize = 16;
/// Files and directories open at once on one connection.
const OPEN: usize = 256;
/// Answers that wait to be sent.
const QUEUE: usize = 64;
/// Names in one answer of a directory.
const NAMES: usize = 100;
/// The longest read answered at once.
const LONGEST_READ: u32 = 255 << 10;

/// A failure as the client is told it.
#[derive(Debug, Clone)]
pub struct Status {
    /// The code.
    pub code: StatusCode,
    /// Words for people.
    pub message: String,
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

type Answer<T> = Result<T, Status>;

/// An open file of a server.
pub trait OpenFile: Send + Sync + 'static {
    /// Reads at an offset; empty at the end.
    fn read(&self, offset: u64, length: u32) -> impl Future<Output = Answer<Bytes>> + Send;
    /// Writes at an offset.
    fn write(&self, offset: u64, data: Bytes) -> impl Future<Output = Answer<()>> + Send;
    /// Its attributes.
    fn attributes(&self) -> impl Future<Output = Answer<Attributes>> + Send;
    /// Cuts it to a length.
    fn set_length(&self, length: u64) -> impl Future<Output = Answer<()>> + Send;
    /// Waits until it is on disk.
    fn sync(&self) -> impl Future<Output = Answer<()>> + Send;
}

/// What a server serves. Paths are as the client sent them; keeping them inside is up to this.
pub trait Files: Send + Sync + 'static {
    /// An open file.
    type File: OpenFile;
    /// Opens a file to read, to write, or anew.
    fn open(
        &self,
        path: &[u8],
        write: bool,
        create: bool,
        exclusive: bool,
        truncate: bool,
    ) -> impl Future<Output = Answer<Self::File>> + Send;
    /// All names of a directory.
    fn names(&self, path: &[u8]) -> impl Future<Output = Answer<Vec<Name>>> + Send;
    /// Attributes, of a link itself unless `follow`.
    fn attributes(&self, path: &[u8], follow: bool) -> impl Future<Output = Answer<Attributes>> + Send;
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
}

/// Why serving ended before the client was done.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ServeError {
    /// The connection failed.
    #[error("the connection broke")]
    Io(#[from] io::Error),
    /// The client broke the protocol.
    #[error("the client broke the protocol")]
    Protocol(#[from] Malformed),
}

enum Open<F> {
    File(Arc<F>),
    Directory(std::vec::IntoIter<Name>),
}

/// Serves one client until it goes.
pub async fn serve<F: Files>(
    files: Arc<F>,
    mut incoming: impl Incoming,
    mut outgoing: impl Outgoing,
) -> Result<(), ServeError> {
    let (answers, mut queue) = mpsc::channel::<Bytes>(QUEUE);
    let writer = tokio::spawn(async move {
        while let Some(answer) = queue.recv().await {
            if outgoing.send(answer).await.is_err() {
                break;
            }
        }
    });
    let mut serving = Serving {
        files,
        answers,
        open: HashMap::new(),
        next_handle: 0,
        busy: JoinSet::new(),
        slots: Arc::new(Semaphore::new(AT_ONCE)),
    };
    let mut packets = Packets::default();
    let result = loop {
        match packets.next() {
            Ok(Some(packet)) => {
                if let Err(error) = serving.handle(packet).await {
                    break Err(error.into());
                }
                continue;
            }
            Ok(None) => {}
            Err(error) => break Err(error.into()),
        }
        match incoming.next().await {
            Ok(Some(bytes)) => packets.extend(&bytes),
            Ok(None) => break Ok(()),
            Err(error) => break Err(error.into()),
        }
    };
    drop(serving);
    let _ = writer.await;
    result
}

struct Serving<F: Files> {
    files: Arc<F>,
    answers: mpsc::Sender<Bytes>,
    open: HashMap<Bytes, Open<F::File>>,
    next_handle: u64,
    /// Reads and writes may overlap; everything else waits until they are done.
    busy: JoinSet<()>,
    slots: Arc<Semaphore>,
}

fn status(id: u32, result: Answer<()>) -> Bytes {
    let (code, message) = match result {
        Ok(()) => (StatusCode::Ok, "done".to_owned()),
        Err(status) => (status.code, status.message),
    };
    Packet::numbered(kind::STATUS, id).u32(code.to_wire()).string(message.as_bytes()).string(b"en").finish()
}

fn told<T>(id: u32, result: Answer<T>, tell: impl FnOnce(T) -> Packet) -> Bytes {
    match result {
        Ok(value) => tell(value).finish(),
        Err(error) => status(id, Err(error)),
    }
}

fn fail(code: StatusCode, message: &str) -> Status {
    Status { code, message: message.to_owned() }
}

impl<F: Files> Serving<F> {
    async fn handle(&mut self, mut packet: Bytes) -> Result<(), Malformed> {
        let request = packet.u8_field()?;
        if request == kind::INIT {
            let mut hello = Packet::new(kind::VERSION).u32(3);
            for name in ["posix-rename@openssh.com", "fsync@openssh.com", "limits@openssh.com"] {
                hello = hello.string(name.as_bytes()).string(b"1");
            }
            let _ = self.answers.send(hello.finish()).await;
            return Ok(());
        }
        let id = packet.u32_field()?;
        if matches!(request, kind::READ | kind::WRITE) {
            return self.transfer(request, id, packet).await;
        }
        while self.busy.join_next().await.is_some() {}
        let answer = self.answer(request, id, packet).await?;
        let _ = self.answers.send(answer).await;
        Ok(())
    }

    async fn transfer(&mut self, request: u8, id: u32, mut packet: Bytes) -> Result<(), Malformed> {
        let (handle, offset) = (packet.string_field()?, packet.u64_field()?);
        let Some(Open::File(file)) = self.open.get(&handle) else {
            let _ = self.answers.send(status(id, Err(fail(StatusCode::Failure, "no such handle")))).await;
            return Ok(());
        };
        let (file, answers) = (file.clone(), self.answers.clone());
        let slot = self.slots.clone().acquire_owned().await;
        while self.busy.try_join_next().is_some() {}
        if request == kind::READ {
            let length = packet.u32_field()?.min(LONGEST_READ);
            self.busy.spawn(async move {
                let answer = match file.read(offset, length).await {
                    Ok(data) if data.is_empty() => status(id, Err(fail(StatusCode::Eof, "end of file"))),
                    result => told(id, result, |data| Packet::numbered(kind::DATA, id).string(&data)),
                };
                let _ = answers.send(answer).await;
                drop(slot);
            });
        } else {
            let data = packet.string_field()?;
            self.busy.spawn(async move {
                let _ = answers.send(status(id, file.write(offset, data).await)).await;
                drop(slot);
            });
        }
        Ok(())
    }

    fn keep(&mut self, id: u32, open: Open<F::File>) -> Bytes {
        if self.open.len() >= OPEN {
            return status(id, Err(fail(StatusCode::Failure, "too many open files")));
        }
        self.next_handle += 1;
        let handle = Bytes::copy_from_slice(&self.next_handle.to_be_bytes());
        self.open.insert(handle.clone(), open);
        Packet::numbered(kind::HANDLE, id).string(&handle).finish()
    }

    fn file(&self, handle: &Bytes) -> Answer<Arc<F::File>> {
        match self.open.get(handle) {
            Some(Open::File(file)) => Ok(file.clone()),
            _ => Err(fail(StatusCode::Failure, "no such handle")),
        }
    }

    async fn answer(&mut self, request: u8, id: u32, mut packet: Bytes) -> Result<Bytes, Malformed> {
        let attributes = |a: Attributes| Packet::numbered(kind::ATTRS, id).raw(&a.to_bytes());
        Ok(match request {
            kind::OPEN => {
                let (path, flags) = (packet.string_field()?, packet.u32_field()?);
                let has = |flag: u32| flags & flag != 0;
                match self.files.open(&path, has(2), has(8), has(0x20), has(0x10)).await {
                    Ok(file) => self.keep(id, Open::File(Arc::new(file))),
                    Err(error) => status(id, Err(error)),
                }
            }
            kind::CLOSE => {
                let there = self.open.remove(&packet.string_field()?).is_some();
                status(id, if there { Ok(()) } else { Err(fail(StatusCode::Failure, "no such handle")) })
            }
            kind::LSTAT | kind::STAT => {
                let path = packet.string_field()?;
                told(id, self.files.attributes(&path, request == kind::STAT).await, attributes)
            }
            kind::FSTAT => match self.file(&packet.string_field()?) {
                Ok(file) => told(id, file.attributes().await, attributes),
                Err(error) => status(id, Err(error)),
            },
            kind::FSETSTAT => {
                let handle = packet.string_field()?;
                let wanted = Attributes::read(&mut packet)?;
                match (self.file(&handle), wanted.size) {
                    (Ok(file), Some(size)) => status(id, file.set_length(size).await),
                    (result, _) => status(id, result.map(drop)),
                }
            }
            kind::SETSTAT => status(id, Ok(())),
            kind::OPENDIR => match self.files.names(&packet.string_field()?).await {
                Ok(names) => self.keep(id, Open::Directory(names.into_iter())),
                Err(error) => status(id, Err(error)),
            },
            kind::READDIR => {
                let Some(Open::Directory(names)) = self.open.get_mut(&packet.string_field()?) else {
                    return Ok(status(id, Err(fail(StatusCode::Failure, "no such handle"))));
                };
                let page: Vec<_> = names.by_ref().take(NAMES).collect();
                if page.is_empty() {
                    return Ok(status(id, Err(fail(StatusCode::Eof, "no more names"))));
                }
                let mut answer = Packet::numbered(kind::NAME, id).u32(page.len() as u32);
                for name in page {
                    answer = answer.string(&name.name).string(&name.name).raw(&name.attributes.to_bytes());
                }
                answer.finish()
            }
            kind::REMOVE => status(id, self.files.remove(&packet.string_field()?).await),
            kind::MKDIR => status(id, self.files.make_directory(&packet.string_field()?).await),
            kind::RMDIR => status(id, self.files.remove_directory(&packet.string_field()?).await),
            kind::RENAME => {
                let (from, to) = (packet.string_field()?, packet.string_field()?);
                status(id, self.files.rename(&from, &to, false).await)
            }
            kind::REALPATH => {
                let path = packet.string_field()?;
                told(id, self.files.real_path(&path).await, |real| {
                    let none = Attributes::default().to_bytes();
                    Packet::numbered(kind::NAME, id).u32(1).string(&real).string(&real).raw(&none)
                })
            }
            kind::EXTENDED => self.extended(id, packet).await?,
            _ => status(id, Err(fail(StatusCode::Unsupported, "unknown request"))),
        })
    }

    async fn extended(&mut self, id: u32, mut packet: Bytes) -> Result<Bytes, Malformed> {
        let name = packet.string_field()?;
        Ok(match &name[..] {
            b"posix-rename@openssh.com" => {
                let (from, to) = (packet.string_field()?, packet.string_field()?);
                status(id, self.files.rename(&from, &to, true).await)
            }
            b"fsync@openssh.com" => match self.file(&packet.string_field()?) {
                Ok(file) => status(id, file.sync().await),
                Err(error) => status(id, Err(error)),
            },
            b"limits@openssh.com" => Packet::numbered(kind::EXTENDED_REPLY, id)
                .u64(256 << 10)
                .u64(u64::from(LONGEST_READ))
                .u64(u64::from(LONGEST_READ))
                .u64(OPEN as u64)
                .finish(),
            _ => status(id, Err(fail(StatusCode::Unsupported, "unknown extension"))),
        })
    }
}
