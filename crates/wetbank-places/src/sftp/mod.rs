//! A server that speaks the SSH File Transfer Protocol.

mod connect;
mod opens;

use std::sync::Arc;

use async_trait::async_trait;
use bytes::Bytes;
use futures_util::{FutureExt, StreamExt, TryStreamExt, future::BoxFuture, stream};
use wetbank_core::{Fingerprint, PlaceName, RelPath, SftpSpec};
use wetbank_sftp::{Attributes, ClientError, FileType, OpenFlags, RemoteFile, StatusCode};

use crate::{
    Capabilities, Collision, Depth, Entry, EntryKind, EntryStream, Place, PlaceError, PlaceErrorKind, ReadStream,
    Staged, fingerprint_of,
    pieces::Pieces,
    place::{Result, list_each, make_each, misnamed, owner_shown},
    pool::Pool,
};
use connect::Connection;
pub use connect::{HostKey, SftpCredentials};

/// Writes in flight for one file.
const AHEAD: usize = 16;

/// A place on an SFTP server. All its users share one small pool of connections.
#[derive(Debug, Clone)]
pub struct Sftp {
    inner: Arc<Inner>,
}

#[derive(Debug)]
struct Inner {
    name: PlaceName,
    spec: SftpSpec,
    credentials: SftpCredentials,
    pool: Pool<Connection>,
}

type Lease = crate::pool::Lease<Connection>;

impl Sftp {
    /// The place with this name. Nothing is connected until it is used.
    pub fn new(name: PlaceName, spec: SftpSpec, credentials: SftpCredentials) -> Self {
        let pool = Pool::new(spec.connections);
        Self { inner: Arc::new(Inner { name, spec, credentials, pool }) }
    }

    fn absolute(&self, path: &RelPath) -> Vec<u8> {
        let root = self.inner.spec.root.trim_end_matches('/');
        if path.is_root() {
            // An empty root means the folder in which the sign-in ends.
            return match (root, self.inner.spec.root.as_str()) {
                ("", "") => b".".to_vec(),
                ("", _) => b"/".to_vec(),
                (root, _) => root.as_bytes().to_vec(),
            };
        }
        let mut full = root.as_bytes().to_vec();
        if !full.is_empty() || self.inner.spec.root.starts_with('/') {
            full.push(b'/');
        }
        full.extend_from_slice(path.as_bytes());
        full
    }

    fn error(&self, call: &'static str, path: &RelPath, error: &ClientError) -> PlaceError {
        let kind = match error {
            ClientError::Status { code, message } => match code {
                StatusCode::NoSuchFile | StatusCode::NoSuchPath | StatusCode::NotADirectory => PlaceErrorKind::NotFound,
                StatusCode::PermissionDenied | StatusCode::WriteProtected => PlaceErrorKind::Denied,
                StatusCode::AlreadyExists | StatusCode::DirectoryNotEmpty => PlaceErrorKind::Exists,
                StatusCode::NoSpace | StatusCode::QuotaExceeded => PlaceErrorKind::NoSpace,
                StatusCode::LockConflict => PlaceErrorKind::Busy,
                StatusCode::InvalidName => PlaceErrorKind::BadName,
                StatusCode::Unsupported | StatusCode::IsADirectory => PlaceErrorKind::Unsupported,
                StatusCode::NoConnection | StatusCode::ConnectionLost => PlaceErrorKind::Interrupted,
                _ if message.contains("space") || message.contains("quota") => PlaceErrorKind::NoSpace,
                _ => PlaceErrorKind::Other,
            },
            _ => PlaceErrorKind::Interrupted,
        };
        let (place, path, detail) = (self.inner.name.clone(), path.clone(), error.to_string());
        PlaceError { kind, place, call, path, detail, secret: None }.in_root(&self.inner.spec.root)
    }

    /// A plain "failure" may mean anything: look which of the likely causes is true.
    async fn explain(&self, lease: &Lease, call: &'static str, path: &RelPath, error: &ClientError) -> PlaceError {
        let mut told = self.error(call, path, error);
        if !matches!(error.code(), Some(StatusCode::Failure | StatusCode::BadMessage)) {
            return told;
        }
        let name = path.name();
        if name.len() > 255 {
            told.kind = PlaceErrorKind::BadName;
            told.detail = format!("the name has {} bytes, most systems allow 255", name.len());
        } else if let Ok(Some(space)) = lease.client.space_left(&self.absolute(&path.parent())).await
            && space.bytes < 1 << 20
        {
            told.kind = PlaceErrorKind::NoSpace;
            told.detail = "the server's disk or quota is full".to_owned();
        }
        told
    }

