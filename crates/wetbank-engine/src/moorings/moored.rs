//! A place whose every call is noted.

use std::{fmt, sync::Arc};

use async_trait::async_trait;
use bytes::Bytes;
use futures_util::{StreamExt, TryStreamExt};
use jiff::Timestamp;
use wetbank_core::{Fingerprint, PlaceName, RelPath};
use wetbank_places::{
    Capabilities, ChangeStream, Collision, Cut, Depth, Entry, EntryStream, Folder, Mailbox, Place, PlaceError,
    ReadStream, Staged,
};

use super::dock::Dock;

type Result<T> = std::result::Result<T, PlaceError>;

/// Passes every call on and notes what came of it. What is asked of a folder of this machine directly does not
/// pass through here.
pub(super) struct Moored {
    inner: Arc<dyn Place>,
    dock: Arc<Dock>,
}

impl fmt::Debug for Moored {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.inner.fmt(f)
    }
}

impl Moored {
    pub fn new(inner: Arc<dyn Place>, dock: Arc<Dock>) -> Self {
        Self { inner, dock }
    }

    fn noted<T>(&self, outcome: Result<T>) -> Result<T> {
        if outcome.is_ok() {
            self.dock.seen(self.inner.name());
        }
        self.dock.noted(outcome)
    }
}

/// A file that is written to a place.
struct MooredFile {
    inner: Box<dyn Staged>,
    place: PlaceName,
    dock: Arc<Dock>,
}

#[async_trait]
impl Staged for MooredFile {
    async fn write(&mut self, chunk: Bytes) -> Result<()> {
        let written = self.inner.write(chunk).await;
        self.dock.noted(written)
    }

    async fn finish(self: Box<Self>) -> Result<Entry> {
        let finished = self.inner.finish().await;
        if finished.is_ok() {
            self.dock.worked(&self.place);
            self.dock.has_room(&self.place);
        }
        self.dock.noted(finished)
    }
}

#[async_trait]
impl Place for Moored {
    fn name(&self) -> &PlaceName {
        self.inner.name()
    }

    fn capabilities(&self) -> Capabilities {
        self.inner.capabilities()
    }

    fn endpoint(&self) -> Option<(String, u16)> {
        self.inner.endpoint()
    }

    fn certificate_ends(&self) -> Option<Timestamp> {
        self.inner.certificate_ends()
    }

    fn is_limited(&self) -> bool {
        self.inner.is_limited()
    }

    async fn secure(&self) -> Result<String> {
        let secured = self.inner.secure().await;
        self.dock.noted(secured)
    }

    async fn reach(&self) -> Result<String> {
        let reached = self.inner.reach().await;
        if reached.is_ok() {
            self.dock.worked(self.inner.name());
        }
        self.dock.noted(reached)
    }

    async fn stat(&self, path: &RelPath) -> Result<Entry> {
        self.noted(self.inner.stat(path).await)
    }

    fn list(&self, folder: &RelPath, depth: Depth) -> EntryStream {
        let dock = self.dock.clone();
        self.inner.list(folder, depth).inspect_err(move |error| dock.failed(error)).boxed()
    }

    async fn tell_owners(&self, entries: &mut [Entry]) {
        self.inner.tell_owners(entries).await;
    }

    fn changes(&self, folder: &RelPath, depth: Depth, since: Option<String>) -> Option<ChangeStream> {
        let dock = self.dock.clone();
        let changes = self.inner.changes(folder, depth, since)?;
        Some(changes.inspect_err(move |error| dock.failed(error)).boxed())
    }

    async fn read(&self, path: &RelPath, from: u64) -> Result<ReadStream> {
        let dock = self.dock.clone();
        let read = self.noted(self.inner.read(path, from).await)?;
        Ok(read.inspect_err(move |error| dock.failed(error)).boxed())
    }

    async fn stage(&self, temporary: &RelPath, target: &RelPath, resume: Option<u64>) -> Result<Box<dyn Staged>> {
        let inner = self.noted(self.inner.stage(temporary, target, resume).await)?;
        Ok(Box::new(MooredFile { inner, place: self.inner.name().clone(), dock: self.dock.clone() }))
    }

    async fn rename(&self, from: &RelPath, to: &RelPath, collision: Collision) -> Result<Option<Fingerprint>> {
        self.noted(self.inner.rename(from, to, collision).await)
    }

