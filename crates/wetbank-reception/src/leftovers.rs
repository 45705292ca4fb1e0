//! What was cut off: it can be gone on with for a day, then it is cleared.

use std::time::Duration;

use futures_util::TryStreamExt;
use jiff::{SignedDuration, Timestamp};
use tokio_util::sync::CancellationToken;
use wetbank_core::RelPath;
use wetbank_journal::UploadRecord;
use wetbank_places::{Depth, EntryKind, Place, PlaceErrorKind};

use crate::{
    desk::Desk,
    ground::{Ground, staged, staged_prefix},
    view::name_of,
};

/// So long it can be gone on with.
const KEPT: SignedDuration = SignedDuration::from_hours(24);
/// How often it is looked for what is older.
const EVERY: Duration = Duration::from_secs(600);
/// Entries looked through at once, so that others are not kept waiting.
const AT_ONCE: usize = 1_000;

impl Desk {
    /// Clears what was cut off long ago, until told to stop.
    pub async fn tend(&self, stop: CancellationToken) {
        tokio::select! {
            () = self.find_cut_off() => {}
            () = stop.cancelled() => return,
        }
        loop {
            self.clear_before(Timestamp::now() - KEPT).await;
            tokio::select! {
                () = tokio::time::sleep(EVERY) => {}
                () = stop.cancelled() => return,
            }
        }
    }

    /// Clears what was cut off before a time.
    pub async fn clear_before(&self, before: Timestamp) {
        let records = match self.engine().journal().uploads().await {
            Ok(records) => records,
            Err(error) => return tracing::warn!(%error, "what was cut off cannot be looked for"),
        };
        for record in records.into_iter().filter(|record| record.began < before) {
            let own = record.staged.path.name();
            let mut uploads = self.0.uploads.lock().clone().into_iter();
            let is_at_work = uploads.any(|(account, seen)| staged(account.as_str(), &seen).name() == own);
            if !is_at_work && let Err(error) = self.clear(&record).await {
                tracing::warn!(file = %record.staged, %error, "what was cut off cannot be cleared yet");
            }
        }
    }

    async fn clear(&self, record: &UploadRecord) -> Result<(), wetbank_engine::EngineError> {
        let gone = |done: Result<(), wetbank_places::PlaceError>| match done {
            Err(error) if error.kind != PlaceErrorKind::NotFound => Err(error),
            _ => Ok(()),
        };
        gone(self.0.spool.delete(&name_of(&record.staged.path)).await)?;
        let place = self.engine().place(record.staged.place.as_str())?;
        gone(place.delete(&record.staged.path).await)?;
        tracing::info!(account = record.account, path = %record.seen, "what was handed in only in part is cleared");
        Ok(self.engine().journal().end_upload(&record.staged).await?)
    }

    /// Finds what was cut off together with us, and puts it on record.
    async fn find_cut_off(&self) {
        let Ok(known) = self.engine().journal().uploads().await else { return };
        let prefix = staged_prefix();
        for account in self.engine().arrangement().accounts.iter() {
            let Ok(ground) = Ground::of(self.engine(), account) else { continue };
            if ground.folder.is_none() {
                continue;
            }
            let (mut entries, mut seen) = (ground.place.list(&ground.base, Depth::All), 0_usize);
            while let Ok(Some(entry)) = entries.try_next().await {
                seen += 1;
                if seen.is_multiple_of(AT_ONCE) {
                    tokio::task::yield_now().await;
                }
                let file = account.file(&entry.path);
                let is_ours = entry.kind == EntryKind::File && entry.path.name().starts_with(prefix.as_bytes());
                if !is_ours || known.iter().any(|record| record.staged == file) {
                    continue;
                }
                // Whose it is its name does not tell back; that it goes is what matters.
                let began = entry.fingerprint.modified_at();
                let record = UploadRecord { staged: file, account: account.name.to_string(), seen: entry.path, began };
                if let Err(error) = self.engine().journal().begin_upload(record).await {
                    tracing::debug!(%error, "what was cut off is found at the next start");
                }
            }
        }
    }

    /// Nobody collects any more what was fetched before we were ended.
    pub(crate) async fn clear_fetched(&self) {
        let mut entries = self.0.spool.list(&RelPath::root(), Depth::One);
        while let Ok(Some(entry)) = entries.try_next().await {
            if entry.path.name().starts_with(crate::collecting::FETCHED.as_bytes()) {
                let _ = self.0.spool.delete(&entry.path).await;
            }
        }
    }
}