    /// Runs a call on a connection, saying what it was when it fails.
    async fn call<T: Send>(
        &self,
        call: &'static str,
        path: &RelPath,
        work: impl for<'l> FnOnce(&'l Lease, Vec<u8>) -> BoxFuture<'l, std::result::Result<T, ClientError>> + Send,
    ) -> Result<T> {
        let lease = self.lease().await?;
        match work(&lease, self.absolute(path)).await {
            Ok(value) => Ok(value),
            Err(error) => Err(self.explain(&lease, call, path, &error).await),
        }
    }

    async fn lease(&self) -> Result<Lease> {
        let Inner { name, spec, credentials, pool } = &*self.inner;
        pool.lease(Connection::open(name, spec, credentials)).await
    }

    /// The entries of one folder.
    async fn list_one(&self, folder: RelPath) -> Result<EntryStream> {
        let lease = self.lease().await?;
        let full = self.absolute(&folder);
        let directory = lease.client.open_directory(&full).await.map_err(|e| self.error("list", &folder, &e))?;
        let pages = stream::try_unfold(
            (self.clone(), folder, lease, directory),
            |(place, folder, lease, directory)| async move {
                let Some(names) = directory.next().await.map_err(|e| place.error("list", &folder, &e))? else {
                    return Ok(None);
                };
                let entries = names.into_iter().filter_map(|name| {
                    let Ok(path) = folder.join_name(&name.name) else { return misnamed(&folder, &name.name).map(Ok) };
                    Some(Ok(Entry { owner: owner(&name.long_form), ..place.entry(path, name.attributes) }))
                });
                let entries = stream::iter(entries.collect::<Vec<_>>());
                Ok(Some((entries, (place, folder, lease, directory))))
            },
        );
        Ok(pages.try_flatten().boxed())
    }

    fn entry(&self, path: RelPath, attributes: Attributes) -> Entry {
        let kind = match attributes.file_type() {
            FileType::File => EntryKind::File,
            FileType::Directory => EntryKind::Folder,
            FileType::Link => EntryKind::Link,
            FileType::Other => EntryKind::Other,
        };
        let modified = attributes.times.map_or(0, |(_, modified)| i64::from(modified) * 1_000_000_000);
        Entry { path, kind, fingerprint: fingerprint_of(attributes.size.unwrap_or(0), modified, None), owner: None }
    }
}

#[async_trait]
impl Place for Sftp {
    fn name(&self) -> &PlaceName {
        &self.inner.name
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities {
            replaces_atomically: true,
            refuses_atomically: true,
            resumes: true,
            cuts_when_resuming: true,
            tells_links: true,
            sets_times: true,
            stages: self.inner.spec.staged,
            ..Capabilities::LEAST
        }
    }

    fn endpoint(&self) -> Option<(String, u16)> {
        Some((self.inner.spec.host.clone(), self.inner.spec.port))
    }

    async fn secure(&self) -> Result<String> {
        connect::check_host_key(&self.inner.name, &self.inner.spec).await?;
        Ok("SSH, the host key is the confirmed one".to_owned())
    }

    async fn reach(&self) -> Result<String> {
        let root = RelPath::root();
        let attributes =
            self.call("reach", &root, |lease, path| async move { lease.client.stat(&path).await }.boxed()).await?;
        if attributes.file_type() != FileType::Directory {
            return Err(PlaceError {
                kind: PlaceErrorKind::NotFound,
                place: self.inner.name.clone(),
                call: "reach",
                path: root,
                detail: format!("{} is no folder on the server", self.inner.spec.root),
                secret: None,
            });
        }
        Ok(format!("signed in as {}", self.inner.spec.user))
    }

    async fn stat(&self, path: &RelPath) -> Result<Entry> {
        let attributes =
            self.call("look at", path, |lease, full| async move { lease.client.lstat(&full).await }.boxed()).await?;
        Ok(self.entry(path.clone(), attributes))
    }

    fn list(&self, folder: &RelPath, depth: Depth) -> EntryStream {
        let place = self.clone();
        list_each(folder, depth, move |folder| {
            let place = place.clone();
            async move { place.list_one(folder).await }.boxed()
        })
    }

    async fn read(&self, path: &RelPath, from: u64) -> Result<ReadStream> {
        let lease = self.lease().await?;
        let full = self.absolute(path);
        let kind = lease.client.lstat(&full).await.map_err(|e| self.error("read", path, &e))?.file_type();
        if kind != FileType::File {
            return Err(PlaceError {
                kind: PlaceErrorKind::Unsupported,
                detail: "it is no regular file".to_owned(),
                ..self.error("read", path, &ClientError::Lost(String::new()))
            });
        }
        let file = lease.client.open(&full, OpenFlags::READ).await.map_err(|e| self.error("read", path, &e))?;
        let (place, path) = (self.clone(), path.clone());
        Ok(file
            .content(from)
            .map(move |chunk| {
                // The lease lives as long as the stream.
                let _lease = &lease;
                chunk.map_err(|e| place.error("read", &path, &e))
            })
            .boxed())
    }