    async fn after_cut(&self, from: &RelPath, to: &RelPath, state: &Fingerprint) -> Result<Cut> {
        self.noted(self.inner.after_cut(from, to, state).await)
    }

    async fn delete(&self, path: &RelPath) -> Result<()> {
        self.noted(self.inner.delete(path).await)
    }

    async fn make_folder(&self, path: &RelPath) -> Result<()> {
        self.noted(self.inner.make_folder(path).await)
    }

    async fn set_modified(&self, path: &RelPath, at: i64) -> Result<Entry> {
        self.noted(self.inner.set_modified(path, at).await)
    }

    async fn remove_folder(&self, path: &RelPath) -> Result<()> {
        self.noted(self.inner.remove_folder(path).await)
    }

    fn as_folder(&self) -> Option<&Folder> {
        self.inner.as_folder()
    }

    fn as_mailbox(&self) -> Option<&Mailbox> {
        self.inner.as_mailbox()
    }
}

#[cfg(test)]
mod tests {
    use std::{fs, path::Path};

    use tokio_util::{sync::CancellationToken, task::TaskTracker};
    use wetbank_core::{FilePath, Name};
    use wetbank_journal::Journal;

    use super::*;
    use crate::{arranged::Arranged, events::Events, moorings::Moorings, record::Record};

    async fn moored(folder: &Path) -> (Moorings, Arc<dyn Place>, Name) {
        let journal = Journal::open(folder).await.unwrap();
        let arranged = Arc::new(Arranged::new(journal.clone()));
        let record = Record::new(journal, CancellationToken::new());
        let moorings = Moorings::new(record, arranged, Events::new(), TaskTracker::new());
        let name = Name::new("office").unwrap();
        let place = moorings.moor(Arc::new(Folder::new(name.clone(), folder.join("office"))));
        (moorings, place, name)
    }

    fn path(text: &str) -> RelPath {
        RelPath::parse(text).unwrap()
    }

    #[tokio::test]
    async fn a_failed_call_pauses_the_place_and_one_that_reaches_it_lifts_the_pause() {
        let folder = tempfile::tempdir().unwrap();
        let (moorings, place, name) = moored(folder.path()).await;
        assert!(place.stat(&path("a.csv")).await.is_err());
        assert!(moorings.paused(&name).is_some(), "its root is missing");
        fs::create_dir(folder.path().join("office")).unwrap();
        fs::write(folder.path().join("office/a.csv"), "1").unwrap();
        place.stat(&path("a.csv")).await.unwrap();
        assert!(moorings.paused(&name).is_some(), "one answer does not");
        place.reach().await.unwrap();
        assert!(moorings.paused(&name).is_none());
        assert_eq!(moorings.came_back().await, [name]);
    }

    #[tokio::test]
    async fn a_listing_that_breaks_off_and_a_whole_file_are_noted_as_well() {
        let folder = tempfile::tempdir().unwrap();
        let (moorings, place, name) = moored(folder.path()).await;
        assert!(place.list(&RelPath::root(), Depth::One).next().await.unwrap().is_err());
        assert!(moorings.paused(&name).is_some());
        fs::create_dir(folder.path().join("office")).unwrap();
        let mut staged = place.stage(&path(".wetbank-1"), &path("a.csv"), None).await.unwrap();
        staged.write(Bytes::from_static(b"1")).await.unwrap();
        staged.finish().await.unwrap();
        assert!(moorings.paused(&name).is_none());
    }

    #[tokio::test]
    async fn what_says_nothing_of_the_whole_place_pauses_nothing() {
        let folder = tempfile::tempdir().unwrap();
        let (moorings, place, name) = moored(folder.path()).await;
        fs::create_dir(folder.path().join("office")).unwrap();
        assert!(place.stat(&path("none.csv")).await.is_err());
        assert!(moorings.paused(&name).is_none());
        let in_folder = FilePath { place: name, path: path("in") };
        let error = place.list(&path("in"), Depth::One).next().await.unwrap().unwrap_err();
        moorings.look_failed(&in_folder, &error);
        assert!(moorings.troubles_of(&in_folder)[0].why.contains("it is not there"));
        moorings.look_worked(&in_folder);
        assert!(moorings.troubles().is_empty());
    }
}
