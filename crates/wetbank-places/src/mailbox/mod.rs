//! A mailbox: letters are read with IMAP (RFC 3501) and handed in with SMTP (RFC 5321).
//!
//! Its folders are those of the server, a letter is the file `NUMBER.eml` in one of them. Letters
//! are read, filed away, deleted and sent; nothing is ever written into a mailbox.

mod connection;
mod names;
mod opens;
mod post;

use std::{fmt, sync::Arc};

use async_imap::types::{Fetch, Flag};
use async_trait::async_trait;
use bytes::Bytes;
use futures_util::{FutureExt, StreamExt, TryStreamExt, stream};
use jiff::Timestamp;
use secrecy::SecretString;
use wetbank_core::{Fingerprint, MailSecurity, MailboxSpec, PlaceName, RelPath};

use crate::{
    Capabilities, Collision, Depth, Entry, EntryKind, EntryStream, Names, Place, PlaceError, PlaceErrorKind,
    ReadStream, Staged,
    place::{Result, list_each, owner_shown},
};
use connection::{Lease, Pool};
pub use post::host_name;

/// Bytes of a letter that are asked for at once.
const CHUNK: u64 = 512 << 10;
/// Letters that are asked about at once.
const PAGE: usize = 200;
/// What is asked about a letter.
const ABOUT: &str = "(UID RFC822.SIZE INTERNALDATE FLAGS ENVELOPE)";
const ENDING: &[u8] = b".eml";

/// What the first of a mailbox's servers that is not trusted shows, and the key of the book under which that is
/// confirmed; nothing without TLS.
async fn shown_certificate(place: &PlaceName, spec: &MailboxSpec) -> Result<Option<(String, &'static str)>> {
    let (trusting, looking) =
        (Pool::new(place.clone(), spec.clone(), None), Pool::only_looking(place.clone(), spec.clone()));
    let mut shown = None;
    for server in spec.servers().filter(|server| server.security != MailSecurity::None) {
        match trusting.secure_one(server).await {
            // What is trusted is told only if nothing else has to be confirmed.
            Ok(()) if shown.is_some() => continue,
            Err(error) if error.kind != PlaceErrorKind::Certificate => return Err(error),
            trusted => {
                let _ = looking.secure_one(server).await;
                let key = if spec.read.as_ref() == Some(server) { "certificate" } else { "send-certificate" };
                let told = looking.shown_certificate(server).map(|shown| (shown, key));
                if trusted.is_err() {
                    return Ok(told);
                }
                shown = told;
            }
        }
    }
    Ok(shown)
}

/// A letter to be sent: who sends it, to whom, and all of it as RFC 5322 has it.
#[derive(Debug, Clone)]
pub struct Post {
    /// Who sends it.
    pub from: String,
    /// Who gets it.
    pub to: Vec<String>,
    /// The letter itself.
    pub letter: Vec<u8>,
}

/// A mailbox. Clones share its connections.
#[derive(Clone)]
pub struct Mailbox {
    name: PlaceName,
    pool: Arc<Pool>,
}

impl fmt::Debug for Mailbox {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Mailbox").field("name", &self.name).finish_non_exhaustive()
    }
}

/// Number and folder of a letter.
struct Letter {
    folder: RelPath,
    number: u32,
}

impl Mailbox {
    /// The place with this name. Its servers are reached only when it is used.
    pub fn new(name: PlaceName, spec: MailboxSpec, password: Option<SecretString>) -> Self {
        Self { pool: Arc::new(Pool::new(name.clone(), spec, password)), name }
    }

    /// The address that its letters come from.
    pub fn sender(&self) -> Option<&str> {
        self.pool.spec().sender.as_deref()
    }

    /// Hands a letter in to be sent. `Denied` means that the server will never take it.
    ///
    /// # Errors
    ///
    /// When this returns an error the letter was not taken, except that a connection which breaks
    /// in the last moment leaves that open: the letter's `Message-ID` tells a second one.
    pub async fn send(&self, post: &Post) -> Result<()> {
        post::send(&self.pool, post).await
    }

