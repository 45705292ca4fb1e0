//! Watching a folder of this machine: kernel events, and scans where they cannot be trusted.

use std::{
    collections::{HashMap, HashSet},
    sync::Arc,
    time::Duration,
};

use futures_util::{StreamExt, stream};
use jiff::Timestamp;
use tokio::time::Instant;
use tokio_util::sync::CancellationToken;
use wetbank_core::{FilePath, LookPace, RelPath};
use wetbank_places::{Depth, Entry, EntryKind, Place, PlaceErrorKind, Writers};

use super::{
    arrivals::Noticed,
    kernel::{Change, Kernel},
    ledger::{TOGETHER, Untaken, forget, forget_gone, sighting, untaken},
    markers::Markers,
    means::Intake,
    settle::{Again, Answer, QUIET, Seen, Settling},
    watched::Watched,
};
use crate::{clock, runner::SeenPaths};

/// How often everything is scanned although events come: hard links and network mounts give none.
const SCAN_EVERY: Duration = Duration::from_secs(600);
/// Where some folder could not be watched, the scan is all there is.
const SCAN_BLIND: Duration = Duration::from_secs(30);
/// Looks at files at once.
const LOOKS: usize = 8;

/// A folder that is not there, or cannot be read, is looked for this often.
const MISSING: Duration = Duration::from_secs(1);
/// A file that could not be looked at is looked at again after this time.
const UNSEEN: Duration = Duration::from_secs(5);
/// Whether the watched folders are still the ones that are watched is looked at this often: of a file system that
/// is mounted over one the kernel tells nothing.
const SAME: Duration = Duration::from_secs(2);

struct Local {
    intake: Arc<Intake>,
    place: Arc<dyn Place>,
    watched: Watched,
    kernel: Kernel,
    settling: Settling,
    /// When to look at paths again.
    again: Again,
    markers: Markers,
    noticed: Noticed,
    /// The files that wait for a marker.
    awaiting: HashMap<RelPath, HashSet<RelPath>>,
    /// The inodes of the watched folders, as they were when they were looked through last.
    tops: HashMap<RelPath, Option<u64>>,
    /// One of them went: another may be there by now, perhaps with the same inode.
    has_lost_top: bool,
}

/// Watches until told to stop.
pub(super) async fn watch(intake: Arc<Intake>, place: Arc<dyn Place>, watched: Watched, stop: CancellationToken) {
    let (kernel, changes) = match Kernel::listen(&intake.tracker, stop.clone()) {
        Ok(listening) => listening,
        Err(error) => {
            tracing::warn!(place = %place.name(), %error, "no kernel events; the folder is only looked through");
            return super::remote::watch(intake, place, watched, stop).await;
        }
    };
    let mut local = Local {
        intake,
        place,
        watched,
        kernel,
        settling: Settling::default(),
        again: Again::default(),
        markers: Markers::default(),
        noticed: Noticed::default(),
        awaiting: HashMap::new(),
        tops: HashMap::new(),
        has_lost_top: false,
    };
    let mut scan_at = Instant::now();
    let mut tops_at = Instant::now() + SAME;
    loop {
        if Instant::now() >= scan_at {
            let whole = tokio::select! {
                whole = local.scan_all() => whole,
                () = stop.cancelled() => return,
            };
            let pause = if whole && !local.kernel.is_blind { SCAN_EVERY } else { SCAN_BLIND };
            // Rules may ask for more frequent looks than events make necessary, not for fewer.
            let asked = local.watched.rules.iter().filter_map(|live| match live.arrival.pace {
                LookPace::Every(every) => Some(every),
                LookPace::Adaptive => None,
            });
            let asked = asked.min().unwrap_or(pause);
            scan_at = Instant::now() + if whole { asked.min(pause) } else { MISSING };
        }
        let look_at = local.again.next().map_or(scan_at, |due| (Instant::now() + clock::until(due)).min(scan_at));
        tokio::select! {
            () = changes.came.notified() => {}
            () = tokio::time::sleep_until(look_at.min(tops_at)) => {}
            () = stop.cancelled() => return,
        }
        if Instant::now() >= tops_at {
            tops_at = Instant::now() + SAME;
            if !local.are_tops_same().await {
                scan_at = Instant::now();
            }
        }
        let (list, lost) = changes.take();
        if lost {
            tracing::info!(place = %local.place.name(), "the kernel dropped events; scanning everything");
            scan_at = Instant::now();
        }
        local.handle(list).await;
        if std::mem::take(&mut local.has_lost_top) {
            scan_at = Instant::now();
        }
        local.look_again().await;
    }
}

