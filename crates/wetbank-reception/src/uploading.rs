//! A file that is being handed in.

use std::{
    sync::{
        Arc,
        atomic::{AtomicBool, AtomicU64, Ordering::Relaxed},
    },
    time::{Duration, Instant},
};

use bytes::Bytes;
use jiff::Timestamp;
use tokio::sync::Mutex;
use wetbank_core::{Account, FilePath, Name, RelPath};
use wetbank_journal::UploadRecord;
use wetbank_places::{Entry, EntryKind, Held, Place, PlaceErrorKind};

use crate::{
    Refusal, View,
    desk::Desk,
    ground::{Ground, staged},
    order::{Due, Order},
    room::Room,
    view::name_of,
};

/// What lasts longer is put on record, so that it is found again and cleared in time.
const NOTED_AFTER: Duration = Duration::from_secs(1);
/// Read at once of a file that passes through.
const CHUNK: usize = 512 << 10;

/// A file that is being handed in. It appears once [`Uploading::finish`] says that it arrived; dropped before that it can be
/// gone on with for a day.
#[derive(Debug)]
pub struct Uploading {
    view: View,
    account: Arc<Account>,
    ground: Ground,
    seen: RelPath,
    staged: RelPath,
    held: Held,
    /// How long it is, as far as it came.
    length: AtomicU64,
    largest: Option<u64>,
    room: Option<Room>,
    /// Bytes of the file that it replaces.
    replaced: u64,
    order: Mutex<Order>,
    /// Something of it could not be written.
    is_broken: AtomicBool,
    is_scattered: AtomicBool,
    may_read: bool,
    began: Instant,
    noted: AtomicBool,
    is_over: AtomicBool,
    _turn: Turn,
}

/// Nobody else hands the same file in meanwhile.
#[derive(Debug)]
struct Turn {
    desk: Desk,
    key: (Name, RelPath),
}

impl Drop for Turn {
    fn drop(&mut self) {
        self.desk.0.uploads.lock().remove(&self.key);
    }
}

impl Uploading {
    pub(crate) async fn begin(
        view: View,
        account: Arc<Account>,
        ground: Ground,
        path: &RelPath,
        (keeps, must_be_new): (bool, bool),
    ) -> Result<Self, Refusal> {
        let desk = view.guest().desk.clone();
        let key = (account.name.clone(), path.clone());
        if !desk.0.uploads.lock().insert(key.clone()) {
            return Err(Refusal::Unfit("this file is being handed in already, by another visit of this account"));
        }
        let turn = Turn { desk: desk.clone(), key };
        let at = ground.path(path);
        let there = match ground.place.stat(&at).await {
            Ok(entry) if entry.kind == EntryKind::File && !must_be_new => Some(entry),
            Ok(_) => return Err(Refusal::Taken("something of this name is there already")),
            Err(error) if error.kind == PlaceErrorKind::NotFound => None,
            Err(error) => return Err(error.into()),
        };
        // The folder is made if it is only arranged yet; any other one must be there.
        let parent = path.parent();
        if there.is_none() && !view.stat(&parent).await?.is_folder {
            return Err(Refusal::NotFound);
        }
        let staged = staged(account.name.as_str(), path);
        let room = desk.0.rooms.of(&account, &ground).await?;
        let (folder, name) = match &ground.folder {
            Some(folder) => (folder.clone(), staged.clone()),
            None => (desk.0.spool.clone(), name_of(&staged)),
        };
        let before = match keeps {
            true => folder.stat(&name).await.ok().filter(|entry| entry.kind == EntryKind::File),
            false => None,
        };
        // What has gaps is begun anew.
        let has_gaps = before.is_some() && folder.is_marked(&name).await?;
        let before = before.filter(|_| !has_gaps);
        let copies = keeps && before.is_none() && there.is_some();
        let opened = match (&ground.folder, copies) {
            (Some(folder), true) => folder.hold_staged(&name, false, Some(path)).await,
            (None, true) => {
                return Err(Refusal::Unfit("a file that lies here is replaced as a whole; hand it in anew"));
            }
            (_, false) => {
                let opened = folder.hold_staged(&name, before.is_some(), None).await;
                match opened {
                    Err(error) if matches!(error.kind, PlaceErrorKind::NotFound | PlaceErrorKind::Unreachable) => {
                        ground.place.make_folder(&ground.path(&parent)).await?;
                        folder.hold_staged(&name, before.is_some(), None).await
                    }
                    opened => opened,
                }
            }
        };
        let (held, entry) = opened?;
        let length = entry.fingerprint.size;
        if copies && let Some(room) = &room {
            room.take(length)?;
        }
        Ok(Self {
            largest: View::largest(&account),
            may_read: account.at(path).is_some_and(|opened| opened.may.collects()),
            order: Mutex::new(Order::behind(length)),
            is_broken: AtomicBool::new(false),
            is_scattered: AtomicBool::new(false),
            replaced: there.map_or(0, |entry| entry.fingerprint.size),
            view,
            account,
            ground,
            seen: path.clone(),
            staged,
            held,
            length: AtomicU64::new(length),
            room,
            began: Instant::now(),
            noted: AtomicBool::new(false),
            is_over: AtomicBool::new(false),
            _turn: turn,
        })
    }