    async fn stage(&self, temporary: &RelPath, _target: &RelPath, resume: Option<u64>) -> Result<Box<dyn Staged>> {
        let lease = self.lease().await?;
        let full = self.absolute(temporary);
        let failed = |e: &ClientError| self.error("write", temporary, e);
        let file = match resume {
            Some(kept) => {
                let file = lease.client.open(&full, OpenFlags::WRITE).await.map_err(|e| failed(&e))?;
                file.set_length(kept).await.map_err(|e| failed(&e))?;
                file
            }
            None => match lease.client.open(&full, OpenFlags::CREATE_NEW).await {
                Err(error) if matches!(error.code(), Some(StatusCode::Failure | StatusCode::AlreadyExists)) => {
                    // Most likely a leftover of ours.
                    match lease.client.remove(&full).await {
                        Ok(()) => lease.client.open(&full, OpenFlags::CREATE_NEW).await.map_err(|e| failed(&e))?,
                        // Where nobody may remove, it may still be written anew.
                        Err(_) if !self.inner.spec.staged => {
                            let file = lease.client.open(&full, OpenFlags::WRITE).await.map_err(|e| failed(&e))?;
                            file.set_length(0).await.map_err(|e| failed(&e))?;
                            file
                        }
                        Err(_) => return Err(self.explain(&lease, "write", temporary, &error).await),
                    }
                }
                result => result.map_err(|e| failed(&e))?,
            },
        };
        let (length, writer) = (file.limits().write as usize, file.clone());
        let put = move |at, piece| {
            let file = writer.clone();
            async move { file.write(at, piece).await }.boxed()
        };
        let pieces = Pieces::new(length, AHEAD, resume.unwrap_or(0), put);
        Ok(Box::new(Upload { place: self.clone(), path: temporary.clone(), lease, file, pieces }))
    }

    async fn set_modified(&self, path: &RelPath, at: i64) -> Result<Entry> {
        let lease = self.lease().await?;
        let full = self.absolute(path);
        // Version 3 knows no other times.
        if let Ok(seconds) = u32::try_from(at.div_euclid(1_000_000_000)) {
            match lease.client.set_times(&full, seconds).await {
                Err(error) if error.code().is_none() => return Err(self.error("set the time of", path, &error)),
                // Refused or not, the server says how it is.
                _ => {}
            }
        }
        let attributes = lease.client.lstat(&full).await.map_err(|e| self.error("look at", path, &e))?;
        Ok(self.entry(path.clone(), attributes))
    }

    async fn rename(&self, from: &RelPath, to: &RelPath, collision: Collision) -> Result<Option<Fingerprint>> {
        let lease = self.lease().await?;
        let (old, new) = (self.absolute(from), self.absolute(to));
        let result = match collision {
            Collision::Replace if lease.client.can_replace() => lease.client.rename_replacing(&old, &new).await,
            Collision::Replace => {
                // Without the extension there is no single step; the old file goes first.
                match lease.client.remove(&new).await {
                    Err(e) if e.code() != Some(StatusCode::NoSuchFile) => Err(e),
                    _ => lease.client.rename(&old, &new).await,
                }
            }
            Collision::Refuse => lease.client.rename(&old, &new).await,
        };
        let Err(error) = result else { return Ok(None) };
        if error.code() == Some(StatusCode::Failure)
            && collision == Collision::Refuse
            && lease.client.lstat(&new).await.is_ok()
            && lease.client.lstat(&old).await.is_ok()
        {
            return Err(PlaceError { kind: PlaceErrorKind::Exists, ..self.error("rename to", to, &error) });
        }
        Err(self.explain(&lease, "rename to", to, &error).await)
    }

    async fn delete(&self, path: &RelPath) -> Result<()> {
        self.call("delete", path, |lease, full| async move { lease.client.remove(&full).await }.boxed()).await
    }

    async fn make_folder(&self, path: &RelPath) -> Result<()> {
        make_each(self, path, |at| {
            async move {
                self.call("make folder", &at, |lease, full| {
                    async move { lease.client.make_directory(&full).await }.boxed()
                })
                .await
            }
            .boxed()
        })
        .await
    }

    async fn remove_folder(&self, path: &RelPath) -> Result<()> {
        self.call("remove folder", path, |lease, full| {
            async move { lease.client.remove_directory(&full).await }.boxed()
        })
        .await
    }
}

/// Who owns a file, as its line for people tells: rights, a count, the owner.
fn owner(line: &[u8]) -> Option<String> {
    let mut words = line.split(u8::is_ascii_whitespace).filter(|word| !word.is_empty());
    words.next().filter(|rights| rights.len() >= 10)?;
    owner_shown(words.nth(1)?)
}

struct Upload {
    place: Sftp,
    path: RelPath,
    lease: Lease,
    file: RemoteFile,
    pieces: Pieces<ClientError>,
}

impl Upload {
    async fn fail(&mut self, error: ClientError) -> PlaceError {
        self.place.explain(&self.lease, "write", &self.path, &error).await
    }
}

#[async_trait]
impl Staged for Upload {
    async fn write(&mut self, chunk: Bytes) -> Result<()> {
        match self.pieces.write(chunk).await {
            Ok(()) => Ok(()),
            Err(error) => Err(self.fail(error).await),
        }
    }

    async fn finish(mut self: Box<Self>) -> Result<Entry> {
        let done = match self.pieces.flush().await {
            Ok(()) => self.file.attributes().await,
            Err(error) => Err(error),
        };
        match done {
            Ok(attributes) => Ok(self.place.entry(self.path.clone(), attributes)),
            Err(error) => Err(self.fail(error).await),
        }
    }
}
