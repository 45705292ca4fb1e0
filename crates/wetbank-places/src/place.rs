use std::fmt;

use async_trait::async_trait;
use bytes::Bytes;
use futures_util::{
    StreamExt,
    future::BoxFuture,
    stream::{self, BoxStream},
};
use jiff::Timestamp;
use wetbank_core::{Fingerprint, Names, PlaceName, RelPath};

use crate::{Folder, Mailbox, PlaceError, PlaceErrorKind};

/// The result of every call.
pub(crate) type Result<T> = std::result::Result<T, PlaceError>;

/// The content of a file, chunk by chunk.
pub type ReadStream = BoxStream<'static, Result<Bytes>>;

/// Entries of a folder, as they come.
pub type EntryStream = BoxStream<'static, Result<Entry>>;

/// What changed below a folder, as it comes.
pub type ChangeStream = BoxStream<'static, Result<Change>>;

/// One change below a folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Change {
    /// This is there, new or otherwise than before.
    There(Entry),
    /// Nothing is at this path any more.
    Gone(RelPath),
    /// That was all: from here on is to be asked the next time.
    Until(String),
}

/// What a back end can do beyond what all can.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Capabilities {
    /// Renaming can replace its target in one step.
    pub replaces_atomically: bool,
    /// Renaming can refuse a taken name in one step.
    pub refuses_atomically: bool,
    /// A broken write can be resumed.
    pub resumes: bool,
    /// A resumed write drops what lay behind the point where it goes on; else that must be
    /// overwritten to its end.
    pub cuts_when_resuming: bool,
    /// Modified times finer than a second.
    pub fine_times: bool,
    /// The kernel reports changes.
    pub reports_changes: bool,
    /// Links, pipes and devices are told as such; else the server shows only what it serves.
    pub tells_links: bool,
    /// Which names are possible.
    pub names: Names,
    /// `A` and `a` are two names.
    pub tells_case: bool,
    /// A folder is there because it was made; else because something lies below it.
    pub folders_are_made: bool,
    /// A rename keeps a file's state.
    pub rename_keeps_state: bool,
    /// A file that is written can be given the time of its original, if its server does as it is told.
    pub sets_times: bool,
    /// A file is written under a temporary name first; else it is seen under its own while it is written.
    pub stages: bool,
}

impl Capabilities {
    /// What every place can do and no more; a kind says what it can do besides.
    pub(crate) const LEAST: Self = Self {
        replaces_atomically: false,
        refuses_atomically: false,
        resumes: false,
        cuts_when_resuming: false,
        fine_times: false,
        reports_changes: false,
        tells_links: false,
        names: Names::Bytes,
        tells_case: true,
        folders_are_made: true,
        rename_keeps_state: true,
        sets_times: false,
        stages: true,
    };
}

/// What became of a rename that was cut short.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Cut {
    /// It took place; this is the file's state now.
    Done(Fingerprint),
    /// It did not take place, and what was staged is gone: write anew.
    Undone,
    /// Both ends tell: look at them.
    Look,
}

/// What lies at a path.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum EntryKind {
    /// A regular file.
    File,
    /// A folder.
    Folder,
    /// A symbolic link; it is never followed.
    Link,
    /// A pipe, socket or device; it is never opened.
    Other,
    /// Something whose own name cannot be used here: its path shows it as near as is possible, and leads nowhere.
    Misnamed,
}

/// One entry of a folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// Its path below the place's root.
    pub path: RelPath,
    /// What it is.
    pub kind: EntryKind,
    /// Its state; for what is no file, only the modified time means something.
    pub fingerprint: Fingerprint,
    /// Who owns or added it, where the place tells; for people.
    pub owner: Option<String>,
}

/// How far a listing goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Depth {
    /// The folder's own entries.
    One,
    /// Everything below.
    All,
}

/// What a rename does when its target exists.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Collision {
    /// It fails with `Exists` and changes nothing.
    Refuse,
    /// It replaces the target.
    Replace,
}

