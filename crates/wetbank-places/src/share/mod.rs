//! A folder on a network share (SMB).

mod opens;
mod owners;

use std::{io, sync::Arc, time::Duration};

use async_trait::async_trait;
use bytes::Bytes;
use futures_util::{FutureExt, StreamExt, TryStreamExt, stream};
use secrecy::SecretString;
use tokio::net::TcpStream;
use wetbank_core::{Fingerprint, PlaceName, RelPath, ShareSpec, is_share_name};
use wetbank_smb::{Account, Attributes, Client, Error, Found, Open, Protection, RemoteFile, Secured, Status};

use crate::{
    Capabilities, Collision, Depth, Entry, EntryKind, EntryStream, Names, Place, PlaceError, PlaceErrorKind,
    ReadStream, Staged, fingerprint_of,
    pieces::Pieces,
    place::{Result, list_each, make_each, misnamed},
    pool::{self, Pool},
};

/// Reaching the server and signing in may each take so long.
const CONNECT: Duration = Duration::from_secs(15);
/// Writes in flight for one file.
const AHEAD: usize = 6;

use owners::Owners;

type Lease = pool::Lease<Client>;

/// A place on a network share. All its users share one small pool of connections.
#[derive(Debug, Clone)]
pub struct Share {
    inner: Arc<Inner>,
}

#[derive(Debug)]
struct Inner {
    name: PlaceName,
    spec: ShareSpec,
    account: Account,
    pool: Pool<Client>,
    owners: Owners,
}

impl pool::Connection for Client {
    fn is_closed(&self) -> bool {
        Self::is_closed(self)
    }

    fn in_flight(&self) -> usize {
        Self::in_flight(self)
    }

    // The server forgets a sign-in with its connection.
    async fn close(&self) {}
}

impl Share {
    /// The place with this name. Nothing is connected until it is used.
    pub fn new(name: PlaceName, spec: ShareSpec, password: SecretString) -> Self {
        let account = Account { domain: spec.domain.clone(), user: spec.user.clone(), password };
        let pool = Pool::new(spec.connections);
        Self { inner: Arc::new(Inner { name, spec, account, pool, owners: Owners::default() }) }
    }

    fn fail(&self, kind: PlaceErrorKind, call: &'static str, path: &RelPath, detail: impl Into<String>) -> PlaceError {
        PlaceError {
            kind,
            place: self.inner.name.clone(),
            call,
            path: path.clone(),
            detail: detail.into(),
            secret: None,
        }
    }

    fn error(&self, call: &'static str, path: &RelPath, error: &Error) -> PlaceError {
        let kind = match error {
            Error::Status(status) => kind_of(*status),
            Error::Unfit(_) => PlaceErrorKind::Unsupported,
            _ => PlaceErrorKind::Interrupted,
        };
        self.fail(kind, call, path, error.to_string()).in_root(&self.inner.spec.root)
    }

    /// The path as the protocol has it. A name that means something else there is refused here:
    /// a backslash would be a folder, a colon a hidden stream.
    fn full(&self, call: &'static str, path: &RelPath) -> Result<String> {
        let mut full = self.inner.spec.root.replace('/', "\\");
        for part in path.parts() {
            // What is there already under the name of a device is used; nothing new gets such a name.
            let name = std::str::from_utf8(part).ok().filter(|name| is_share_name(name));
            let Some(name) = name else {
                return Err(self.fail(PlaceErrorKind::BadName, call, path, Names::Share.words()));
            };
            if !full.is_empty() {
                full.push('\\');
            }
            full.push_str(name);
        }
        Ok(full)
    }

    async fn stream(&self) -> Result<TcpStream> {
        let ShareSpec { host, port, .. } = &self.inner.spec;
        let unreachable = |detail| self.fail(PlaceErrorKind::Unreachable, "reach", &RelPath::root(), detail);
        let stream = tokio::time::timeout(CONNECT, TcpStream::connect((host.as_str(), *port))).await;
        let stream =
            stream.map_err(|_| unreachable(format!("{host} did not answer within {} s", CONNECT.as_secs())))?;
        let stream = stream.map_err(|error| {
            unreachable(match error.kind() {
                io::ErrorKind::ConnectionRefused => format!("nothing listens on port {port} of {host}"),
                _ => format!("{host}:{port}: {error}"),
            })
        })?;
        let _ = stream.set_nodelay(true);
        Ok(stream)
    }

