//! A folder on an FTP server (RFC 959), plain or within TLS (RFC 4217).

mod connection;
mod listing;
mod upload;

use std::{fmt, io, sync::Arc, time::Duration};

use async_trait::async_trait;
use bytes::{Bytes, BytesMut};
use futures_util::{FutureExt, StreamExt, stream};
use jiff::Timestamp;
use secrecy::SecretString;
use suppaftp::{FtpError, FtpResult, Status, tokio::AsyncRustlsStream, tokio::TransferStream};
use tokio::{
    io::{AsyncBufReadExt, AsyncReadExt, BufReader},
    time::timeout,
};
use wetbank_core::{Fingerprint, FtpSecurity, FtpSpec, PlaceName, RelPath};

use crate::{
    Capabilities, Collision, Depth, Entry, EntryKind, EntryStream, Names, Place, PlaceError, PlaceErrorKind,
    ReadStream, Staged,
    place::{Result, make_each},
};
use connection::{Connection, Lease, Pool, answered};
use listing::{Told, read_facts, read_line, to_text};
use upload::Upload;

/// Bytes in one read of a transfer.
const CHUNK: usize = 256 << 10;
/// Bytes of one line of a listing at most.
const LONGEST_LINE: usize = 64 << 10;

/// The certificate that a server shows; nothing without TLS.
pub(crate) async fn shown_certificate(place: &PlaceName, spec: &FtpSpec) -> Result<Option<String>> {
    connection::shown_certificate(place, spec).await
}

type Transfer = TransferStream<AsyncRustlsStream>;

/// A folder tree on an FTP server. Clones share its connections.
#[derive(Clone)]
pub struct Ftp {
    name: PlaceName,
    root: Arc<str>,
    pool: Arc<Pool>,
}

impl fmt::Debug for Ftp {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Ftp").field("name", &self.name).finish_non_exhaustive()
    }
}

impl Ftp {
    /// The place with this name. The server is reached only when it is used.
    pub fn new(name: PlaceName, spec: FtpSpec, password: SecretString) -> Self {
        let root = if spec.root.is_empty() { "." } else { spec.root.as_str() };
        Self { root: root.into(), pool: Arc::new(Pool::new(name.clone(), spec, password)), name }
    }

    fn fail(&self, kind: PlaceErrorKind, call: &'static str, path: &RelPath, detail: impl Into<String>) -> PlaceError {
        PlaceError { kind, place: self.name.clone(), call, path: path.clone(), detail: detail.into() }
    }

    /// The path in the server's words. It never begins with a dash, which some take for an option.
    fn full(&self, call: &'static str, path: &RelPath) -> Result<String> {
        if path.as_bytes().iter().any(|byte| matches!(byte, b'\r' | b'\n' | 0)) {
            let detail = "FTP has no way to write a name with a line break";
            return Err(self.fail(PlaceErrorKind::BadName, call, path, detail));
        }
        let below = to_text(path.as_bytes());
        Ok(match (&*self.root, below.as_str()) {
            (root, "") => root.to_owned(),
            ("/", below) => format!("/{below}"),
            (root, below) => format!("{root}/{below}"),
        })
    }

    /// Runs commands on a connection, which goes back to the pool unless it broke.
    async fn call<T>(
        &self,
        call: &'static str,
        path: &RelPath,
        work: impl AsyncFnOnce(&mut Connection, &str) -> FtpResult<T>,
    ) -> Result<T> {
        let full = self.full(call, path)?;
        let mut lease = self.pool.lease().await?;
        let result = work(lease.get(), &full).await;
        match result {
            Ok(value) => {
                lease.give_back();
                Ok(value)
            }
            Err(error) => {
                if matches!(&error, FtpError::UnexpectedResponse(a) if a.status != Status::NotAvailable) {
                    lease.give_back();
                }
                Err(self.pool.error(call, path, &error))
            }
        }
    }

    /// What the server tells of a path; nothing if there is none.
    async fn look(&self, call: &'static str, path: &RelPath) -> Result<Told> {
        let is_root = path.is_root();
        let told = self
            .call(call, path, async |connection, full| {
                if connection.has_facts {
                    let line = answered(connection.silence, connection.stream.mlst(Some(full))).await?;
                    return Ok(facts_of(&line));
                }
                look_by_line(connection, full).await
            })
            .await;
        match told {
            Ok(Some(told)) => Ok(told),
            Ok(None) if is_root => Ok(folder()),
            Ok(None) => Err(self.fail(PlaceErrorKind::NotFound, call, path, "the server told nothing about it")),
            // Whatever the words: what cannot be looked at by a plain question is not there.
            Err(error) if error.kind == PlaceErrorKind::Other => {
                Err(PlaceError { kind: PlaceErrorKind::NotFound, ..error })
            }
            Err(error) => Err(error),
        }
    }