impl Local {
    /// Watches and scans everything. Answers whether all of it could be seen.
    async fn scan_all(&mut self) -> bool {
        let since = clock::now();
        let mut seen = SeenPaths::default();
        let mut whole = true;
        for (folder, _) in self.watched.folders() {
            let top = self.inode(&folder).await;
            self.tops.insert(folder.clone(), top);
            whole &= self.scan(folder, &mut seen).await;
        }
        self.noticed.is_acquainted |= whole;
        if whole {
            self.settling.keep(|path| seen.contains(path));
            forget_gone(&self.intake, self.place.as_ref(), self.watched.rules.iter(), &seen, since).await;
        }
        whole
    }

    async fn inode(&self, folder: &RelPath) -> Option<u64> {
        self.place.stat(folder).await.ok().and_then(|entry| entry.fingerprint.inode)
    }

    /// Whether the watched folders are the ones that were looked through last.
    async fn are_tops_same(&self) -> bool {
        for (folder, top) in &self.tops {
            if self.inode(folder).await != *top {
                return false;
            }
        }
        true
    }

    /// Watches and scans a folder, and those below it where they count. Answers whether all of it could be seen.
    async fn scan(&mut self, folder: RelPath, seen: &mut SeenPaths) -> bool {
        let mut whole = true;
        let top = FilePath { place: self.place.name().clone(), path: folder.clone() };
        let is_watched = self.watched.folders().iter().any(|(watched, _)| *watched == folder);
        let mut folders = vec![folder];
        while let Some(folder) = folders.pop() {
            if let Some(root) = self.place.as_folder() {
                self.kernel.watch(root.root(), &folder);
            }
            let deep = self.watched.is_deep(&folder);
            let looked = clock::now();
            let mut listing = self.place.list(&folder, Depth::One).ready_chunks(TOGETHER);
            while let Some(chunk) = listing.next().await {
                let mut entries = Vec::with_capacity(chunk.len());
                for entry in chunk {
                    match entry {
                        Ok(entry) if entry.kind == EntryKind::Folder => {
                            if deep {
                                folders.push(entry.path);
                            }
                        }
                        Ok(entry) => {
                            seen.insert(&entry.path);
                            entries.push(entry);
                        }
                        // One further below that went meanwhile is not there, and that is all.
                        Err(error) if error.kind == PlaceErrorKind::NotFound && error.path != top.path => {}
                        Err(error) => {
                            whole = false;
                            self.intake.moorings.look_failed(&top, &error);
                        }
                    }
                }
                let untaken = self.untaken(&entries).await;
                let writers = self.writers(untaken.iter().map(|one| &entries[one.file])).await;
                let found = writers.into_iter().map(|writers| (Seen::Found, writers)).collect();
                self.take(&entries, untaken, found, looked).await;
            }
        }
        if whole && self.intake.moorings.paused(self.place.name()).is_some() {
            // It is there again, and need not wait for its probe. What comes of that is noted.
            self.place.reach().await.ok();
        }
        if whole && is_watched {
            self.intake.moorings.look_worked(&top);
        }
        whole
    }

    async fn handle(&mut self, changes: Vec<(RelPath, Change)>) {
        let mut closed = Vec::new();
        for (path, change) in changes {
            match change {
                Change::Closed => {
                    self.again.forget(&path);
                    closed.push((path, Seen::Closed));
                }
                // Its writer will close it; a hard link has none and is looked at later.
                Change::Appeared => {
                    let due = clock::after(clock::now(), QUIET);
                    self.again.put(due, path, Seen::Found);
                }
                Change::Gone => self.gone(path).await,
                Change::NewFolder if self.watched.wants(&path) => {
                    self.scan(path, &mut SeenPaths::default()).await;
                }
                Change::NewFolder => {
                    // Perhaps one on the way to a watched folder.
                    let awaited = self.watched.folders().into_iter().map(|(folder, _)| folder);
                    for folder in awaited.filter(|folder| folder.below(&path).is_some()).collect::<Vec<_>>() {
                        self.scan(folder, &mut SeenPaths::default()).await;
                    }
                }
                Change::FolderGone => {
                    self.has_lost_top |= self.watched.folders().iter().any(|(top, _)| top.below(&path).is_some());
                    self.kernel.forget(&path);
                }
            }
        }
        self.look_at(closed).await;
    }

