//! The server: answers requests on files that somebody else provides.

mod files;
mod long;

use std::{collections::HashMap, io, sync::Arc, time::SystemTime};

use bytes::Bytes;
use tokio::{
    sync::{Semaphore, mpsc},
    task::JoinSet,
};

use crate::{
    Attributes, Incoming, Malformed, Outgoing, StatusCode,
    codec::{Fields, Packet, Packets, kind},
};
pub use files::{Answer, Files, Listed, OpenFile, OpenFolder, Opening, Room, Status};

/// Reads and writes at work at once on one connection.
const AT_ONCE: usize = 16;
/// Files and directories open at once on one connection.
const OPEN: usize = 256;
/// Answers that wait to be sent.
const QUEUE: usize = 64;
/// Names in one answer of a directory.
const NAMES: usize = 100;
/// What room is told in.
const BLOCK: u64 = 4096;
/// Bytes in one name.
const LONGEST_NAME: u64 = 255;
/// The longest read answered at once.
const LONGEST_READ: u32 = 255 << 10;

/// Extensions that are told, each with its version (OpenSSH's PROTOCOL file, section 4).
const EXTENSIONS: [(&str, &[u8]); 4] = [
    ("posix-rename@openssh.com", b"1"),
    ("fsync@openssh.com", b"1"),
    ("limits@openssh.com", b"1"),
    ("statvfs@openssh.com", b"2"),
];

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

enum Open<F: Files> {
    File(Arc<F::File>),
    Directory(F::Folder),
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
    // What was asked for is done to its end: nothing is left half written.
    while serving.busy.join_next().await.is_some() {}
    drop(serving);
    let _ = writer.await;
    result
}

struct Serving<F: Files> {
    files: Arc<F>,
    answers: mpsc::Sender<Bytes>,
    open: HashMap<Bytes, Open<F>>,
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

fn no_handle() -> Status {
    Status::new(StatusCode::Failure, "there is no such handle")
}

impl<F: Files> Serving<F> {
    async fn handle(&mut self, mut packet: Bytes) -> Result<(), Malformed> {
        let request = packet.u8_field()?;
        if request == kind::INIT {
            let mut hello = Packet::new(kind::VERSION).u32(3);
            for (name, version) in EXTENSIONS {
                hello = hello.string(name.as_bytes()).string(version);
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
            let _ = self.answers.send(status(id, Err(no_handle()))).await;
            return Ok(());
        };
        let (file, answers) = (file.clone(), self.answers.clone());
        let slot = self.slots.clone().acquire_owned().await;
        while self.busy.try_join_next().is_some() {}
        if request == kind::READ {
            let length = packet.u32_field()?.min(LONGEST_READ);
            self.busy.spawn(async move {
                let answer = match file.read(offset, length).await {
                    Ok(data) if data.is_empty() => status(id, Err(Status::new(StatusCode::Eof, "end of file"))),
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

    /// Whether one more may be opened.
    fn has_handles(&self) -> Answer<()> {
        match self.open.len() < OPEN {
            true => Ok(()),
            false => Err(Status::new(StatusCode::Failure, format!("{OPEN} files are open; close one first"))),
        }
    }

    fn keep(&mut self, id: u32, open: Open<F>) -> Bytes {
        self.next_handle += 1;
        let handle = Bytes::copy_from_slice(&self.next_handle.to_be_bytes());
        self.open.insert(handle.clone(), open);
        Packet::numbered(kind::HANDLE, id).string(&handle).finish()
    }

    fn file(&self, handle: &Bytes) -> Answer<Arc<F::File>> {
        match self.open.get(handle) {
            Some(Open::File(file)) => Ok(file.clone()),
            _ => Err(no_handle()),
        }
    }

    async fn answer(&mut self, request: u8, id: u32, mut packet: Bytes) -> Result<Bytes, Malformed> {
        let attributes = |a: Attributes| Packet::numbered(kind::ATTRS, id).raw(&a.to_bytes());
        Ok(match request {
            kind::OPEN => {
                let (path, how) = (packet.string_field()?, Opening::of(packet.u32_field()?));
                let opened = match self.has_handles() {
                    Ok(()) => self.files.open(&path, how).await,
                    Err(error) => Err(error),
                };
                match opened {
                    Ok(file) => self.keep(id, Open::File(Arc::new(file))),
                    Err(error) => status(id, Err(error)),
                }
            }
            kind::CLOSE => match self.open.remove(&packet.string_field()?) {
                Some(Open::File(file)) => status(id, file.close().await),
                Some(Open::Directory(_)) => status(id, Ok(())),
                None => status(id, Err(no_handle())),
            },
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
                match self.file(&handle) {
                    Ok(file) => status(id, file.set_attributes(wanted).await),
                    Err(error) => status(id, Err(error)),
                }
            }
            kind::SETSTAT => {
                let path = packet.string_field()?;
                let wanted = Attributes::read(&mut packet)?;
                status(id, self.files.set_attributes(&path, wanted).await)
            }
            kind::OPENDIR => {
                let path = packet.string_field()?;
                let opened = match self.has_handles() {
                    Ok(()) => self.files.folder(&path).await,
                    Err(error) => Err(error),
                };
                match opened {
                    Ok(folder) => self.keep(id, Open::Directory(folder)),
                    Err(error) => status(id, Err(error)),
                }
            }
            kind::READDIR => {
                let Some(Open::Directory(folder)) = self.open.get_mut(&packet.string_field()?) else {
                    return Ok(status(id, Err(no_handle())));
                };
                match folder.next(NAMES).await {
                    Ok(page) if page.is_empty() => status(id, Err(Status::new(StatusCode::Eof, "no more names"))),
                    Ok(page) => {
                        let now = SystemTime::now();
                        let mut answer = Packet::numbered(kind::NAME, id).u32(page.len() as u32);
                        for name in page {
                            let long = long::form(&name, now);
                            answer = answer.string(&name.name).string(&long).raw(&name.attributes.to_bytes());
                        }
                        answer.finish()
                    }
                    Err(error) => status(id, Err(error)),
                }
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
            _ => status(id, Err(Status::new(StatusCode::Unsupported, "unknown request"))),
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
            b"statvfs@openssh.com" => {
                let path = packet.string_field()?;
                told(id, self.files.room(&path).await, |room| {
                    let blocks = |bytes: u64| bytes / BLOCK;
                    let answer = Packet::numbered(kind::EXTENDED_REPLY, id).u64(BLOCK).u64(BLOCK);
                    let answer = answer.u64(blocks(room.bytes)).u64(blocks(room.free)).u64(blocks(room.free));
                    // Files are not counted.
                    answer.u64(0).u64(0).u64(0).u64(0).u64(0).u64(LONGEST_NAME)
                })
            }
            b"limits@openssh.com" => Packet::numbered(kind::EXTENDED_REPLY, id)
                .u64(256 << 10)
                .u64(u64::from(LONGEST_READ))
                .u64(u64::from(LONGEST_READ))
                .u64(OPEN as u64)
                .finish(),
            _ => status(id, Err(Status::new(StatusCode::Unsupported, "unknown extension"))),
        })
    }
}
