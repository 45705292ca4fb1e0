//! What an account sees of its root, and what it may do there.

use std::{collections::BTreeSet, sync::Arc};

use futures_util::TryStreamExt;
use jiff::Timestamp;
use wetbank_core::{Account, ByteSize, RelPath};
use wetbank_engine::Visitor;
use wetbank_places::{Collision, Depth, Entry, EntryKind, EntryStream, PlaceErrorKind};

use crate::{
    Collecting, Guest, Refusal, Uploading,
    ground::{Ground, staged},
};

/// What an account sees of a file or folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Seen {
    /// As the account sees it.
    pub path: RelPath,
    /// Whether it is a folder.
    pub is_folder: bool,
    /// Bytes; of a file that is being handed in those that came.
    pub size: u64,
    /// When it was changed.
    pub modified: Timestamp,
    /// Whether the account may change what is there.
    pub may_write: bool,
    /// Whether it may read it.
    pub may_read: bool,
}

/// What a guest sees. Every call asks what the book says now.
#[derive(Debug, Clone)]
pub struct View {
    guest: Arc<Guest>,
}

impl View {
    /// What this guest sees.
    pub fn new(guest: Guest) -> Self {
        Self { guest: Arc::new(guest) }
    }

    /// Whose it is.
    pub fn guest(&self) -> &Guest {
        &self.guest
    }

    /// The account as it is now, as long as it opens.
    fn account(&self) -> Result<Arc<Account>, Refusal> {
        let account = self.guest.desk.engine().account(self.guest.account.as_str());
        let opens = |account: &Arc<Account>| account.opens(self.guest.address, Timestamp::now()).is_ok();
        match account.filter(opens) {
            Some(account) if !self.guest.ended.is_cancelled() => Ok(account),
            _ => {
                self.guest.ended.cancel();
                Err(Refusal::Over)
            }
        }
    }

    pub(crate) fn visitor(&self, account: Arc<Account>) -> Visitor {
        Visitor { visit: self.guest.visit, account, address: self.guest.address }
    }

    fn ground(&self, account: &Account) -> Result<Ground, Refusal> {
        Ground::of(self.guest.desk.engine(), account)
    }

    fn seen(account: &Account, path: RelPath, entry: Option<&Entry>) -> Seen {
        let opened = account.at(&path);
        let state = entry.map(|entry| &entry.fingerprint);
        Seen {
            is_folder: entry.is_none_or(|entry| entry.kind == EntryKind::Folder),
            size: state.map_or(0, |state| state.size),
            modified: state.map_or(Timestamp::UNIX_EPOCH, |state| state.modified_at()),
            may_write: opened.is_some_and(|opened| opened.may.hands_in()),
            may_read: opened.is_some_and(|opened| opened.may.collects()),
            path,
        }
    }

    /// Nothing that is not theirs is there for them; nor is what is ours.
    fn is_theirs(account: &Account, path: &RelPath) -> Result<(), Refusal> {
        let is_theirs = account.at(path).is_some() || account.leads(path);
        match is_theirs && !path.is_temporary() {
            true => Ok(()),
            false => Err(Refusal::NotFound),
        }
    }

    /// What lies at a path.
    ///
    /// # Errors
    ///
    /// If nothing that the account sees.
    pub async fn stat(&self, path: &RelPath) -> Result<Seen, Refusal> {
        let account = self.account()?;
        Self::is_theirs(&account, path)?;
        let is_arranged = account.leads(path) || account.opened.iter().any(|opened| opened.folder == *path);
        if path.is_root() {
            return Ok(Self::seen(&account, path.clone(), None));
        }
        let ground = self.ground(&account)?;
        match ground.place.stat(&ground.path(path)).await {
            Ok(entry) if matches!(entry.kind, EntryKind::File | EntryKind::Folder) => {
                Ok(Self::seen(&account, path.clone(), Some(&entry)))
            }
            Ok(_) => Err(Refusal::NotFound),
            // It is made once something is handed in.
            Err(error) if error.kind == PlaceErrorKind::NotFound && is_arranged => {
                Ok(Self::seen(&account, path.clone(), None))
            }
            Err(error) if error.kind == PlaceErrorKind::NotFound => self.being_handed_in(&account, &ground, path).await,
            Err(error) => Err(error.into()),
        }
    }

    /// So much of a file came before its visit was cut off: who asks can go on from there.
    async fn being_handed_in(&self, account: &Account, ground: &Ground, path: &RelPath) -> Result<Seen, Refusal> {
        let at = staged(account.name.as_str(), path);
        let entry = match &ground.folder {
            Some(folder) => wetbank_places::Place::stat(folder, &at).await?,
            None => wetbank_places::Place::stat(&self.guest.desk.0.spool, &name_of(&at)).await?,
        };
        let folder = ground.folder.as_ref().unwrap_or(&self.guest.desk.0.spool);
        // What has gaps is begun anew.
        if folder.is_marked(&entry.path).await? {
            return Err(Refusal::NotFound);
        }
        Ok(Self::seen(account, path.clone(), Some(&entry)))
    }

