//! A folder on an FTP server (RFC 959), plain or within TLS (RFC 4217).

mod answers;
mod connection;
mod listing;
mod opens;
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
    known::KnownFolders,
    place::{Result, make_each, misnamed},
};
use connection::{Command, Connection, Lease, Pool, answered, unless_refused};
use listing::{Told, is_of_interest, read_facts, read_line, to_text};
use upload::Upload;

/// Bytes in one read of a transfer.
const CHUNK: usize = 256 << 10;
/// Bytes of one line of a listing at most.
const LONGEST_LINE: usize = 64 << 10;

type Transfer = TransferStream<AsyncRustlsStream>;

/// A folder tree on an FTP server. Clones share its connections.
#[derive(Clone)]
pub struct Ftp {
    name: PlaceName,
    root: Arc<str>,
    pool: Arc<Pool>,
    folders: Arc<KnownFolders>,
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
        Self {
            root: root.into(),
            pool: Arc::new(Pool::new(name.clone(), spec, password)),
            folders: Arc::default(),
            name,
        }
    }

    fn fail(&self, kind: PlaceErrorKind, call: &'static str, path: &RelPath, detail: impl Into<String>) -> PlaceError {
        PlaceError { kind, place: self.name.clone(), call, path: path.clone(), detail: detail.into(), secret: None }
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
                look_by_line(connection, full, path.name()).await
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
        let for_people = !connection.has_facts;
        let opened = if for_people {
            list_here(connection, &full).await
        } else {
            connection.transfer(&Command::List(format!("MLSD {full}"))).await
        };
        let transfer = opened.map_err(|e| self.pool.error("list", folder, &e))?;
        let lines = BufReader::new(transfer);
        Ok(Listing { lease, lines, for_people, folder: folder.clone(), unreadable: None, any: false })
    }
}

/// Begins to list a folder for people. A pattern in the argument of LIST would be expanded: the connection goes
/// there first, and back afterwards.
async fn list_here(connection: &mut Connection, folder: &str) -> FtpResult<Transfer> {
    connection.enter(folder).await?;
    connection.transfer(&Command::List("LIST -a".to_owned())).await
}

/// A listing under way.
struct Listing {
    lines: BufReader<Transfer>,
    lease: Lease,
    /// In the form for people; then the connection goes back to where it was afterwards.
    for_people: bool,
    folder: RelPath,
    /// The first line that could not be read.
    unreadable: Option<String>,
    /// A line could be read.
    any: bool,
}

