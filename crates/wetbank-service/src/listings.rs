//! Listings that somebody reads page by page. The place tells its entries once; what was not
//! asked for yet stays with the place, so that a folder of any size needs no memory.

use std::{
    collections::HashMap,
    fmt,
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering},
    },
    time::Duration,
};

use futures_util::StreamExt;
use parking_lot::Mutex;
use wetbank_places::{Entry, EntryStream, PlaceError};

/// A listing that nobody goes on with is given up after this time: it may hold a connection.
const PATIENCE: Duration = Duration::from_secs(60);
/// Open listings at most; the oldest is given up for a new one.
const OPEN: usize = 16;

struct Open {
    entries: EntryStream,
    /// The entry that showed that there is more.
    ahead: Entry,
}

/// Open listings by their token. Clones share them.
#[derive(Clone)]
pub(crate) struct Listings {
    open: Arc<Mutex<HashMap<u64, Open>>>,
    next: Arc<AtomicU64>,
    patience: Duration,
}

impl fmt::Debug for Listings {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Listings").field("open", &self.lock().len()).finish()
    }
}

impl Default for Listings {
    fn default() -> Self {
        Self { open: Arc::default(), next: Arc::default(), patience: PATIENCE }
    }
}

/// A page of a listing.
pub(crate) struct Page {
    pub entries: Vec<Entry>,
    /// With what the next page is asked for, if there is one.
    pub next: Option<u64>,
}

impl Listings {
    /// The first page of a listing.
    pub async fn begin(&self, entries: EntryStream, most: usize) -> Result<Page, PlaceError> {
        self.read(entries, None, most).await
    }

    /// The next page; nothing if the listing was given up meanwhile.
    pub async fn go_on(&self, token: u64, most: usize) -> Option<Result<Page, PlaceError>> {
        let open = self.lock().remove(&token)?;
        Some(self.read(open.entries, Some(open.ahead), most).await)
    }

    async fn read(&self, mut stream: EntryStream, ahead: Option<Entry>, most: usize) -> Result<Page, PlaceError> {
        let mut entries: Vec<Entry> = ahead.into_iter().collect();
        while let Some(entry) = stream.next().await {
            let entry = entry?;
            if entry.path.is_temporary() {
                continue;
            }
            if entries.len() == most {
                let next = self.keep(Open { entries: stream, ahead: entry });
                return Ok(Page { entries, next: Some(next) });
            }
            entries.push(entry);
        }
        Ok(Page { entries, next: None })
    }

    fn keep(&self, listing: Open) -> u64 {
        let token = self.next.fetch_add(1, Ordering::Relaxed);
        let mut open = self.lock();
        if open.len() >= OPEN
            && let Some(oldest) = open.keys().min().copied()
        {
            open.remove(&oldest);
        }
        open.insert(token, listing);
        let (all, patience) = (self.open.clone(), self.patience);
        tokio::spawn(async move {
            tokio::time::sleep(patience).await;
            all.lock().remove(&token);
        });
        token
    }

    fn lock(&self) -> parking_lot::MutexGuard<'_, HashMap<u64, Open>> {
        self.open.lock()
    }
}

#[cfg(test)]
mod tests {
    use futures_util::stream;
    use wetbank_core::RelPath;
    use wetbank_places::{EntryKind, fingerprint_of};

    use super::*;

    fn entry(number: usize) -> Entry {
        let path = RelPath::parse(&format!("gauge-{number:05}.csv")).expect("a plain name");
        Entry { path, kind: EntryKind::File, fingerprint: fingerprint_of(1, 1, None), owner: None }
    }

    fn folder(of: usize) -> EntryStream {
        stream::iter((0..of).map(|number| Ok(entry(number)))).boxed()
    }

    #[tokio::test]
    async fn pages_tell_every_entry_once_and_the_last_one_says_so() {
        for of in [0, 1, 9, 10, 11, 35] {
            let listings = Listings::default();
            let mut page = listings.begin(folder(of), 10).await.expect("it can be listed");
            let mut told = page.entries.len();
            while let Some(token) = page.next {
                page = listings.go_on(token, 10).await.expect("it is open").expect("it can be listed");
                assert!(!page.entries.is_empty() && page.entries.len() <= 10);
                told += page.entries.len();
            }
            assert_eq!((told, listings.lock().len()), (of, 0));
        }
    }

    #[tokio::test]
    async fn a_listing_that_nobody_goes_on_with_is_given_up() {
        let listings = Listings { patience: Duration::from_millis(1), ..Listings::default() };
        let token = listings.begin(folder(20), 10).await.expect("it can be listed").next.expect("there is more");
        while !listings.lock().is_empty() {
            tokio::task::yield_now().await;
        }
        assert!(listings.go_on(token, 10).await.is_none());
    }

    #[tokio::test]
    async fn the_oldest_of_too_many_is_given_up() {
        let listings = Listings::default();
        let mut tokens = Vec::new();
        for _ in 0..=OPEN {
            let page = listings.begin(folder(20), 10).await.expect("it can be listed");
            tokens.push(page.next.expect("there is more"));
        }
        assert!(listings.go_on(tokens[0], 10).await.is_none());
        assert!(listings.go_on(tokens[1], 10).await.is_some());
    }
}
