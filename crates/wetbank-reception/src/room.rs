//! How much lies below the roots of accounts that have a quota.

use std::{
    collections::HashMap,
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering::Relaxed},
    },
    time::{Duration, Instant},
};

use futures_util::TryStreamExt;
use parking_lot::Mutex;
use wetbank_core::{Account, ByteSize, Name};
use wetbank_places::{Depth, EntryKind, PlaceErrorKind};

use crate::{Refusal, ground::Ground};

/// After this time it is counted anew: others put files there and take them away.
const FRESH: Duration = Duration::from_secs(60);

#[derive(Debug, Default)]
struct Used {
    bytes: AtomicU64,
    counted: tokio::sync::Mutex<Option<Instant>>,
}

/// What is known of each account's room.
#[derive(Debug, Default)]
pub(crate) struct Rooms(Mutex<HashMap<Name, Arc<Used>>>);

/// The room of one account.
#[derive(Debug, Clone)]
pub(crate) struct Room {
    used: Arc<Used>,
    quota: u64,
}

impl Rooms {
    /// The room of an account, if it has a bound.
    pub async fn of(&self, account: &Account, ground: &Ground) -> Result<Option<Room>, Refusal> {
        let Some(ByteSize(quota)) = account.quota else { return Ok(None) };
        let used = self.0.lock().entry(account.name.clone()).or_default().clone();
        let mut counted = used.counted.lock().await;
        if counted.is_none_or(|at| at.elapsed() > FRESH) {
            let mut bytes = 0;
            let mut entries = ground.place.list(&ground.base, Depth::All);
            loop {
                match entries.try_next().await {
                    Ok(Some(entry)) if entry.kind == EntryKind::File => bytes += entry.fingerprint.size,
                    Ok(Some(_)) => {}
                    Ok(None) => break,
                    Err(error) if error.kind == PlaceErrorKind::NotFound => break,
                    Err(error) => return Err(error.into()),
                }
            }
            used.bytes.store(bytes, Relaxed);
            *counted = Some(Instant::now());
        }
        drop(counted);
        Ok(Some(Room { used, quota }))
    }
}

impl Room {
    /// Takes so many more bytes.
    pub fn take(&self, bytes: u64) -> Result<(), Refusal> {
        let before = self.used.bytes.fetch_add(bytes, Relaxed);
        if before.saturating_add(bytes) <= self.quota {
            return Ok(());
        }
        self.used.bytes.fetch_sub(bytes, Relaxed);
        Err(Refusal::Full(format!("your room of {} is used up", ByteSize(self.quota))))
    }

    /// Gives bytes back.
    pub fn give(&self, bytes: u64) {
        let _ = self.used.bytes.fetch_update(Relaxed, Relaxed, |used| Some(used.saturating_sub(bytes)));
    }

    /// Bytes in all, and those that are free.
    pub fn told(&self) -> (u64, u64) {
        (self.quota, self.quota.saturating_sub(self.used.bytes.load(Relaxed)))
    }
}