/// A named folder tree somewhere.
///
/// No call leaves the root, whatever a path, a link or a server says. Every error names the
/// place, the call and the path, and none holds a credential. Dropping a future abandons the
/// call and leaks nothing that outlives the connection.
#[async_trait]
pub trait Place: Send + Sync + fmt::Debug {
    /// The place's name.
    fn name(&self) -> &PlaceName;

    /// What it can do.
    fn capabilities(&self) -> Capabilities;

    /// Host and port of its server, if it has one.
    fn endpoint(&self) -> Option<(String, u16)> {
        None
    }

    /// When the certificate ends with which its server last proved itself; nothing before that, and
    /// where there is none.
    fn certificate_ends(&self) -> Option<Timestamp> {
        None
    }

    /// Whether bytes to and from it are counted; then they must pass as chunks.
    fn is_limited(&self) -> bool {
        false
    }

    /// Reaches the server anew and secures the connection, without signing in. The answer says
    /// in words how it is secured.
    async fn secure(&self) -> Result<String> {
        Ok("on this machine".to_owned())
    }

    /// Connects and signs in if it has not, and proves that the root is there. The answer says
    /// in words what was reached, for people.
    async fn reach(&self) -> Result<String>;

    /// What lies at a path; a link is told as a link.
    async fn stat(&self, path: &RelPath) -> Result<Entry>;

    /// The entries of a folder as a stream, in no order, however many; temporary files of ours
    /// included. An error ends it: what came before is true, what is missing is unknown.
    fn list(&self, folder: &RelPath, depth: Depth) -> EntryStream;

    /// Fills in who owns these entries where a listing does not tell and each file has to be asked
    /// for. What cannot be learnt in a moment stays out.
    async fn tell_owners(&self, _entries: &mut [Entry]) {}

    /// What changed in a folder since a token that an earlier call ended with; without one, all that
    /// is there. Nothing where the place never tells changes. A stream that begins with
    /// `Unsupported` says that this server does not tell them, or does not know the token any more.
    fn changes(&self, _folder: &RelPath, _depth: Depth, _since: Option<String>) -> Option<ChangeStream> {
        None
    }

    /// The content of a file from an offset on. The stream ends only at the true end.
    async fn read(&self, path: &RelPath, from: u64) -> Result<ReadStream>;

    /// Starts writing a temporary file that is to become `target`. With `resume` the first bytes
    /// that are already there are kept and writing goes on behind them; else it starts empty.
    /// The parent folder must exist. Nothing is visible under a name that anybody waits for until
    /// [`Place::rename`], which may give it that target and no other.
    async fn stage(&self, temporary: &RelPath, target: &RelPath, resume: Option<u64>) -> Result<Box<dyn Staged>>;

    /// Says when a temporary file of ours was last changed, in nanoseconds since 1970; answers how it is then, which is as
    /// it was where the server does not do it. Only where [`Capabilities::sets_times`] says that it can be said.
    async fn set_modified(&self, path: &RelPath, _at: i64) -> Result<Entry> {
        Err(PlaceError {
            kind: PlaceErrorKind::Unsupported,
            place: self.name().clone(),
            call: "set the time of",
            path: path.clone(),
            detail: "this place keeps its own times".to_owned(),
            secret: None,
        })
    }

    /// Gives a file another path in one step, on disk before it returns where the place can say
    /// so. A taken name is refused or replaced; on an error both files are as they were. Answers
    /// the file's new state, verified, where the place does not keep it; else nothing.
    async fn rename(&self, from: &RelPath, to: &RelPath, collision: Collision) -> Result<Option<Fingerprint>>;

    /// What became of a rename of `from`, in this state, to `to` when nobody saw its answer.
    async fn after_cut(&self, _from: &RelPath, _to: &RelPath, _state: &Fingerprint) -> Result<Cut> {
        Ok(Cut::Look)
    }

    /// Removes a file. `NotFound` if it is not there; a folder is never removed.
    async fn delete(&self, path: &RelPath) -> Result<()>;

    /// Makes a folder and those above it, below the root. Fine if it is there.
    async fn make_folder(&self, path: &RelPath) -> Result<()>;

    /// Removes a folder in which nothing lies, never one in which something does.
    async fn remove_folder(&self, path: &RelPath) -> Result<()>;