impl Listing {
    /// The next entry; nothing at the end, once the server said that this was all.
    async fn next(mut self, place: &Ftp) -> Result<Option<(Entry, Self)>> {
        let broken =
            |folder: &RelPath, error: io::Error| place.pool.error("list", folder, &FtpError::ConnectionError(error));
        let silence = place.pool.spec().silence;
        while let Some(text) = next_line(silence, &mut self.lines).await.map_err(|error| broken(&self.folder, error))? {
            let text = text.as_str();
            let told = if self.for_people { read_line(text) } else { read_facts(text) };
            match told {
                Some(told) => {
                    self.any = true;
                    let entry = match self.folder.join_name(&told.name) {
                        Ok(path) => Some(place.entry(path, told)),
                        Err(_) => misnamed(&self.folder, &told.name),
                    };
                    if let Some(entry) = entry {
                        return Ok(Some((entry, self)));
                    }
                }
                None if self.for_people && is_of_interest(text) && self.unreadable.is_none() => {
                    self.unreadable = Some(text.chars().filter(|c| !c.is_control()).take(200).collect());
                }
                None => {}
            }
        }
        let failed = |e: FtpError| place.pool.error("list", &self.folder, &e);
        answered(silence, self.lines.into_inner().finish()).await.map_err(failed)?;
        if self.for_people {
            self.lease.get().back().await.map_err(failed)?;
        }
        self.lease.give_back();
        match self.unreadable {
            // A listing in a form that we do not know is no empty folder.
            Some(line) if !self.any => {
                let detail = format!("its listing is in a form that is not known: {line}");
                Err(place.fail(PlaceErrorKind::Unsupported, "list", &self.folder, detail))
            }
            Some(line) => {
                tracing::warn!(place = %place.name, folder = %self.folder, line, "a line of a listing cannot be read");
                Ok(None)
            }
            None => Ok(None),
        }
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
async fn look_by_line(connection: &mut Connection, full: &str, name: &[u8]) -> FtpResult<Option<Told>> {
    let size = match answered(connection.silence, connection.stream.size(full)).await {
        Ok(size) => size as u64,
        Err(FtpError::UnexpectedResponse(refused)) => {
            return match connection.enter(full).await {
                Ok(()) => connection.back().await.map(|()| Some(folder())),
                Err(FtpError::UnexpectedResponse(_)) => Err(FtpError::UnexpectedResponse(refused)),
                Err(error) => Err(error),
            };
        }
        Err(error) => return Err(error),
    };
    let told = if is_plain(name) { line_of(connection, full).await? } else { among(connection, full, name).await? };
    Ok(Some(match told {
        Some(told) => Told { fingerprint: crate::fingerprint_of(size, told.fingerprint.modified, None), ..told },
        None => Told { kind: EntryKind::File, fingerprint: crate::fingerprint_of(size, 0, None), ..folder() },
    }))
}

/// Whether a name means itself in the argument of LIST: no pattern, no blank that gets lost.
fn is_plain(name: &[u8]) -> bool {
    let is_odd = |byte: &u8| b"*?[]{}\\~".contains(byte);
    !name.iter().any(is_odd) && !name.starts_with(b" ") && !name.ends_with(b" ")
}

/// The line of one file.
async fn line_of(connection: &mut Connection, full: &str) -> FtpResult<Option<Told>> {
    // Names that begin with a dot, as our temporary ones do, are listed only when asked for; a
    // server that knows no options takes them for a part of the name.
    for words in [format!("LIST -a {full}"), format!("LIST {full}")] {
        match connection.transfer(&Command::List(words)).await {
            Ok(transfer) => {
                let told = first_line(connection.silence, transfer, |_| true).await?;
                if told.is_some() {
                    return Ok(told);
                }
            }
            Err(FtpError::UnexpectedResponse(_)) => {}
            Err(error) => return Err(error),
        }
    }
    Ok(None)
}

/// The line of a file among those of its folder.
async fn among(connection: &mut Connection, full: &str, name: &[u8]) -> FtpResult<Option<Told>> {
    let folder = full.rsplit_once('/').map_or(".", |(folder, _)| if folder.is_empty() { "/" } else { folder });
    let transfer = list_here(connection, folder).await?;
    let told = first_line(connection.silence, transfer, |told| told.name == name).await?;
    connection.back().await?;
    Ok(told)
}

/// The first line of a listing that is wanted; the listing is read to its end.
async fn first_line(
    silence: Duration,
    transfer: Transfer,
    is_wanted: impl Fn(&Told) -> bool,
) -> FtpResult<Option<Told>> {
    let (mut lines, mut found) = (BufReader::new(transfer), None);
    while let Some(line) = next_line(silence, &mut lines).await.map_err(FtpError::ConnectionError)? {
        if found.is_none() {
            found = read_line(&line).filter(|told| is_wanted(told));
        }
    }
    answered(silence, lines.into_inner().finish()).await?;
    Ok(found)
}

/// The next line of a listing, without its end.
async fn next_line(silence: Duration, lines: &mut BufReader<Transfer>) -> io::Result<Option<String>> {
    let mut line = Vec::new();
    let limit = LONGEST_LINE as u64;
    let read = timeout(silence, lines.take(limit).read_until(b'\n', &mut line)).await;
    match read.unwrap_or_else(|_| Err(io::ErrorKind::TimedOut.into())) {
        Ok(0) => return Ok(None),
        // TLS that just ends: the server's last word on the control connection decides.
        Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => return Ok(None),
        Err(error) => return Err(error),
        Ok(_) if line.len() >= LONGEST_LINE => {
            return Err(io::Error::new(io::ErrorKind::InvalidData, "a line of its listing is longer than 64 KiB"));
        }
        Ok(_) => {}
    }
    let line = line.strip_suffix(b"\n").unwrap_or(&line);
    Ok(Some(to_text(line.strip_suffix(b"\r").unwrap_or(line))))
}

#[async_trait]
impl Place for Ftp {
    fn name(&self) -> &PlaceName {
        &self.name
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities {
            resumes: true,
            names: Names::OneLine,
            sets_times: true,
            stages: self.pool.spec().staged,
            ..Capabilities::LEAST
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
        let transfer = match connection.transfer(&Command::Read { path: full, from }).await {
            Ok(transfer) => transfer,
            Err(error) => {
                let error = failed(error);
                if error.kind != PlaceErrorKind::Other {
                    return Err(error);
                }
                // A bare "failed": it is gone by now, or nobody may read it.
                lease.give_back();
                self.must_be_file("read", path).await?;
                return Err(PlaceError { kind: PlaceErrorKind::Denied, ..error });
            }
        };
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

    async fn set_modified(&self, path: &RelPath, at: i64) -> Result<Entry> {
        let stamp =
            Timestamp::from_second(at.div_euclid(1_000_000_000)).map(|at| at.strftime("%Y%m%d%H%M%S").to_string());
        if let Ok(stamp) = stamp {
            self.call("set the time of", path, async |connection, full| {
                if !connection.sets_times {
                    return Ok(());
                }
                // No RFC has it; servers follow draft-somers-ftp-mfxx, section 3.
                let command = format!("MFMT {stamp} {full}");
                let set = connection.stream.custom_command(command, &[Status::File]);
                unless_refused(answered(connection.silence, set).await.map(drop))
            })
            .await?;
        }
        self.stat(path).await
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
        if self.folders.has(path) {
            return Ok(());
        }
        make_each(self, path, |at| {
            async move {
                self.call("make folder", &at, async |c, full| answered(c.silence, c.stream.mkdir(full)).await).await
            }
            .boxed()
        })
        .await?;
        self.folders.seen(path);
        Ok(())
    }

    async fn remove_folder(&self, path: &RelPath) -> Result<()> {
        let call = "remove folder";
        self.folders.forget(path);
        self.call(call, path, async |c, full| answered(c.silence, c.stream.rmdir(full)).await).await
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