    /// Puts a letter into another folder of the mailbox, which is made if it is not there.
    ///
    /// # Errors
    ///
    /// `NotFound` if the letter is not there (any more).
    pub async fn file_away(&self, path: &RelPath, folder: &RelPath) -> Result<()> {
        let call = "file away";
        let letter = self.letter(call, path)?;
        let mut lease = self.pool.lease().await?;
        self.select(&mut lease, call, path, &letter.folder).await?;
        if lease.about(letter.number, "(UID)").await.map_err(|e| self.pool.failed(call, path, &e))?.is_none() {
            return Err(self.fail(PlaceErrorKind::NotFound, call, path, ""));
        }
        let target = lease.server_name(folder);
        let result = match lease.file_away(letter.number, &target).await {
            Err(error) if self.pool.failed(call, folder, &error).kind == PlaceErrorKind::NotFound => {
                let made = lease.make(&target).await;
                made.map_err(|e| self.pool.failed("make folder", folder, &e))?;
                lease.file_away(letter.number, &target).await
            }
            result => result,
        };
        self.done(lease, result, call, path)
    }

    fn fail(&self, kind: PlaceErrorKind, call: &'static str, path: &RelPath, detail: impl Into<String>) -> PlaceError {
        PlaceError { kind, place: self.name.clone(), call, path: path.clone(), detail: detail.into(), secret: None }
    }

    fn never(&self, call: &'static str, path: &RelPath) -> PlaceError {
        self.fail(PlaceErrorKind::Unsupported, call, path, "nothing is written into a mailbox; send a mail instead")
    }

    fn letter(&self, call: &'static str, path: &RelPath) -> Result<Letter> {
        let number = path.name().strip_suffix(ENDING).and_then(|digits| std::str::from_utf8(digits).ok()?.parse().ok());
        match number {
            Some(number) if !path.parent().is_root() => Ok(Letter { folder: path.parent(), number }),
            _ => Err(self.fail(PlaceErrorKind::NotFound, call, path, "")),
        }
    }

    /// Gives the connection back unless it broke.
    fn done<T>(
        &self,
        lease: Lease,
        result: async_imap::error::Result<T>,
        call: &'static str,
        path: &RelPath,
    ) -> Result<T> {
        match result {
            Ok(value) => {
                lease.give_back();
                Ok(value)
            }
            Err(error) => {
                if matches!(error, async_imap::error::Error::No(_) | async_imap::error::Error::Bad(_)) {
                    lease.give_back();
                }
                Err(self.pool.failed(call, path, &error))
            }
        }
    }

    async fn select(&self, lease: &mut Lease, call: &'static str, path: &RelPath, folder: &RelPath) -> Result<()> {
        lease.select(folder).await.map_err(|error| self.pool.failed(call, path, &error))
    }

    /// The folders right below one, and whether it holds letters itself.
    async fn folders(&self, folder: &RelPath) -> Result<Vec<RelPath>> {
        let mut lease = self.pool.lease().await?;
        let names = lease.names_below(folder).await;
        let names = self.done(lease, names, "list", folder)?;
        Ok(names)
    }

