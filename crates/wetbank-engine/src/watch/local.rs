//! Watching a folder of this machine: kernel events, and scans where they cannot be trusted.

use std::{
    collections::{HashMap, HashSet, VecDeque},
    ffi::OsStr,
    os::unix::ffi::OsStrExt,
    sync::{Arc, Mutex, PoisonError},
    time::Duration,
};

use futures_util::{StreamExt, stream};
use inotify::{EventMask, Inotify, WatchDescriptor, WatchMask, Watches};
use jiff::Timestamp;
use tokio::{sync::Notify, time::Instant};
use tokio_util::sync::CancellationToken;
use wetbank_core::{FilePath, LookPace, RelPath};
use wetbank_places::{Depth, Entry, EntryKind, Place};

use super::{
    Watched,
    ledger::{SeenPaths, TOGETHER, Untaken, forget, forget_gone, sighting, untaken},
    markers::Markers,
    settle::{Again, Answer, QUIET, Seen, Settling},
};
use crate::{clock, engine::Core};

/// Changed paths remembered at most; past that everything is scanned anew.
const REMEMBERED: usize = 200_000;
/// How often everything is scanned although events come: hard links and network mounts give none.
const SCAN_EVERY: Duration = Duration::from_secs(600);
/// Where some folder could not be watched, the scan is all there is.
const SCAN_BLIND: Duration = Duration::from_secs(30);
/// Looks at files at once.
const LOOKS: usize = 8;

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Change {
    Closed,
    Appeared,
    Gone,
    NewFolder,
    FolderGone,
}

/// What the kernel told and nobody looked at yet; each path once, its latest change.
#[derive(Debug, Default)]
struct Changes {
    state: Mutex<(HashMap<RelPath, Change>, VecDeque<RelPath>, bool)>,
    came: Notify,
}

impl Changes {
    fn put(&self, path: RelPath, change: Change) {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        if state.0.len() >= REMEMBERED {
            state.0.clear();
            state.1.clear();
            state.2 = true;
        } else if state.0.insert(path.clone(), change).is_none() {
            state.1.push_back(path);
        }
        drop(state);
        self.came.notify_one();
    }

    fn lost(&self) {
        self.state.lock().unwrap_or_else(PoisonError::into_inner).2 = true;
        self.came.notify_one();
    }

    fn take(&self) -> (Vec<(RelPath, Change)>, bool) {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        let (changes, order, lost) = std::mem::take(&mut *state);
        (order.into_iter().filter_map(|path| Some((path.clone(), *changes.get(&path)?))).collect(), lost)
    }
}

type Folders = Arc<Mutex<HashMap<WatchDescriptor, RelPath>>>;

struct Local {
    core: Arc<Core>,
    place: Arc<dyn Place>,
    watched: Watched,
    watches: Watches,
    folders: Folders,
    settling: Settling,
    /// When to look at paths again.
    again: Again,
    markers: Markers,
    /// The files that wait for a marker.
    awaiting: HashMap<RelPath, HashSet<RelPath>>,
    blind: bool,
}

/// Watches until told to stop.
pub(super) async fn watch(core: Arc<Core>, place: Arc<dyn Place>, watched: Watched, stop: CancellationToken) {
    let inotify = match Inotify::init() {
        Ok(inotify) => inotify,
        Err(error) => {
            tracing::warn!(place = %place.name(), %error, "no kernel events; the folder is only looked through");
            return super::remote::watch(core, place, watched, stop).await;
        }
    };
    let changes = Arc::new(Changes::default());
    let folders: Folders = Arc::default();
    let watches = inotify.watches();
    core.tracker.spawn(read_events(inotify, folders.clone(), changes.clone(), stop.clone()));
    let mut local = Local {
        core,
        place,
        watched,
        watches,
        folders,
        settling: Settling::default(),
        again: Again::default(),
        markers: Markers::default(),
        awaiting: HashMap::new(),
        blind: false,
    };
    let mut scan_at = Instant::now();
    loop {
        if Instant::now() >= scan_at {
            let whole = tokio::select! {
                whole = local.scan_all() => whole,
                () = stop.cancelled() => return,
            };
            let pause = if whole && !local.blind { SCAN_EVERY } else { SCAN_BLIND };
            // Rules may ask for more frequent looks than events make necessary, not for fewer.
            let asked = local.watched.rules.iter().filter_map(|live| match live.arrival.pace {
                LookPace::Every(every) => Some(every),
                LookPace::Adaptive => None,
            });
            let asked = asked.min().unwrap_or(pause);
            scan_at = Instant::now() + if whole { pause } else { asked.min(pause) };
        }
        let look_at = local.again.next().map_or(scan_at, |due| (Instant::now() + clock::until(due)).min(scan_at));
        tokio::select! {
            () = changes.came.notified() => {}
            () = tokio::time::sleep_until(look_at) => {}
            () = stop.cancelled() => return,
        }
        let (list, lost) = changes.take();
        if lost {
            tracing::info!(place = %local.place.name(), "the kernel dropped events; scanning everything");
            scan_at = Instant::now();
        }
        local.handle(list).await;
        local.look_again().await;
    }
}