    /// What lies in a folder.
    ///
    /// # Errors
    ///
    /// If it is no folder that the account sees.
    pub async fn list(&self, path: &RelPath) -> Result<Listing, Refusal> {
        let seen = self.stat(path).await?;
        if !seen.is_folder {
            return Err(Refusal::Unfit("this is no folder"));
        }
        let account = self.account()?;
        let ground = self.ground(&account)?;
        // What leads to something opened is there, whether it was made or not.
        let below = account.opened.iter().filter_map(|opened| opened.folder.below(path));
        let arranged = below.filter_map(|below| below.parts().next().map(<[u8]>::to_vec)).collect();
        let entries = ground.place.list(&ground.path(path), Depth::One);
        Ok(Listing { account, ground, folder: path.clone(), entries: Some(entries), arranged })
    }

    /// Begins to collect a file.
    ///
    /// # Errors
    ///
    /// If the account may not, or it is none.
    pub async fn collect(&self, path: &RelPath) -> Result<Collecting, Refusal> {
        let account = self.account()?;
        Self::is_theirs(&account, path)?;
        match account.at(path) {
            Some(opened) if opened.may.collects() => {}
            Some(_) => return Err(Refusal::Denied("files are only handed in here; what lies here is not read")),
            None => return Err(Refusal::Unfit("this is a folder")),
        }
        let ground = self.ground(&account)?;
        Collecting::begin(self.clone(), account, &ground, path).await
    }

    /// Begins to hand a file in, or goes on with it. `keeps` says that what came before is kept, or else what lies there.
    ///
    /// # Errors
    ///
    /// If the account may not, or somebody is at it already.
    pub async fn hand_in(&self, path: &RelPath, keeps: bool, must_be_new: bool) -> Result<Uploading, Refusal> {
        let account = self.account()?;
        Self::is_theirs(&account, path)?;
        self.may_hand_in(&account, path)?;
        let ground = self.ground(&account)?;
        Uploading::begin(self.clone(), account, ground, path, (keeps, must_be_new)).await
    }

    fn may_hand_in(&self, account: &Account, path: &RelPath) -> Result<(), Refusal> {
        match account.at(path) {
            Some(_) if account.opened.iter().any(|opened| opened.folder == *path) => {
                Err(Refusal::Unfit("this is a folder that is arranged here"))
            }
            Some(opened) if opened.may.hands_in() => Ok(()),
            _ => Err(Refusal::Denied("nothing is handed in here")),
        }
    }

    fn may_remove(account: &Account, path: &RelPath) -> Result<(), Refusal> {
        match account.at(path) {
            Some(opened) if opened.deletes && opened.folder != *path => Ok(()),
            _ => Err(Refusal::Denied("nothing is removed here")),
        }
    }

    /// Removes a file, or gives up one that is being handed in.
    ///
    /// # Errors
    ///
    /// If the account may not, or it is none.
    pub async fn remove(&self, path: &RelPath) -> Result<(), Refusal> {
        let account = self.account()?;
        Self::is_theirs(&account, path)?;
        let ground = self.ground(&account)?;
        let at = ground.path(path);
        match ground.place.stat(&at).await {
            Ok(entry) if entry.kind == EntryKind::File => {
                Self::may_remove(&account, path)?;
                let engine = self.guest.desk.engine();
                // What cannot be put on record is not done.
                let id = engine.removing(&self.visitor(account.clone()), path, &entry.fingerprint).await?;
                if let Err(error) = ground.place.delete(&at).await {
                    engine.not_removed(id).await?;
                    return Err(error.into());
                }
                if let Some(room) = self.guest.desk.0.rooms.of(&account, &ground).await? {
                    room.give(entry.fingerprint.size);
                }
                tracing::info!(account = %account.name, %path, visit = self.guest.visit, "removed");
                Ok(())
            }
            Ok(entry) if entry.kind == EntryKind::Folder => Err(Refusal::Unfit("this is a folder")),
            Ok(_) => Err(Refusal::NotFound),
            Err(error) if error.kind == PlaceErrorKind::NotFound => {
                self.may_hand_in(&account, path)?;
                self.guest.desk.give_up(&account, &ground, path).await
            }
            Err(error) => Err(error.into()),
        }
    }

    /// Makes a folder.
    ///
    /// # Errors
    ///
    /// If the account may not, something of the name is there, or the folder above is not.
    pub async fn make_folder(&self, path: &RelPath) -> Result<(), Refusal> {
        let account = self.account()?;
        Self::is_theirs(&account, path)?;
        let ground = self.ground(&account)?;
        let is_arranged = path.is_root() || account.leads(path) || account.opened.iter().any(|one| one.folder == *path);
        if is_arranged || self.stat(path).await.is_ok() {
            return Err(Refusal::Taken("something of this name is there already"));
        }
        self.may_hand_in(&account, path)?;
        if !self.stat(&path.parent()).await?.is_folder {
            return Err(Refusal::NotFound);
        }
        Ok(ground.place.make_folder(&ground.path(path)).await?)
    }