    async fn greet(&self) -> Result<Secured> {
        let greeted = Client::greet(self.stream().await?, CONNECT).await;
        greeted.map_err(|error| {
            let detail = format!("it does not answer as an SMB server of version 2.1 or newer: {error}");
            self.fail(PlaceErrorKind::Unreachable, "reach", &RelPath::root(), detail)
        })
    }

    async fn connect(&self) -> Result<Client> {
        let Inner { spec, account, .. } = &*self.inner;
        let protection = if spec.encrypted { Protection::Encrypted } else { Protection::Signed };
        let stream = self.stream().await?;
        let connected = Client::connect(stream, &spec.host, &spec.share, account, protection, spec.silence).await;
        connected.map_err(|error| self.not_signed_in(&error))
    }

    fn not_signed_in(&self, error: &Error) -> PlaceError {
        let (spec, root) = (&self.inner.spec, RelPath::root());
        match error {
            Error::Status(Status::BAD_NETWORK_NAME) => {
                let detail = format!("signed in, but the server has no share \"{}\"", spec.share);
                self.fail(PlaceErrorKind::NotFound, "reach", &root, detail)
            }
            Error::Status(status) if kind_of(*status) == PlaceErrorKind::Refused => {
                let detail = format!("{status}; user \"{}\", secret \"{}\"", spec.user, spec.password);
                self.fail(PlaceErrorKind::Refused, "sign in to", &root, detail).with_secret(Some(&spec.password))
            }
            Error::NoEncryption => {
                let detail =
                    format!("{error}; if it is on a network of your own, write security = \"signed\" into the book");
                self.fail(PlaceErrorKind::Security, "sign in to", &root, detail)
            }
            Error::Unfit(why) => self.fail(PlaceErrorKind::Refused, "sign in to", &root, *why),
            error => self.error("sign in to", &root, error),
        }
    }

    async fn lease(&self) -> Result<Lease> {
        self.inner.pool.lease(self.connect()).await
    }

    async fn look(&self, call: &'static str, path: &RelPath) -> Result<Attributes> {
        let full = self.full(call, path)?;
        self.lease().await?.look(&full).await.map_err(|e| self.error(call, path, &e))
    }

    fn entry(&self, path: RelPath, attributes: Attributes) -> Entry {
        let kind = match attributes {
            Attributes { is_link: true, .. } => EntryKind::Link,
            Attributes { is_folder: true, .. } => EntryKind::Folder,
            _ => EntryKind::File,
        };
        let fingerprint = fingerprint_of(attributes.size, attributes.modified, attributes.number);
        Entry { path, kind, fingerprint, owner: None }
    }

    /// What a listing tells of one entry. Under a short name the server shows what has a name that no share can
    /// have: nobody would know the file again.
    async fn told(&self, client: &Client, folder: &RelPath, found: Found) -> Result<Option<Entry>> {
        let Some(path) = Some(&found.name).filter(|name| is_share_name(name)) else {
            return Ok(misnamed(folder, found.name.as_bytes()));
        };
        let Ok(path) = folder.join_name(path.as_bytes()) else { return Ok(misnamed(folder, found.name.as_bytes())) };
        if looks_short(&found.name) {
            match client.own_name(&self.full("list", &path)?).await {
                Ok(own) if !own.is_empty() && own != found.name => return Ok(misnamed(folder, own.as_bytes())),
                Ok(_) => {}
                // Who may not look at it, or a server that does not tell: it is what it is shown as.
                Err(Error::Status(_)) => {}
                Err(error) => return Err(self.error("list", &path, &error)),
            }
        }
        Ok(Some(self.entry(path, found.attributes)))
    }

    /// The entries of one folder.
    async fn list_one(&self, folder: RelPath) -> Result<EntryStream> {
        let full = self.full("list", &folder)?;
        let lease = self.lease().await?;
        let directory = lease.open_directory(&full).await.map_err(|e| match e.status() {
            Some(Status::NOT_A_DIRECTORY) => self.fail(PlaceErrorKind::NotFound, "list", &folder, e.to_string()),
            _ => self.error("list", &folder, &e),
        })?;
        let pages = stream::try_unfold(
            (self.clone(), folder, lease, directory),
            |(place, folder, lease, directory)| async move {
                let Some(found) = directory.next().await.map_err(|e| place.error("list", &folder, &e))? else {
                    return Ok(None);
                };
                let told = found.into_iter().map(|found| place.told(&lease, &folder, found));
                let entries: Vec<Option<Entry>> = stream::iter(told).buffered(AHEAD).try_collect().await?;
                let entries = stream::iter(entries.into_iter().flatten().map(Ok).collect::<Vec<_>>());
                Ok(Some((entries, (place, folder, lease, directory))))
            },
        );
        Ok(pages.try_flatten().boxed())
    }
}