/// Drains the kernel's queue and nothing else, so that it overflows as late as possible.
async fn read_events(inotify: Inotify, folders: Folders, changes: Arc<Changes>, stop: CancellationToken) {
    let Ok(mut events) = inotify.into_event_stream(vec![0; 64 << 10]) else {
        changes.lost();
        return;
    };
    loop {
        let event = tokio::select! {
            event = events.next() => event,
            () = stop.cancelled() => return,
        };
        let Some(Ok(event)) = event else {
            changes.lost();
            return;
        };
        if event.mask.contains(EventMask::Q_OVERFLOW) {
            changes.lost();
            continue;
        }
        if event.mask.contains(EventMask::IGNORED) {
            folders.lock().unwrap_or_else(PoisonError::into_inner).remove(&event.wd);
            continue;
        }
        let folder = folders.lock().unwrap_or_else(PoisonError::into_inner).get(&event.wd).cloned();
        let (Some(folder), Some(name)) = (folder, event.name) else { continue };
        let Ok(path) = folder.join_name(name.as_bytes()) else { continue };
        if path.is_temporary() {
            continue;
        }
        let is_folder = event.mask.contains(EventMask::ISDIR);
        let arrives = event.mask.intersects(EventMask::MOVED_TO | EventMask::CLOSE_WRITE);
        let change = if event.mask.intersects(EventMask::DELETE | EventMask::MOVED_FROM) {
            if is_folder { Change::FolderGone } else { Change::Gone }
        } else if is_folder {
            Change::NewFolder
        } else if arrives {
            Change::Closed
        } else {
            Change::Appeared
        };
        changes.put(path, change);
    }
}

impl Local {
    /// Asks the kernel for events of a folder. Whatever happens in it from here on is told;
    /// what lay in it before, only a scan shows.
    fn add_watch(&mut self, folder: &RelPath) {
        if self.watch_one(folder) || folder.is_root() {
            return;
        }
        // It is not there yet: the nearest folder above it tells when it comes.
        let mut above = folder.parent();
        while !self.watch_one(&above) && !above.is_root() {
            above = above.parent();
        }
        // It may have come just now.
        self.watch_one(folder);
    }

    /// Answers whether the folder is there.
    fn watch_one(&mut self, folder: &RelPath) -> bool {
        let Some(root) = self.place.as_folder() else { return true };
        let path = root.root().join(OsStr::from_bytes(folder.as_bytes()));
        let mask = WatchMask::CLOSE_WRITE
            | WatchMask::MOVED_TO
            | WatchMask::CREATE
            | WatchMask::MOVED_FROM
            | WatchMask::DELETE
            | WatchMask::ONLYDIR
            | WatchMask::DONT_FOLLOW;
        match self.watches.add(path, mask) {
            Ok(descriptor) => {
                self.folders.lock().unwrap_or_else(PoisonError::into_inner).insert(descriptor, folder.clone());
            }
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => return false,
            Err(error) => {
                if !self.blind {
                    tracing::warn!(place = %self.place.name(), %folder, %error, "no kernel events for some folders; they are only looked through");
                }
                self.blind = true;
            }
        }
        true
    }