    /// Removes an empty folder.
    ///
    /// # Errors
    ///
    /// If the account may not, or something lies in it.
    pub async fn remove_folder(&self, path: &RelPath) -> Result<(), Refusal> {
        let account = self.account()?;
        Self::is_theirs(&account, path)?;
        Self::may_remove(&account, path)?;
        let ground = self.ground(&account)?;
        match ground.place.remove_folder(&ground.path(path)).await {
            Err(error) if error.kind == PlaceErrorKind::Exists => {
                Err(Refusal::Taken("something lies in this folder; remove that first"))
            }
            done => Ok(done?),
        }
    }

    /// Gives a file or folder another name. A file counts as handed in under it.
    ///
    /// # Errors
    ///
    /// If the account may not at both ends, or the name is taken and not to be replaced.
    pub async fn rename(&self, from: &RelPath, to: &RelPath, replaces: bool) -> Result<(), Refusal> {
        let account = self.account()?;
        for path in [from, to] {
            Self::is_theirs(&account, path)?;
            self.may_hand_in(&account, path)?;
        }
        let ground = self.ground(&account)?;
        let entry = ground.place.stat(&ground.path(from)).await?;
        if !matches!(entry.kind, EntryKind::File | EntryKind::Folder) {
            return Err(Refusal::NotFound);
        }
        if to.below(from).is_some() {
            return Err(Refusal::Unfit("a folder cannot lie in itself"));
        }
        let there = ground.place.stat(&ground.path(to)).await;
        match &there {
            Ok(there) if !replaces || there.kind != EntryKind::File || entry.kind != EntryKind::File => {
                return Err(Refusal::Taken("something of this name is there already"));
            }
            Ok(_) => {}
            Err(error) if error.kind == PlaceErrorKind::NotFound => {}
            Err(error) => return Err(error.clone().into()),
        }
        if entry.kind == EntryKind::Folder && ground.folder.is_none() {
            return Err(Refusal::Unfit("folders keep their names here"));
        }
        let collision = if replaces { Collision::Replace } else { Collision::Refuse };
        let state = ground.place.rename(&ground.path(from), &ground.path(to), collision).await?;
        if let (Ok(there), Some(room)) = (&there, self.guest.desk.0.rooms.of(&account, &ground).await?) {
            room.give(there.fingerprint.size);
        }
        if entry.kind == EntryKind::File {
            let state = state.unwrap_or(entry.fingerprint);
            let visitor = self.visitor(account);
            self.guest.desk.engine().renamed(&visitor, to, &state).await?;
        }
        Ok(())
    }

    /// How much room there is, and how much of it is free; nothing if nobody bounds it.
    ///
    /// # Errors
    ///
    /// If it cannot be counted.
    pub async fn room(&self) -> Result<Option<(u64, u64)>, Refusal> {
        let account = self.account()?;
        let ground = self.ground(&account)?;
        Ok(self.guest.desk.0.rooms.of(&account, &ground).await?.map(|room| room.told()))
    }

    /// What one file may have, if that is bounded.
    pub(crate) fn largest(account: &Account) -> Option<u64> {
        account.largest.map(|ByteSize(bytes)| bytes)
    }
}

/// The name of a file that passes through our own folder.
pub(crate) fn name_of(staged: &RelPath) -> RelPath {
    RelPath::from_bytes(staged.name()).expect("a name of a path")
}

/// The names of a folder, however many.
pub struct Listing {
    account: Arc<Account>,
    ground: Ground,
    folder: RelPath,
    entries: Option<EntryStream>,
    /// Names that are there whether they were made or not; those that the place tells are taken out.
    arranged: BTreeSet<Vec<u8>>,
}

impl Listing {
    /// The next names, not more than so many; none at the end.
    ///
    /// # Errors
    ///
    /// If the place does not tell them: what came before is true, and not all.
    pub async fn next(&mut self, most: usize) -> Result<Vec<Seen>, Refusal> {
        let mut found = Vec::new();
        while let Some(entries) = &mut self.entries {
            if found.len() >= most {
                return Ok(found);
            }
            match entries.try_next().await {
                Ok(Some(entry)) => found.extend(self.seen(&entry)),
                // Of what is only arranged there may be no folder yet.
                Err(error) if error.kind == PlaceErrorKind::NotFound => self.entries = None,
                Ok(None) => self.entries = None,
                Err(error) => return Err(error.into()),
            }
        }
        while found.len() < most {
            let Some(name) = self.arranged.pop_first() else { break };
            if let Ok(path) = self.folder.join_name(&name) {
                found.push(View::seen(&self.account, path, None));
            }
        }
        Ok(found)
    }

    fn seen(&mut self, entry: &Entry) -> Option<Seen> {
        let path = self.ground.seen(&entry.path)?;
        let is_shown = matches!(entry.kind, EntryKind::File | EntryKind::Folder);
        let is_theirs = match entry.kind {
            EntryKind::Folder => View::is_theirs(&self.account, &path).is_ok(),
            _ => self.account.at(&path).is_some() && !path.is_temporary(),
        };
        self.arranged.remove(path.name());
        (is_shown && is_theirs).then(|| View::seen(&self.account, path, Some(entry)))
    }
}

impl std::fmt::Debug for Listing {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Listing").field("folder", &self.folder).finish_non_exhaustive()
    }
}