    /// The folder of this machine behind the place, if it is one: what both ends have on this
    /// machine can be copied and moved without passing through chunks.
    fn as_folder(&self) -> Option<&Folder> {
        None
    }

    /// The mailbox behind the place, if it is one.
    fn as_mailbox(&self) -> Option<&Mailbox> {
        None
    }
}

/// A temporary file being written.
#[async_trait]
pub trait Staged: Send {
    /// Appends a chunk. May return before the chunk is stored.
    async fn write(&mut self, chunk: Bytes) -> Result<()>;

    /// Waits until everything is stored, and on disk where the place can say so; then tells the
    /// temporary file's state, which a rename keeps.
    async fn finish(self: Box<Self>) -> Result<Entry>;
}

/// What a listing tells of something whose name no path can have; nothing for a folder's own entries. Such a name
/// comes from another system, or from a server that lies: it is told, and never followed.
pub(crate) fn misnamed(folder: &RelPath, name: &[u8]) -> Option<Entry> {
    if matches!(name, b"" | b"." | b"..") {
        return None;
    }
    let text = String::from_utf8_lossy(name);
    let shown: String = text.chars().map(|c| if c == '/' || c.is_control() { '_' } else { c }).take(80).collect();
    let path = folder.join_name(shown.as_bytes()).ok()?;
    Some(Entry { path, kind: EntryKind::Misnamed, fingerprint: fingerprint_of(0, 0, None), owner: None })
}

/// Makes a folder and those above it where a server makes one at a time. One that somebody else
/// made just now is as good.
pub(crate) async fn make_each<'p>(
    place: &'p dyn Place,
    path: &RelPath,
    make: impl Fn(RelPath) -> BoxFuture<'p, Result<()>> + Send + Sync,
) -> Result<()> {
    let mut at = RelPath::root();
    for part in path.parts() {
        at = at.join_name(part).expect("a part of a path");
        match place.stat(&at).await {
            Ok(entry) if entry.kind == EntryKind::Folder => continue,
            Ok(_) => {
                let (name, detail) = (place.name().clone(), "a file has this name".to_owned());
                return Err(PlaceError {
                    kind: PlaceErrorKind::Exists,
                    place: name,
                    call: "make folder",
                    path: at,
                    detail,
                    secret: None,
                });
            }
            Err(error) if error.kind == PlaceErrorKind::NotFound => {}
            Err(error) => return Err(error),
        }
        if let Err(error) = make(at.clone()).await {
            match place.stat(&at).await {
                Ok(entry) if entry.kind == EntryKind::Folder => {}
                _ => return Err(error),
            }
        }
    }
    Ok(())
}

/// Lists a folder, and with depth also those below it, where a server lists one at a time.
pub(crate) fn list_each<O>(folder: &RelPath, depth: Depth, open: O) -> EntryStream
where
    O: Fn(RelPath) -> BoxFuture<'static, Result<EntryStream>> + Send + Sync + 'static,
{
    let start = (vec![folder.clone()], None::<EntryStream>, open);
    stream::try_unfold(start, move |(mut folders, mut listing, open)| async move {
        loop {
            let mut now = match listing.take() {
                Some(listing) => listing,
                None => match folders.pop() {
                    Some(folder) => open(folder).await?,
                    None => return Ok(None),
                },
            };
            let Some(entry) = now.next().await.transpose()? else { continue };
            if entry.kind == EntryKind::Folder && depth == Depth::All {
                folders.push(entry.path.clone());
            }
            return Ok(Some((entry, (folders, Some(now), open))));
        }
    })
    .boxed()
}

/// An owner's name as people can read it, if a server tells one.
pub(crate) fn owner_shown(name: &[u8]) -> Option<String> {
    let name: String = String::from_utf8_lossy(name).chars().filter(|c| !c.is_control()).take(100).collect();
    Some(name.trim().to_owned()).filter(|name| !name.is_empty())
}

/// The fingerprint of parts.
pub fn fingerprint_of(size: u64, modified: i64, inode: Option<u64>) -> Fingerprint {
    Fingerprint { size, modified, inode, tag: None }
}
