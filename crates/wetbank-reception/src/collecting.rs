//! A file that is being collected.

use std::{
    sync::{
        Arc,
        atomic::{AtomicBool, AtomicU64, Ordering::Relaxed},
    },
    time::Duration,
};

use bytes::Bytes;
use futures_util::TryStreamExt;
use parking_lot::Mutex;
use tokio::{sync::watch, task::JoinHandle};
use wetbank_core::{Account, Fingerprint, RelPath};
use wetbank_places::{EntryKind, Folder, Held, Place};

use crate::{Refusal, View, ground::Ground, sum::Sum};

/// What the name of a file begins with that is fetched for an account.
pub(crate) const FETCHED: &str = "out-";
/// Nothing comes from where a file lies for so long: it is given up.
const SILENCE: Duration = Duration::from_secs(120);

static NUMBER: AtomicU64 = AtomicU64::new(0);

/// How far a file is fetched that lies elsewhere.
#[derive(Debug, Clone)]
enum Fetch {
    So(u64),
    Whole,
    Failed(Refusal),
}

/// A file that lies elsewhere, fetched into our own folder while it is read.
#[derive(Debug)]
struct Fetched {
    spool: Folder,
    name: RelPath,
    far: watch::Receiver<Fetch>,
    task: JoinHandle<()>,
}

impl Drop for Fetched {
    fn drop(&mut self) {
        self.task.abort();
        let (spool, name) = (self.spool.clone(), self.name.clone());
        if let Ok(runtime) = tokio::runtime::Handle::try_current() {
            runtime.spawn(async move { drop(spool.delete(&name).await) });
        }
    }
}

/// A file that is being collected. It is on record as collected once it was read to its end and closed.
#[derive(Debug)]
pub struct Collecting {
    view: View,
    account: Arc<Account>,
    seen: RelPath,
    state: Fingerprint,
    held: Held,
    fetched: Option<Fetched>,
    sum: Mutex<Sum>,
    saw_end: AtomicBool,
}

/// A link leads nobody anywhere.
fn must_be_file(kind: EntryKind) -> Result<(), Refusal> {
    match kind {
        EntryKind::File => Ok(()),
        EntryKind::Folder => Err(Refusal::Unfit("this is a folder")),
        _ => Err(Refusal::NotFound),
    }
}

impl Collecting {
    pub(crate) async fn begin(
        view: View,
        account: Arc<Account>,
        ground: &Ground,
        path: &RelPath,
    ) -> Result<Self, Refusal> {
        let at = ground.path(path);
        let (held, state, fetched) = match &ground.folder {
            Some(folder) => {
                must_be_file(folder.stat(path).await?.kind)?;
                let (held, entry) = folder.hold(path).await?;
                (held, entry.fingerprint, None)
            }
            None => {
                let entry = ground.place.stat(&at).await?;
                must_be_file(entry.kind)?;
                let spool = view.guest().desk.0.spool.clone();
                let name = RelPath::parse(&format!("{FETCHED}{}", NUMBER.fetch_add(1, Relaxed))).expect("a plain name");
                let (held, _) = spool.hold_staged(&name, false, None).await?;
                let (tell, far) = watch::channel(Fetch::So(0));
                let task = tokio::spawn(fetch(ground.place.clone(), at, held.clone(), tell));
                (held, entry.fingerprint, Some(Fetched { spool, name, far, task }))
            }
        };
        let (sum, saw_end) = (Mutex::default(), AtomicBool::new(false));
        Ok(Self { view, account, seen: path.clone(), state, held, fetched, sum, saw_end })
    }

    /// Its state when it was opened.
    pub fn state(&self) -> &Fingerprint {
        &self.state
    }

    /// Reads at an offset, so much unless the file ends before.
    ///
    /// # Errors
    ///
    /// If it cannot be read, or the visit is over.
    pub async fn read(&self, offset: u64, length: usize) -> Result<Bytes, Refusal> {
        if self.view.guest().ended.is_cancelled() {
            return Err(Refusal::Over);
        }
        if let Some(fetched) = &self.fetched {
            let (mut far, end) = (fetched.far.clone(), offset.saturating_add(length as u64));
            let is_there = |far: &Fetch| match far {
                Fetch::So(so) => *so >= end,
                Fetch::Whole | Fetch::Failed(_) => true,
            };
            let far = far.wait_for(is_there).await.map_err(|_| Refusal::Failed)?.clone();
            if let Fetch::Failed(refusal) = far {
                return Err(refusal);
            }
        }
        let piece = self.held.read(offset, length).await?;
        if offset.saturating_add(length as u64) >= self.state.size {
            self.saw_end.store(true, Relaxed);
        }
        self.sum.lock().take(offset, &piece);
        Ok(piece)
    }

    /// The reader is done with it. If it was read to its end that is on record.
    ///
    /// # Errors
    ///
    /// If it could not be put on record.
    pub async fn close(&self) -> Result<(), Refusal> {
        let size = self.state.size;
        let (from, sum) = {
            let sum = self.sum.lock();
            (sum.reaches(size), sum.of(size))
        };
        // What went on where an earlier visit had ended has no sum here: nobody knows what they have of it.
        if !self.saw_end.load(Relaxed) || from.is_none() {
            return Ok(());
        }
        let visitor = self.view.visitor(self.account.clone());
        let desk = &self.view.guest().desk;
        desk.engine().collected(&visitor, &self.seen, &self.state, sum).await?;
        tracing::info!(account = %self.account.name, path = %self.seen, size, "collected");
        Ok(())
    }
}

async fn fetch(place: Arc<dyn Place>, path: RelPath, into: Held, tell: watch::Sender<Fetch>) {
    let mut at = 0;
    let fetched = async {
        let mut content = place.read(&path, 0).await?;
        loop {
            let next = tokio::time::timeout(SILENCE, content.try_next()).await.map_err(|_| Refusal::Failed)?;
            let Some(chunk) = next? else { return Ok::<(), Refusal>(()) };
            let length = chunk.len() as u64;
            into.write_all(at, vec![chunk]).await?;
            at += length;
            if tell.send(Fetch::So(at)).is_err() {
                return Ok(());
            }
        }
    };
    let outcome = match fetched.await {
        Ok(()) => Fetch::Whole,
        Err(refusal) => Fetch::Failed(refusal),
    };
    let _ = tell.send(outcome);
}