    async fn open_listing(self, folder: RelPath) -> Result<EntryStream> {
        let folders = self.folders(&folder).await?;
        let entry = |path: RelPath| Entry {
            path,
            kind: EntryKind::Folder,
            fingerprint: Fingerprint { size: 0, modified: 0, inode: None, tag: None },
            owner: None,
        };
        let has_folders = !folders.is_empty();
        let below = stream::iter(folders.into_iter().map(entry).map(Ok).collect::<Vec<_>>());
        if folder.is_root() {
            return Ok(below.boxed());
        }
        let mut lease = self.pool.lease().await?;
        if let Err(error) = lease.select(&folder).await {
            let error = self.pool.failed("list", &folder, &error);
            // One that only holds other folders cannot be opened.
            let only_folders = matches!(error.kind, PlaceErrorKind::NotFound | PlaceErrorKind::Other);
            return if has_folders && only_folders { Ok(below.boxed()) } else { Err(error) };
        }
        let numbers = lease.numbers().await;
        let numbers = match numbers {
            Ok(numbers) => numbers,
            Err(error) => return Err(self.pool.failed("list", &folder, &error)),
        };
        let pages =
            stream::try_unfold((self, folder, lease, numbers), |(mailbox, folder, mut lease, mut rest)| async {
                if rest.is_empty() {
                    lease.give_back();
                    return Ok(None);
                }
                let page: Vec<u32> = rest.drain(..PAGE.min(rest.len())).collect();
                let told = lease.about_all(&page, ABOUT).await.map_err(|e| mailbox.pool.failed("list", &folder, &e))?;
                let validity = lease.validity();
                let entries: Vec<Entry> =
                    told.iter().filter_map(|told| letter_entry(&folder, validity, told)).collect();
                Ok(Some((entries, (mailbox, folder, lease, rest))))
            });
        let letters = pages.map_ok(|page| stream::iter(page.into_iter().map(Ok))).try_flatten();
        Ok(below.chain(letters).boxed())
    }
}

/// A letter as an entry; nothing if it is marked as deleted.
fn letter_entry(folder: &RelPath, validity: u32, told: &Fetch) -> Option<Entry> {
    if told.flags().any(|flag| flag == Flag::Deleted) {
        return None;
    }
    let name = format!("{}.eml", told.uid?);
    let modified = told.internal_date().map_or(0, |date| date.timestamp().saturating_mul(1_000_000_000));
    let sender = told.envelope().and_then(|envelope| {
        let from = envelope.from.as_ref()?.first()?;
        let part =
            |text: &Option<std::borrow::Cow<'_, [u8]>>| String::from_utf8_lossy(text.as_ref()?).into_owned().into();
        let (user, host): (Option<String>, Option<String>) = (part(&from.mailbox), part(&from.host));
        owner_shown(format!("{}@{}", user?, host?).as_bytes())
    });
    Some(Entry {
        path: folder.join_name(name.as_bytes()).ok()?,
        kind: EntryKind::File,
        fingerprint: Fingerprint {
            size: told.size.unwrap_or(0).into(),
            modified,
            inode: None,
            // A server that counts its letters anew gives the same number to another letter.
            tag: Some(validity.to_string()),
        },
        owner: sender,
    })
}

#[async_trait]
impl Place for Mailbox {
    fn name(&self) -> &PlaceName {
        &self.name
    }

    fn capabilities(&self) -> Capabilities {
        Capabilities { names: Names::Unicode, rename_keeps_state: false, ..Capabilities::LEAST }
    }

    fn endpoint(&self) -> Option<(String, u16)> {
        self.pool.spec().server().map(|server| (server.host.clone(), server.port))
    }

    fn certificate_ends(&self) -> Option<Timestamp> {
        self.pool.certificate_ends()
    }

    async fn secure(&self) -> Result<String> {
        self.pool.secure().await?;
        Ok(match self.pool.spec().server().map(|server| server.security) {
            Some(MailSecurity::None) => "not secured: password and letters can be read on the way".to_owned(),
            _ => "secured with TLS".to_owned(),
        })
    }

    async fn reach(&self) -> Result<String> {
        let mut words = Vec::new();
        if self.pool.spec().read.is_some() {
            let folders = self.folders(&RelPath::root()).await?;
            words.push(format!("signed in, {} folders", folders.len()));
        }
        if self.pool.spec().send.is_some() {
            post::greet(&self.pool).await?;
            words.push("letters can be handed in".to_owned());
        }
        Ok(words.join("; "))
    }