    async fn must_be_file(&self, call: &'static str, path: &RelPath) -> Result<Told> {
        match self.look(call, path).await? {
            told if told.kind == EntryKind::File => Ok(told),
            _ => Err(self.fail(PlaceErrorKind::Unsupported, call, path, "it is no regular file")),
        }
    }

    fn entry(&self, path: RelPath, told: Told) -> Entry {
        Entry { path, kind: told.kind, fingerprint: told.fingerprint, owner: told.owner }
    }

    async fn open_listing(&self, folder: &RelPath) -> Result<Listing> {
        let full = self.full("list", folder)?;
        // Many servers answer a question for a folder that is not there with an empty list.
        if self.look("list", folder).await?.kind != EntryKind::Folder {
            return Err(self.fail(PlaceErrorKind::NotFound, "list", folder, "it is no folder"));
        }
        let mut lease = self.pool.lease().await?;
        let connection = lease.get();
        let has_facts = connection.has_facts;
        let opened = async {
            let started = [Status::AboutToSend, Status::AlreadyOpen];
            if has_facts {
                let command = format!("MLSD {full}");
                return Ok((
                    None,
                    answered(connection.silence, connection.stream.custom_data_command(command, &started)).await?.1,
                ));
            }
            // A pattern in the argument of LIST would be expanded: go there first.
            let home = answered(connection.silence, connection.stream.pwd()).await?;
            answered(connection.silence, connection.stream.cwd(&full)).await?;
            Ok((
                Some(home),
                answered(connection.silence, connection.stream.custom_data_command("LIST -a", &started)).await?.1,
            ))
        };
        let (home, transfer) = opened.await.map_err(|e| self.pool.error("list", folder, &e))?;
        Ok(Listing { lease, lines: BufReader::new(transfer), home, folder: folder.clone() })
    }
}

/// A listing under way.
struct Listing {
    lines: BufReader<Transfer>,
    lease: Lease,
    /// Where the connection goes back to afterwards; set for a listing for people.
    home: Option<String>,
    folder: RelPath,
}

impl Listing {
    /// The next entry; nothing at the end, once the server said that this was all.
    async fn next(mut self, place: &Ftp) -> Result<Option<(Entry, Self)>> {
        let broken =
            |folder: &RelPath, error: io::Error| place.pool.error("list", folder, &FtpError::ConnectionError(error));
        loop {
            let mut line = Vec::new();
            let limit = LONGEST_LINE as u64;
            let read =
                timeout(place.pool.spec().silence, (&mut self.lines).take(limit).read_until(b'\n', &mut line)).await;
            match read.unwrap_or_else(|_| Err(io::ErrorKind::TimedOut.into())) {
                // TLS that just ends: the server's last word on the control connection decides.
                Ok(0) => break,
                Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => break,
                Err(error) => return Err(broken(&self.folder, error)),
                Ok(_) => {}
            }
            if line.len() >= LONGEST_LINE {
                return Err(place.fail(PlaceErrorKind::Other, "list", &self.folder, "a line of over 64 KiB"));
            }
            let text = to_text(line.strip_suffix(b"\n").unwrap_or(&line));
            let text = text.strip_suffix('\r').unwrap_or(&text);
            let told = if self.home.is_none() { read_facts(text) } else { read_line(text) };
            // A name with a slash or `..` comes from a server that lies: never follow it.
            if let Some(told) = told
                && let Ok(path) = self.folder.join_name(&told.name)
            {
                return Ok(Some((place.entry(path, told), self)));
            }
        }
        let silence = place.pool.spec().silence;
        let failed = |e: FtpError| place.pool.error("list", &self.folder, &e);
        answered(silence, self.lines.into_inner().finish()).await.map_err(failed)?;
        if let Some(home) = self.home {
            answered(silence, self.lease.get().stream.cwd(home)).await.map_err(failed)?;
        }
        self.lease.give_back();
        Ok(None)
    }
}

fn folder() -> Told {
    Told { name: Vec::new(), kind: EntryKind::Folder, fingerprint: crate::fingerprint_of(0, 0, None), owner: None }
}