    /// As the account sees it.
    pub fn path(&self) -> &RelPath {
        &self.seen
    }

    /// How long it is so far.
    pub fn length(&self) -> u64 {
        self.length.load(Relaxed)
    }

    /// Makes sure that it may be so long.
    fn grow(&self, to: u64) -> Result<(), Refusal> {
        if let Some(largest) = self.largest.filter(|largest| to > *largest) {
            return Err(Refusal::Full(format!("a file may have {} at most", wetbank_core::ByteSize(largest))));
        }
        let before = self.length.fetch_max(to, Relaxed);
        let more = to.saturating_sub(before);
        if let Some(room) = self.room.as_ref().filter(|_| more > 0)
            && let Err(full) = room.take(more)
        {
            self.length.fetch_min(before, Relaxed);
            return Err(full);
        }
        Ok(())
    }

    /// Writes at an offset.
    ///
    /// # Errors
    ///
    /// If there is no room for it, or the visit is over.
    pub async fn write(&self, offset: u64, data: Bytes) -> Result<(), Refusal> {
        if self.view.guest().ended.is_cancelled() {
            return Err(Refusal::Over);
        }
        if self.began.elapsed() > NOTED_AFTER && !self.noted.swap(true, Relaxed) {
            let journal = self.view.guest().desk.engine().journal().clone();
            journal.begin_upload(self.record()).await.map_err(wetbank_engine::EngineError::from)?;
        }
        let written = async {
            let end = offset.checked_add(data.len() as u64).ok_or(Refusal::Unfit("no file is so long"))?;
            self.grow(end)?;
            // Whoever is first goes on with what waits behind it; the others wait for that.
            let mut order = self.order.lock().await;
            match order.take(offset, data) {
                Due::Nothing => Ok(()),
                Due::InOrder(from, pieces) => Ok(self.held.write_all(from, pieces).await?),
                Due::Scattered(pieces) => self.write_scattered(pieces).await,
            }
        };
        let written = written.await;
        // Whatever is closed after this is not whole.
        if written.is_err() {
            self.is_broken.store(true, Relaxed);
        }
        written
    }

    /// From now on there may be gaps: it cannot be gone on with, which is kept with the file.
    async fn write_scattered(&self, pieces: Vec<(u64, Bytes)>) -> Result<(), Refusal> {
        if !self.is_scattered.swap(true, Relaxed) {
            self.held.set_marked(true).await?;
        }
        for (at, piece) in pieces {
            self.held.write_all(at, vec![piece]).await?;
        }
        Ok(())
    }

    /// Reads what was written.
    ///
    /// # Errors
    ///
    /// If the account only hands in here.
    pub async fn read(&self, offset: u64, length: usize) -> Result<Bytes, Refusal> {
        if !self.may_read {
            return Err(Refusal::Denied("files are only handed in here; what lies here is not read"));
        }
        Ok(self.held.read(offset, length).await?)
    }

    /// Cuts it to a length, or makes it longer with zeroes.
    ///
    /// # Errors
    ///
    /// If there is no room for it.
    pub async fn set_length(&self, length: u64) -> Result<(), Refusal> {
        self.grow(length)?;
        self.held.set_length(length).await?;
        let before = self.length.swap(length, Relaxed);
        if let Some(room) = &self.room {
            room.give(before.saturating_sub(length));
        }
        self.order.lock().await.cut(length);
        Ok(())
    }

    /// Says when the file was changed where it comes from.
    ///
    /// # Errors
    ///
    /// If that cannot be kept.
    pub async fn set_modified(&self, seconds: i64) -> Result<(), Refusal> {
        Ok(self.held.set_modified(seconds).await?)
    }

    /// How it is now.
    ///
    /// # Errors
    ///
    /// If that cannot be told.
    pub async fn entry(&self) -> Result<Entry, Refusal> {
        Ok(self.held.entry().await?)
    }

    fn record(&self) -> UploadRecord {
        UploadRecord {
            staged: self.account.file(&self.staged),
            account: self.account.name.to_string(),
            seen: self.seen.clone(),
            began: Timestamp::now(),
        }
    }