/// Whether a name looks like the short one that a server makes of a name that cannot be shown: eight letters with a
/// tilde before the last, and an ending of three.
fn looks_short(name: &str) -> bool {
    let (stem, ending) = name.split_once('.').unwrap_or((name, ""));
    let is_plain =
        |text: &str| text.bytes().all(|b| b.is_ascii_uppercase() || b.is_ascii_digit() || b"_~-$".contains(&b));
    let tilde = stem.bytes().rev().nth(1) == Some(b'~');
    tilde && stem.len() <= 8 && ending.len() <= 3 && is_plain(stem) && is_plain(ending)
}

/// What an answer means for those who asked.
fn kind_of(status: Status) -> PlaceErrorKind {
    match status {
        Status::NO_SUCH_FILE
        | Status::OBJECT_NAME_NOT_FOUND
        | Status::OBJECT_PATH_NOT_FOUND
        | Status::NOT_A_DIRECTORY => PlaceErrorKind::NotFound,
        Status::NO_SUCH_USER
        | Status::WRONG_PASSWORD
        | Status::LOGON_FAILURE
        | Status::ACCOUNT_RESTRICTION
        | Status::INVALID_LOGON_HOURS
        | Status::INVALID_WORKSTATION
        | Status::PASSWORD_EXPIRED
        | Status::PASSWORD_MUST_CHANGE
        | Status::ACCOUNT_DISABLED
        | Status::ACCOUNT_EXPIRED
        | Status::ACCOUNT_LOCKED_OUT
        | Status::LOGON_TYPE_NOT_GRANTED => PlaceErrorKind::Refused,
        Status::ACCESS_DENIED => PlaceErrorKind::Denied,
        Status::OBJECT_NAME_COLLISION => PlaceErrorKind::Exists,
        Status::DISK_FULL | Status::QUOTA_EXCEEDED => PlaceErrorKind::NoSpace,
        Status::SHARING_VIOLATION
        | Status::FILE_LOCK_CONFLICT
        | Status::DELETE_PENDING
        | Status::CANNOT_DELETE
        | Status::REQUEST_NOT_ACCEPTED
        | Status::INSUFFICIENT_RESOURCES
        | Status::INSUFF_SERVER_RESOURCES => PlaceErrorKind::Busy,
        Status::OBJECT_NAME_INVALID | Status::OBJECT_PATH_SYNTAX_BAD | Status::NAME_TOO_LONG => PlaceErrorKind::BadName,
        Status::FILE_IS_A_DIRECTORY | Status::NOT_SUPPORTED => PlaceErrorKind::Unsupported,
        Status::NETWORK_NAME_DELETED | Status::USER_SESSION_DELETED | Status::NETWORK_SESSION_EXPIRED => {
            PlaceErrorKind::Interrupted
        }
        _ => PlaceErrorKind::Other,
    }
}

#[async_trait]
impl Place for Share {
    fn name(&self) -> &PlaceName {
        &self.inner.name
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities {
            tells_case: false,
            replaces_atomically: true,
            refuses_atomically: true,
            resumes: true,
            cuts_when_resuming: true,
            fine_times: true,
            sets_times: true,
            names: Names::Share,
            // Links are not told: many servers follow one themselves and show where it leads.
            ..Capabilities::LEAST
        }
    }

    fn endpoint(&self) -> Option<(String, u16)> {
        Some((self.inner.spec.host.clone(), self.inner.spec.port))
    }

    async fn secure(&self) -> Result<String> {
        let secured = self.greet().await?;
        match (self.inner.spec.encrypted, secured.cipher) {
            (true, Some(_)) => Ok(format!("{secured}")),
            (true, None) => Err(self.not_signed_in(&Error::NoEncryption)),
            (false, _) => Ok(format!("SMB {}, signed: files can be read on the way, but not changed", secured.version)),
        }
    }

    async fn reach(&self) -> Result<String> {
        let root = RelPath::root();
        if !self.look("reach", &root).await?.is_folder {
            let detail = format!("{} is no folder on the share", self.inner.spec.root);
            return Err(self.fail(PlaceErrorKind::NotFound, "reach", &root, detail));
        }
        let ShareSpec { domain, user, .. } = &self.inner.spec;
        let domain = if domain.is_empty() { String::new() } else { format!("{domain}\\") };
        Ok(format!("signed in as {domain}{user}"))
    }

    async fn stat(&self, path: &RelPath) -> Result<Entry> {
        Ok(self.entry(path.clone(), self.look("look at", path).await?))
    }