/// The facts of an MLST answer; the folder one stands in is told as `cdir`.
fn facts_of(line: &str) -> Option<Told> {
    let lower = line.to_ascii_lowercase();
    if lower.contains("type=cdir;") || lower.contains("type=pdir;") { Some(folder()) } else { read_facts(line) }
}

/// What a server without facts can tell: a file has a size and a line, a folder can be entered.
async fn look_by_line(connection: &mut Connection, full: &str) -> FtpResult<Option<Told>> {
    let size = match answered(connection.silence, connection.stream.size(full)).await {
        Ok(size) => size as u64,
        Err(FtpError::UnexpectedResponse(refused)) => {
            let home = answered(connection.silence, connection.stream.pwd()).await?;
            return match answered(connection.silence, connection.stream.cwd(full)).await {
                Ok(()) => {
                    answered(connection.silence, connection.stream.cwd(home)).await?;
                    Ok(Some(folder()))
                }
                Err(FtpError::UnexpectedResponse(_)) => Err(FtpError::UnexpectedResponse(refused)),
                Err(error) => Err(error),
            };
        }
        Err(error) => return Err(error),
    };
    // Names that begin with a dot, as our temporary ones do, are listed only when asked for; a
    // server that knows no options takes them for a part of the name.
    let mut told = None;
    for asked in [format!("-a {full}"), full.to_owned()] {
        match answered(connection.silence, connection.stream.list(Some(&asked))).await {
            Ok(lines) => told = lines.iter().find_map(|line| read_line(line)),
            Err(FtpError::UnexpectedResponse(_)) => {}
            Err(error) => return Err(error),
        }
        if told.is_some() {
            break;
        }
    }
    Ok(Some(match told {
        Some(told) => Told { fingerprint: crate::fingerprint_of(size, told.fingerprint.modified, None), ..told },
        None => Told { kind: EntryKind::File, fingerprint: crate::fingerprint_of(size, 0, None), ..folder() },
    }))
}

#[async_trait]
impl Place for Ftp {
    fn name(&self) -> &PlaceName {
        &self.name
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities {
            replaces_atomically: false,
            refuses_atomically: false,
            resumes: true,
            cuts_when_resuming: false,
            fine_times: false,
            reports_changes: false,
            tells_links: false,
            names: Names::OneLine,
            folders_are_made: true,
            rename_keeps_state: true,
        }
    }

    fn endpoint(&self) -> Option<(String, u16)> {
        Some((self.pool.spec().host.clone(), self.pool.spec().port))
    }

    fn certificate_ends(&self) -> Option<Timestamp> {
        self.pool.certificate_ends()
    }

    async fn secure(&self) -> Result<String> {
        if self.pool.spec().security == FtpSecurity::None {
            return Ok("not secured: password and files can be read on the way".to_owned());
        }
        self.pool.secure().await?;
        Ok("TLS, the certificate is trusted".to_owned())
    }

    async fn reach(&self) -> Result<String> {
        let root = RelPath::root();
        if self.look("reach", &root).await?.kind != EntryKind::Folder {
            return Err(self.fail(PlaceErrorKind::NotFound, "reach", &root, format!("{} is no folder", self.root)));
        }
        Ok("signed in, the root is there".to_owned())
    }

    async fn stat(&self, path: &RelPath) -> Result<Entry> {
        let told = self.look("look at", path).await?;
        Ok(self.entry(path.clone(), told))
    }

    fn list(&self, folder: &RelPath, depth: Depth) -> EntryStream {
        let place = self.clone();
        stream::try_unfold((vec![folder.clone()], None::<Listing>), move |(mut folders, mut open)| {
            let place = place.clone();
            async move {
                loop {
                    let listing = match open.take() {
                        Some(listing) => listing,
                        None => {
                            let Some(folder) = folders.pop() else { return Ok(None) };
                            place.open_listing(&folder).await?
                        }
                    };
                    let Some((entry, listing)) = listing.next(&place).await? else { continue };
                    if entry.kind == EntryKind::Folder && depth == Depth::All {
                        folders.push(entry.path.clone());
                    }
                    return Ok(Some((entry, (folders, Some(listing)))));
                }
            }
        })
        .boxed()
    }

