//! One `fsync` of a folder for everybody who waits for it.

use std::{
    collections::HashMap,
    io,
    sync::{
        Arc,
        atomic::{AtomicU64, Ordering},
    },
};

use parking_lot::Mutex;
use wetbank_core::RelPath;

use crate::blocking;

/// Folders remembered at most; forgetting one costs nothing but a lock.
const REMEMBERED: usize = 4096;

#[derive(Debug, Default)]
pub(super) struct FolderSync {
    folders: Mutex<HashMap<RelPath, Arc<Waiting>>>,
}

#[derive(Debug, Default)]
struct Waiting {
    asked: AtomicU64,
    synced: AtomicU64,
    turn: tokio::sync::Mutex<()>,
}

impl FolderSync {
    /// Returns once a sync that began after this call has ended well.
    pub async fn sync(
        &self,
        folder: &RelPath,
        call: impl FnOnce() -> io::Result<()> + Send + 'static,
    ) -> io::Result<()> {
        let waiting = {
            let mut folders = self.folders.lock();
            if folders.len() >= REMEMBERED {
                folders.retain(|_, waiting| Arc::strong_count(waiting) > 1);
            }
            folders.entry(folder.clone()).or_default().clone()
        };
        let ticket = waiting.asked.fetch_add(1, Ordering::SeqCst) + 1;
        let _turn = waiting.turn.lock().await;
        if waiting.synced.load(Ordering::SeqCst) >= ticket {
            return Ok(());
        }
        let covers = waiting.asked.load(Ordering::SeqCst);
        blocking::run(call).await?;
        waiting.synced.store(covers, Ordering::SeqCst);
        Ok(())
    }
}