    fn list(&self, folder: &RelPath, depth: Depth) -> EntryStream {
        let place = self.clone();
        list_each(folder, depth, move |folder| {
            let place = place.clone();
            async move { place.list_one(folder).await }.boxed()
        })
    }

    async fn tell_owners(&self, entries: &mut [Entry]) {
        owners::tell(self, entries).await;
    }

    async fn read(&self, path: &RelPath, from: u64) -> Result<ReadStream> {
        let full = self.full("read", path)?;
        let lease = self.lease().await?;
        let file = lease.open(&full, Open::Read).await.map_err(|e| self.error("read", path, &e))?;
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
        let full = self.full("write", temporary)?;
        let lease = self.lease().await?;
        let file = match resume {
            Some(kept) => match lease.open(&full, Open::Write).await {
                Ok(file) => file.set_length(kept).await.map(|()| file),
                Err(error) => Err(error),
            },
            None => match lease.open(&full, Open::CreateNew).await {
                // A leftover of ours.
                Err(error) if error.status() == Some(Status::OBJECT_NAME_COLLISION) => {
                    match lease.remove(&full).await {
                        Ok(()) => lease.open(&full, Open::CreateNew).await,
                        Err(error) => Err(error),
                    }
                }
                opened => opened,
            },
        };
        let file = file.map_err(|e| self.error("write", temporary, &e))?;
        let writer = file.clone();
        let put = move |at, piece| {
            let file = writer.clone();
            async move { file.write(at, piece).await }.boxed()
        };
        let pieces = Pieces::new(lease.piece(), AHEAD, resume.unwrap_or(0), put);
        Ok(Box::new(Upload { place: self.clone(), path: temporary.clone(), full, lease, file, pieces }))
    }

    async fn set_modified(&self, path: &RelPath, at: i64) -> Result<Entry> {
        let call = "set the time of";
        let full = self.full(call, path)?;
        match self.lease().await?.set_modified(&full, at).await {
            Ok(attributes) => Ok(self.entry(path.clone(), attributes)),
            // Refused: it is as it was.
            Err(error) if error.status().is_some() => self.stat(path).await,
            Err(error) => Err(self.error(call, path, &error)),
        }
    }

    async fn rename(&self, from: &RelPath, to: &RelPath, collision: Collision) -> Result<Option<Fingerprint>> {
        let (old, new) = (self.full("rename", from)?, self.full("rename to", to)?);
        let replace = collision == Collision::Replace;
        let renamed = self.lease().await?.rename(&old, &new, replace).await;
        renamed.map(|()| None).map_err(|e| self.error("rename to", to, &e))
    }

    async fn delete(&self, path: &RelPath) -> Result<()> {
        let full = self.full("delete", path)?;
        self.lease().await?.remove(&full).await.map_err(|e| self.error("delete", path, &e))
    }

    async fn make_folder(&self, path: &RelPath) -> Result<()> {
        make_each(self, path, |at| {
            async move {
                let full = self.full("make folder", &at)?;
                let made = self.lease().await?.make_directory(&full).await;
                made.map_err(|e| self.error("make folder", &at, &e))
            }
            .boxed()
        })
        .await
    }

    async fn remove_folder(&self, path: &RelPath) -> Result<()> {
        let call = "remove folder";
        let full = self.full(call, path)?;
        self.lease().await?.remove_directory(&full).await.map_err(|e| self.error(call, path, &e))
    }
}

struct Upload {
    place: Share,
    path: RelPath,
    full: String,
    lease: Lease,
    file: RemoteFile,
    pieces: Pieces<Error>,
}

impl Upload {
    fn fail(&mut self, error: &Error) -> PlaceError {
        self.place.error("write", &self.path, error)
    }
}

#[async_trait]
impl Staged for Upload {
    async fn write(&mut self, chunk: Bytes) -> Result<()> {
        let written = self.pieces.write(chunk).await;
        written.map_err(|e| self.fail(&e))
    }

    async fn finish(mut self: Box<Self>) -> Result<Entry> {
        let flushed = self.pieces.flush().await;
        flushed.map_err(|e| self.fail(&e))?;
        let Self { place, path, full, lease, file, pieces } = *self;
        // The last handle, so that closing it tells the server that this is the file's time.
        drop(pieces);
        let done = async {
            file.sync().await?;
            file.close().await?;
            lease.look(&full).await
        };
        let attributes = done.await.map_err(|e| place.error("write", &path, &e))?;
        Ok(place.entry(path, attributes))
    }
}