    async fn read(&self, path: &RelPath, from: u64) -> Result<ReadStream> {
        let size = self.must_be_file("read", path).await?.fingerprint.size;
        if from >= size {
            return Ok(stream::empty().boxed());
        }
        let full = self.full("read", path)?;
        let mut lease = self.pool.lease().await?;
        let failed = |e: FtpError| self.pool.error("read", path, &e);
        let connection = lease.get();
        answered(connection.silence, connection.stream.resume_transfer(usize::try_from(from).unwrap_or(usize::MAX)))
            .await
            .map_err(failed)?;
        let transfer = answered(connection.silence, connection.stream.retr_as_stream(&full)).await.map_err(failed)?;
        let (place, path) = (self.clone(), path.clone());
        Ok(stream::try_unfold(Some((transfer, lease, from)), move |state| {
            let (place, path) = (place.clone(), path.clone());
            async move {
                let Some((mut transfer, lease, at)) = state else { return Ok(None) };
                let broken = |error: io::Error| place.pool.error("read", &path, &FtpError::ConnectionError(error));
                let mut chunk = BytesMut::with_capacity(CHUNK);
                while chunk.len() < CHUNK {
                    let read = timeout(place.pool.spec().silence, transfer.read_buf(&mut chunk)).await;
                    match read.unwrap_or_else(|_| Err(io::ErrorKind::TimedOut.into())) {
                        Ok(0) => break,
                        Ok(_) => {}
                        // TLS that just ends: the size and the server's last word decide.
                        Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => break,
                        Err(error) => return Err(broken(error)),
                    }
                }
                let end = at + chunk.len() as u64;
                if chunk.len() >= CHUNK {
                    return Ok(Some((chunk.freeze(), Some((transfer, lease, end)))));
                }
                answered(place.pool.spec().silence, transfer.finish())
                    .await
                    .map_err(|e| place.pool.error("read", &path, &e))?;
                lease.give_back();
                if end < size {
                    let detail = format!("{end} of {size} bytes came");
                    return Err(place.fail(PlaceErrorKind::Interrupted, "read", &path, detail));
                }
                Ok((!chunk.is_empty()).then(|| (chunk.freeze(), None)))
            }
        })
        .boxed())
    }

    async fn stage(&self, temporary: &RelPath, _target: &RelPath, resume: Option<u64>) -> Result<Box<dyn Staged>> {
        Ok(Box::new(Upload::start(self, temporary, resume).await?))
    }

    async fn rename(&self, from: &RelPath, to: &RelPath, collision: Collision) -> Result<Option<Fingerprint>> {
        let state = self.must_be_file("rename", from).await?.fingerprint;
        let is_taken = match self.look("rename to", to).await {
            Ok(_) => true,
            Err(error) if error.kind == PlaceErrorKind::NotFound => false,
            Err(error) => return Err(error),
        };
        if is_taken && collision == Collision::Refuse {
            return Err(self.fail(PlaceErrorKind::Exists, "rename to", to, ""));
        }
        let old = self.full("rename", from)?;
        let renamed = self
            .call("rename to", to, async |connection, new| {
                answered(connection.silence, connection.stream.rename(old.as_str(), new)).await
            })
            .await;
        match renamed {
            // Some servers rename only to a free name.
            Err(error)
                if is_taken && !matches!(error.kind, PlaceErrorKind::Interrupted | PlaceErrorKind::Unreachable) =>
            {
                self.delete(to).await?;
                self.call("rename to", to, async |connection, new| {
                    answered(connection.silence, connection.stream.rename(old.as_str(), new)).await
                })
                .await
            }
            result => result,
        }?;
        // A server may list no file whose name begins with a dot; only now its time is told.
        if state.modified == 0 {
            return self.look("rename to", to).await.map(|told| Some(told.fingerprint));
        }
        Ok(None)
    }

    async fn delete(&self, path: &RelPath) -> Result<()> {
        self.must_be_file("delete", path).await?;
        self.call("delete", path, async |connection, full| {
            answered(connection.silence, connection.stream.rm(full)).await
        })
        .await
    }

    async fn make_folder(&self, path: &RelPath) -> Result<()> {
        make_each(self, path, |at| {
            async move {
                self.call("make folder", &at, async |c, full| answered(c.silence, c.stream.mkdir(full)).await).await
            }
            .boxed()
        })
        .await
    }
}

/// A chunk that was written into a transfer.
async fn write_chunk(silence: Duration, transfer: &mut Transfer, chunk: &Bytes) -> io::Result<()> {
    use tokio::io::AsyncWriteExt;
    match timeout(silence, transfer.write_all(chunk)).await {
        Ok(result) => result,
        Err(_) => Err(io::ErrorKind::TimedOut.into()),
    }
}
