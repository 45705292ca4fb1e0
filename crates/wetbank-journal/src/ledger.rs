//! The ledger: in which state a rule took which file, and which are gone.

use std::{collections::HashMap, sync::atomic::Ordering::Relaxed};

use jiff::Timestamp;
use wetbank_core::{Cause, FilePath, ItemKind, Name, RelPath};

use crate::{
    Journal, JournalError, Work,
    bulk::{self, over},
    intake::{blank, put_works},
};

/// How long, in milliseconds, it is remembered that a file went: longer than any look at a
/// folder takes.
const KEPT_GONE: i64 = 6 * 3_600_000;

impl Journal {
    /// Records that files of a rule are gone, and queues a run for each that the ledger had and
    /// that nobody of ours took away.
    pub async fn take_gone(
        &self,
        (rule, version): (&Name, i64),
        files: Vec<FilePath>,
        before: Timestamp,
        about: String,
        at: Timestamp,
    ) -> Result<Vec<Work>, JournalError> {
        let (ids, rule, millis) = (self.ids.clone(), rule.clone(), before.as_millisecond());
        let works = self
            .writer
            .write(move |connection| {
                Box::pin(async move {
                    let rows: Vec<_> = files
                        .iter()
                        .enumerate()
                        .map(|(key, f)| (rule.as_str(), f.place.as_str(), hex::encode(f.path.as_bytes()), millis, key))
                        .collect();
                    let rows_text = bulk::json(&rows);
                    let left =
                        sqlx::query_file!("queries/sightings_left.sql", rows_text).fetch_all(&mut *connection).await?;
                    let works: Vec<Work> = left
                        .into_iter()
                        .filter_map(|row| Some((files.get(usize::try_from(row.key).ok()?)?, row.fingerprint)))
                        .map(|(file, fingerprint)| Work {
                            kind: ItemKind::File,
                            fingerprint,
                            branch: None,
                            about: Some(about.clone()),
                            ..blank(&ids, (&rule, version, Cause::Arrival), ids.run.fetch_add(1, Relaxed), file, at)
                        })
                        .collect();
                    put_works(connection, works.iter(), true, at.as_millisecond()).await?;
                    let now = at.as_millisecond();
                    let gone: Vec<_> = files
                        .iter()
                        .map(|f| (rule.as_str(), f.place.as_str(), hex::encode(f.path.as_bytes()), millis, now))
                        .collect();
                    over!(connection, "queries/sightings_forget.sql", gone);
                    Ok(works)
                })
            })
            .await?;
        Ok(works)
    }

    /// Forgets that a rule took files, because they are gone: when one comes back it is new.
    /// What was taken after `before` is kept; what was seen
    /// before now is not new.
    pub async fn forget_sightings(
        &self,
        rule: &Name,
        files: Vec<FilePath>,
        before: Timestamp,
    ) -> Result<(), JournalError> {
        let (rule, before) = (rule.clone(), before.as_millisecond());
        let now = Timestamp::now().as_millisecond();
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let rows: Vec<_> = files
                        .iter()
                        .map(|f| (rule.as_str(), f.place.as_str(), hex::encode(f.path.as_bytes()), before, now))
                        .collect();
                    over!(connection, "queries/sightings_forget.sql", rows);
                    let long_gone = now - KEPT_GONE;
                    sqlx::query_file!("queries/sighting_purge.sql", long_gone).execute(&mut *connection).await?;
                    Ok(())
                })
            })
            .await
    }

    /// A page of a rule's ledger, by path: what it took.
    pub async fn sightings(
        &self,
        rule: &Name,
        place: &Name,
        after: &[u8],
        limit: i64,
    ) -> Result<Vec<Vec<u8>>, JournalError> {
        let (rule, place) = (rule.as_str(), place.as_str());
        Ok(sqlx::query_file_scalar!("queries/sightings.sql", rule, place, after, limit).fetch_all(&self.read).await?)
    }

    /// The state in which a rule last took a file.
    pub async fn sighting(&self, rule: &Name, file: &FilePath) -> Result<Option<String>, JournalError> {
        let (rule, place, path) = (rule.as_str(), file.place.as_str(), file.path.as_bytes());
        Ok(sqlx::query_file_scalar!("queries/sighting_get.sql", rule, place, path).fetch_optional(&self.read).await?)
    }

    /// Which of these (rule, path) a place's ledger has in which state: for each its index.
    pub async fn known_states(
        &self,
        place: &Name,
        asked: impl Iterator<Item = (&Name, &RelPath)>,
    ) -> Result<HashMap<usize, String>, JournalError> {
        let rows: Vec<_> =
            asked.enumerate().map(|(at, (rule, path))| (rule.as_str(), hex::encode(path.as_bytes()), at)).collect();
        let (place, rows) = (place.as_str(), bulk::json(&rows));
        let found = sqlx::query_file!("queries/sightings_known.sql", place, rows).fetch_all(&self.read).await?;
        Ok(found.into_iter().filter_map(|row| Some((usize::try_from(row.key).ok()?, row.fingerprint))).collect())
    }
}