    /// Watches and scans everything. Answers whether all of it could be seen.
    async fn scan_all(&mut self) -> bool {
        let since = clock::now();
        let mut seen = SeenPaths::default();
        let mut whole = true;
        for (folder, _) in self.watched.folders() {
            whole &= self.scan(folder, &mut seen).await;
        }
        if whole {
            self.settling.keep(|path| seen.contains(path));
            forget_gone(&self.core, self.place.as_ref(), self.watched.rules.iter(), &seen, since).await;
        }
        whole
    }

    /// Watches and scans a folder, and those below it where they count.
    async fn scan(&mut self, folder: RelPath, seen: &mut SeenPaths) -> bool {
        let mut whole = true;
        let mut folders = vec![folder];
        while let Some(folder) = folders.pop() {
            self.add_watch(&folder);
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
                        Err(error) => {
                            whole = false;
                            if self.core.place_failed(&error) {
                                tracing::warn!(%error, "a watched folder cannot be listed");
                            }
                        }
                    }
                }
                self.consider(&entries, |_| Seen::Found, looked).await;
            }
        }
        if whole && self.core.health.well(self.place.name()) {
            self.core.place_well(self.place.name());
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
                    let mut folders = self.folders.lock().unwrap_or_else(PoisonError::into_inner);
                    folders.retain(|_, folder| folder.below(&path).is_none());
                }
            }
        }
        self.look_at(closed).await;
    }

    async fn gone(&mut self, path: RelPath) {
        self.markers.forget(&path);
        for (at, live) in self.watched.about(&path) {
            self.settling.forget(at, &path);
            let file = FilePath { place: self.place.name().clone(), path: path.clone() };
            forget(&self.core, live, vec![file], clock::now()).await;
        }
    }

    async fn look_again(&mut self) {
        let due = self.again.take(clock::now());
        self.look_at(due).await;
    }

    async fn look_at(&mut self, paths: Vec<(RelPath, Seen)>) {
        let is_ours = |path: &RelPath| self.watched.is_marker(path) || self.watched.about(path).next().is_some();
        let paths: Vec<_> = paths.into_iter().filter(|(path, _)| is_ours(path)).collect();
        if paths.is_empty() {
            return;
        }
        let place = self.place.clone();
        let looked = clock::now();
        let mut looks = stream::iter(paths)
            .map(move |(path, seen)| {
                let place = place.clone();
                async move { (place.stat(&path).await, seen) }
            })
            .buffered(LOOKS)
            .ready_chunks(TOGETHER);
        while let Some(chunk) = looks.next().await {
            // Gone already: nothing to say about it.
            let (entries, kinds): (Vec<_>, Vec<_>) =
                chunk.into_iter().filter_map(|(entry, seen)| Some((entry.ok()?, seen))).unzip();
            self.consider(&entries, |at| kinds[at], looked).await;
        }
    }

    /// Takes files in for every rule that is about them, once they are complete. They were looked
    /// at no earlier than `looked`; `seen` tells of each how it came to be seen.
    async fn consider(&mut self, entries: &[Entry], seen: impl Fn(usize) -> Seen, looked: Timestamp) {
        let now = clock::now();
        for entry in entries {
            if self.markers.note(&self.watched, entry)
                && let Some(files) = self.awaiting.remove(&entry.path)
            {
                files.into_iter().for_each(|file| self.again.put(now, file, Seen::Closed));
            }
        }
        for Untaken { rule: at, file, changed } in
            untaken(&self.core, self.place.as_ref(), &self.watched, entries).await
        {
            let (live, entry, seen) = (&self.watched.rules[at], &entries[file], seen(file));
            let arrival = &live.arrival;
            if let Some(marker) = &arrival.marker {
                if !self.markers.vouch_for(live, entry) {
                    if let Some(marker) = marker.of(&entry.path) {
                        self.awaiting.entry(marker).or_default().insert(entry.path.clone());
                    }
                    continue;
                }
                if arrival.settle.is_zero() {
                    self.core.intake.offer(sighting(live, self.place.as_ref(), entry, changed, looked)).await;
                    continue;
                }
            }
            match self.settling.look(at, &entry.path, &entry.fingerprint, arrival.settle, seen, now) {
                Answer::Settled => {
                    self.core.intake.offer(sighting(live, self.place.as_ref(), entry, changed, looked)).await
                }
                Answer::LookAgain(due) => self.again.put(due, entry.path.clone(), seen),
            }
        }
    }
}