    /// The checksum of the whole: of what came in order, or read anew.
    async fn summed(&self, length: u64) -> Result<String, Refusal> {
        if let Some(sum) = self.order.lock().await.sum(length) {
            return Ok(sum);
        }
        let (mut hasher, mut at) = (blake3::Hasher::new(), 0);
        loop {
            let chunk = self.held.read(at, CHUNK).await?;
            if chunk.is_empty() {
                return Ok(hasher.finalize().to_hex().to_string());
            }
            at += chunk.len() as u64;
            hasher.update(&chunk);
        }
    }

    /// It is whole: gives it its name. When this returns it lies there, and the work that rules do with it is on record.
    /// Answers its BLAKE3 checksum in hexadecimal.
    ///
    /// # Errors
    ///
    /// If it was not handed in; it can be gone on with.
    pub async fn finish(&self) -> Result<String, Refusal> {
        if self.is_broken.load(Relaxed) {
            return Err(Refusal::Unfit(
                "not all of it could be written, so it was not handed in; go on with it, or hand it in anew",
            ));
        }
        let rest = self.order.lock().await.rest();
        if let Some(rest) = rest {
            self.write_scattered(rest).await?;
        }
        if self.is_scattered.load(Relaxed) {
            self.held.set_marked(false).await?;
        }
        let entry = self.held.finish().await?;
        let sum = self.summed(entry.fingerprint.size).await?;
        let desk = &self.view.guest().desk;
        let visitor = self.view.visitor(self.account.clone());
        let staged = self.account.file(&self.staged).path;
        let entry = match &self.ground.folder {
            Some(_) => entry,
            None => self.pass_on(&staged).await?,
        };
        desk.engine().hand_in(&visitor, &self.seen, &staged, &entry, Some(sum.clone())).await?;
        self.is_over.store(true, Relaxed);
        if self.ground.folder.is_none()
            && let Err(error) = desk.0.spool.delete(&name_of(&self.staged)).await
        {
            tracing::warn!(%error, "what passed through stays for a day");
        }
        if let Some(room) = &self.room {
            room.give(self.replaced);
        }
        tracing::info!(account = %self.account.name, path = %self.seen, size = entry.fingerprint.size, "handed in");
        Ok(sum)
    }

    /// Brings what passed through us to where it belongs, under a temporary name.
    async fn pass_on(&self, staged: &RelPath) -> Result<Entry, Refusal> {
        let place = &self.ground.place;
        let target = self.account.file(&self.seen).path;
        let mut out = match place.stage(staged, &target, None).await {
            Err(error) if error.kind == PlaceErrorKind::NotFound => {
                place.make_folder(&staged.parent()).await?;
                place.stage(staged, &target, None).await?
            }
            out => out?,
        };
        let mut at = 0;
        loop {
            let chunk = self.held.read(at, CHUNK).await?;
            if chunk.is_empty() {
                return Ok(out.finish().await?);
            }
            at += chunk.len() as u64;
            out.write(chunk).await?;
        }
    }
}

impl Drop for Uploading {
    fn drop(&mut self) {
        let was_noted = self.noted.load(Relaxed);
        if self.is_over.load(Relaxed) || was_noted {
            return;
        }
        // It was cut off: it can be gone on with for a day.
        let (journal, record) = (self.view.guest().desk.engine().journal().clone(), self.record());
        if let Ok(runtime) = tokio::runtime::Handle::try_current() {
            runtime.spawn(async move {
                if let Err(error) = journal.begin_upload(record).await {
                    tracing::debug!(%error, "what was cut off is found at the next start");
                }
            });
        }
    }
}

impl Desk {
    /// Gives up what an account is handing in.
    pub(crate) async fn give_up(&self, account: &Account, ground: &Ground, seen: &RelPath) -> Result<(), Refusal> {
        if self.0.uploads.lock().contains(&(account.name.clone(), seen.clone())) {
            return Err(Refusal::Unfit("this file is being handed in by another visit of this account"));
        }
        let at = staged(account.name.as_str(), seen);
        let size = match &ground.folder {
            Some(folder) => {
                let entry = folder.stat(&at).await?;
                folder.delete(&at).await?;
                entry.fingerprint.size
            }
            None => {
                self.0.spool.delete(&name_of(&at)).await?;
                0
            }
        };
        if let Some(room) = self.0.rooms.of(account, ground).await? {
            room.give(size);
        }
        let staged: FilePath = account.file(&at);
        self.engine().journal().end_upload(&staged).await.map_err(wetbank_engine::EngineError::from)?;
        Ok(())
    }
}