    /// Who writes these files, in their order.
    async fn writers(&self, entries: impl Iterator<Item = &Entry>) -> Vec<Writers> {
        let paths: Vec<_> = entries.map(|entry| entry.path.clone()).collect();
        match self.place.as_folder() {
            Some(folder) if !paths.is_empty() => folder.writers(paths).await,
            _ => vec![Writers::Unknown; paths.len()],
        }
    }

    async fn gone(&mut self, path: RelPath) {
        self.markers.forget(&path);
        for (at, live) in self.watched.about(&path) {
            self.settling.forget(at, &path);
            let file = FilePath { place: self.place.name().clone(), path: path.clone() };
            forget(&self.intake, live, vec![file], clock::now()).await;
        }
    }

    async fn look_again(&mut self) {
        let due = self.again.take(clock::now());
        self.look_at(due).await;
    }

    async fn look_at(&mut self, paths: Vec<(RelPath, Seen)>) {
        let is_ours = |path: &RelPath| self.watched.is_marker(path) || self.watched.covers(path);
        let paths: Vec<_> = paths.into_iter().filter(|(path, _)| is_ours(path)).collect();
        if paths.is_empty() {
            return;
        }
        let place = self.place.clone();
        let looked = clock::now();
        let mut looks = stream::iter(paths)
            .map(move |(path, seen)| {
                let place = place.clone();
                async move {
                    // Both are asked at once, of a file that is open.
                    let look = match place.as_folder() {
                        Some(folder) => folder.look(&path).await,
                        None => place.stat(&path).await.map(|entry| (entry, Writers::Unknown)),
                    };
                    (path, look, seen)
                }
            })
            .buffered(LOOKS)
            .ready_chunks(TOGETHER);
        while let Some(chunk) = looks.next().await {
            let (mut entries, mut told) = (Vec::with_capacity(chunk.len()), Vec::with_capacity(chunk.len()));
            for (path, look, seen) in chunk {
                match look {
                    Ok((entry, writers)) => {
                        entries.push(entry);
                        told.push((seen, writers));
                    }
                    // Gone already: nothing to say about it.
                    Err(error) if error.kind == PlaceErrorKind::NotFound => {}
                    Err(error) => {
                        // What is asked of a folder directly reports nothing by itself.
                        let _ = self.intake.moorings.noted::<()>(Err(error));
                        self.again.put(clock::after(clock::now(), UNSEEN), path, seen);
                    }
                }
            }
            let untaken = self.untaken(&entries).await;
            let told = untaken.iter().map(|one| told[one.file]).collect();
            self.take(&entries, untaken, told, looked).await;
        }
    }

    /// Which of these files the rules have not taken yet.
    async fn untaken(&mut self, entries: &[Entry]) -> Vec<Untaken> {
        let now = clock::now();
        self.noticed.notice(&self.intake.arrivals, self.place.as_ref(), &self.watched, entries).await;
        for entry in entries {
            if self.markers.note(&self.watched, entry)
                && let Some(files) = self.awaiting.remove(&entry.path)
            {
                files.into_iter().for_each(|file| self.again.put(now, file, Seen::Closed));
            }
        }
        untaken(&self.intake, self.place.as_ref(), &self.watched, entries).await
    }

    /// Takes files in for the rules that are about them, once they are complete. They were looked at no earlier than
    /// `looked`; `told` tells of each how it came to be seen and who writes it.
    async fn take(&mut self, entries: &[Entry], untaken: Vec<Untaken>, told: Vec<(Seen, Writers)>, looked: Timestamp) {
        let now = clock::now();
        for (Untaken { rule: at, file, changed }, (seen, writers)) in untaken.into_iter().zip(told) {
            let (live, entry) = (&self.watched.rules[at], &entries[file]);
            let arrival = &live.arrival;
            if let Some(marker) = &arrival.marker {
                if !self.markers.vouch_for(live, entry) {
                    if let Some(marker) = marker.of(&entry.path) {
                        self.awaiting.entry(marker).or_default().insert(entry.path.clone());
                    }
                    continue;
                }
                if arrival.settle.is_zero() && writers != Writers::Some {
                    self.intake.offers.offer(sighting(live, self.place.as_ref(), entry, changed, looked)).await;
                    continue;
                }
            }
            match self.settling.look(at, &entry.path, &entry.fingerprint, arrival.settle, (seen, writers), now) {
                Answer::Settled => {
                    self.intake.offers.offer(sighting(live, self.place.as_ref(), entry, changed, looked)).await
                }
                Answer::LookAgain(due) => self.again.put(due, entry.path.clone(), seen),
            }
        }
    }
}