    async fn stat(&self, path: &RelPath) -> Result<Entry> {
        let call = "look at";
        let folder = |path: &RelPath| Entry {
            path: path.clone(),
            kind: EntryKind::Folder,
            fingerprint: Fingerprint { size: 0, modified: 0, inode: None, tag: None },
            owner: None,
        };
        if path.is_root() {
            return Ok(folder(path));
        }
        let Ok(letter) = self.letter(call, path) else {
            let found = self.folders(&path.parent()).await?.contains(path);
            return if found { Ok(folder(path)) } else { Err(self.fail(PlaceErrorKind::NotFound, call, path, "")) };
        };
        let mut lease = self.pool.lease().await?;
        if let Err(error) = lease.select(&letter.folder).await {
            return self.done(lease, Err(error), call, path);
        }
        let told = lease.about(letter.number, ABOUT).await;
        let validity = lease.validity();
        let told = self.done(lease, told, call, path)?;
        let entry = told.and_then(|told| letter_entry(&letter.folder, validity, &told));
        entry.ok_or_else(|| self.fail(PlaceErrorKind::NotFound, call, path, ""))
    }

    fn list(&self, folder: &RelPath, depth: Depth) -> EntryStream {
        if self.pool.spec().read.is_none() {
            return stream::empty().boxed();
        }
        let mailbox = self.clone();
        list_each(folder, depth, move |folder| mailbox.clone().open_listing(folder).boxed())
    }

    async fn read(&self, path: &RelPath, from: u64) -> Result<ReadStream> {
        let call = "read";
        let letter = self.letter(call, path)?;
        let mut lease = self.pool.lease().await?;
        self.select(&mut lease, call, path, &letter.folder).await?;
        let told = lease.about(letter.number, "(UID RFC822.SIZE)").await;
        let size = match told.map_err(|error| self.pool.failed(call, path, &error))? {
            Some(told) => u64::from(told.size.unwrap_or(0)),
            None => {
                lease.give_back();
                return Err(self.fail(PlaceErrorKind::NotFound, call, path, ""));
            }
        };
        let (mailbox, path) = (self.clone(), path.clone());
        let start = (mailbox, path, lease, from, size);
        Ok(stream::try_unfold(start, move |(mailbox, path, mut lease, at, size)| async move {
            if at >= size {
                lease.give_back();
                return Ok(None);
            }
            let wanted = format!("(UID BODY.PEEK[]<{at}.{CHUNK}>)");
            let told = lease.about(letter.number, &wanted).await.map_err(|e| mailbox.pool.failed(call, &path, &e))?;
            let Some(chunk) = told.as_ref().and_then(Fetch::body).map(Bytes::copy_from_slice) else {
                return Err(mailbox.fail(PlaceErrorKind::NotFound, call, &path, "it is gone"));
            };
            if chunk.is_empty() {
                let detail = format!("the server told {size} bytes and gave {at}");
                return Err(mailbox.fail(PlaceErrorKind::Interrupted, call, &path, detail));
            }
            let next = at + chunk.len() as u64;
            Ok(Some((chunk, (mailbox, path, lease, next, size))))
        })
        .boxed())
    }

    async fn stage(&self, _: &RelPath, target: &RelPath, _: Option<u64>) -> Result<Box<dyn Staged>> {
        Err(self.never("write", target))
    }

    async fn rename(&self, from: &RelPath, _: &RelPath, _: Collision) -> Result<Option<Fingerprint>> {
        Err(self.never("rename", from))
    }

    async fn delete(&self, path: &RelPath) -> Result<()> {
        let call = "delete";
        let letter = self.letter(call, path)?;
        let mut lease = self.pool.lease().await?;
        self.select(&mut lease, call, path, &letter.folder).await?;
        let there = lease.about(letter.number, "(UID FLAGS)").await;
        if there.map_err(|error| self.pool.failed(call, path, &error))?.is_none() {
            lease.give_back();
            return Err(self.fail(PlaceErrorKind::NotFound, call, path, ""));
        }
        let result = lease.delete(letter.number).await;
        self.done(lease, result, call, path)
    }

    async fn make_folder(&self, path: &RelPath) -> Result<()> {
        let mut lease = self.pool.lease().await?;
        let name = lease.server_name(path);
        let made = lease.make(&name).await;
        self.done(lease, made, "make folder", path)
    }

    async fn remove_folder(&self, path: &RelPath) -> Result<()> {
        Err(self.never("remove folder", path))
    }

    fn as_mailbox(&self) -> Option<&Mailbox> {
        Some(self)
    }
}
