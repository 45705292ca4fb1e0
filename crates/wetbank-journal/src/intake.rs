//! Taking files in: the sighting and its work in one transaction.

use std::sync::atomic::Ordering::Relaxed;

use jiff::Timestamp;
use wetbank_core::{FilePath, ItemState, Name};

use crate::{Journal, JournalError, Work, records};

/// How long, in milliseconds, it is remembered that a file went: longer than any look at a
/// folder takes.
const KEPT_GONE: i64 = 6 * 3_600_000;

/// A settled file that a rule watches for.
#[derive(Debug, Clone)]
pub struct Sighting {
    /// The rule.
    pub rule: Name,
    /// The rule's version.
    pub version: i64,
    /// The file.
    pub file: FilePath,
    /// Its state.
    pub fingerprint: String,
    /// Its size in bytes.
    pub size: u64,
    /// When it was looked at: not later than its fingerprint was read.
    pub seen: Timestamp,
    /// Whether the rule takes files that it made itself.
    pub own_results: bool,
    /// Whether a person asked for it: then it is taken although it was taken before.
    pub by_hand: bool,
}

/// Why a sighting was not taken in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Refusal {
    /// The rule took this very state of the file before.
    Known,
    /// The rule made the file itself.
    OwnResult,
}

impl Journal {
    /// Records sightings and queues their work, all in one transaction. From the moment this
    /// returns the files cannot be forgotten. Answers in the order asked.
    pub async fn take_in(
        &self,
        sightings: Vec<Sighting>,
        at: Timestamp,
    ) -> Result<Vec<Result<Work, Refusal>>, JournalError> {
        let ids = self.ids.clone();
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let mut answers = Vec::with_capacity(sightings.len());
                    for sighting in sightings {
                        answers.push(take_one(connection, &ids, sighting, at).await?);
                    }
                    Ok(answers)
                })
            })
            .await
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
                    for file in files {
                        let (place, path, rule) = (file.place.as_str(), file.path.as_bytes(), rule.as_str());
                        sqlx::query_file!("queries/sighting_forget.sql", place, path, rule, before, now)
                            .execute(&mut *connection)
                            .await?;
                    }
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

    /// Items that are not at rest, in the order of their numbers.
    pub async fn open_items(&self, after: i64, limit: i64) -> Result<Vec<Work>, JournalError> {
        let rows = sqlx::query_file_as!(WorkRow, "queries/item_open.sql", after, limit).fetch_all(&self.read).await?;
        rows.into_iter().map(|row| row.into_work().map_err(JournalError::from)).collect()
    }

    /// One item, as the runner needs it.
    pub async fn work(&self, item: i64) -> Result<Option<Work>, JournalError> {
        let row = sqlx::query_file_as!(WorkRow, "queries/item_one.sql", item).fetch_optional(&self.read).await?;
        Ok(row.map(WorkRow::into_work).transpose()?)
    }
}

async fn take_one(
    connection: &mut sqlx::SqliteConnection,
    ids: &crate::open::Ids,
    sighting: Sighting,
    at: Timestamp,
) -> Result<Result<Work, Refusal>, sqlx::Error> {
    let Sighting { rule, version, file, fingerprint, size, seen, own_results, by_hand } = sighting;
    let seen = seen.as_millisecond();
    let now = at.as_millisecond();
    let (rule_name, place, path) = (rule.as_str(), file.place.as_str(), file.path.as_bytes());
    let output = sqlx::query_file!("queries/output_get.sql", place, path).fetch_optional(&mut *connection).await?;
    let output = output.filter(|output| output.fingerprint == fingerprint);
    let new = sqlx::query_file!("queries/sighting_take.sql", rule_name, place, path, fingerprint, now, seen)
        .execute(&mut *connection)
        .await?
        .rows_affected()
        > 0;
    if !by_hand {
        if !new {
            return Ok(Err(Refusal::Known));
        }
        if output.as_ref().is_some_and(|output| output.rule == rule_name && !own_results) {
            return Ok(Err(Refusal::OwnResult));
        }
    }
    let depth = output.map_or(0, |output| output.depth + 1);
    let run = ids.run.fetch_add(1, Relaxed);
    let item = ids.item.fetch_add(1, Relaxed);
    let cause = if by_hand { "hand" } else { "arrival" };
    let bytes = size.cast_signed();
    sqlx::query_file!("queries/run_put.sql", run, rule_name, version, cause, now).execute(&mut *connection).await?;
    sqlx::query_file!("queries/item_put.sql", item, run, rule_name, place, path, fingerprint, bytes, depth, now)
        .execute(&mut *connection)
        .await?;
    let (rowid, name) = (item * 2, file.path.to_string());
    sqlx::query_file!("queries/name_put.sql", rowid, name).execute(&mut *connection).await?;
    Ok(Ok(Work {
        item,
        run,
        rule,
        version,
        fingerprint,
        size,
        state: ItemState::Queued,
        branch: None,
        step: 0,
        hand: None,
        failures: 0,
        due: None,
        depth: u32::try_from(depth).unwrap_or(u32::MAX),
        taken: records::time(now),
        started: records::time(now),
        by_hand,
        file,
    }))
}

struct WorkRow {
    id: i64,
    run: i64,
    rule: String,
    version: i64,
    place: String,
    path: Vec<u8>,
    fingerprint: String,
    size: i64,
    state: String,
    branch: Option<i64>,
    step: i64,
    hand: Option<String>,
    failures: i64,
    due: Option<i64>,
    depth: i64,
    taken: i64,
    cause: String,
    started: i64,
}

impl WorkRow {
    fn into_work(self) -> Result<Work, sqlx::Error> {
        Ok(Work {
            item: self.id,
            run: self.run,
            rule: Name::new(&self.rule).map_err(|e| sqlx::Error::Decode(Box::new(e)))?,
            version: self.version,
            file: records::file(&self.place, &self.path)?,
            fingerprint: self.fingerprint,
            size: self.size.cast_unsigned(),
            state: records::state(&self.state),
            branch: self.branch.and_then(|b| usize::try_from(b).ok()),
            step: usize::try_from(self.step).unwrap_or(0),
            hand: self.hand,
            failures: u32::try_from(self.failures).unwrap_or(0),
            due: self.due.map(records::time),
            depth: u32::try_from(self.depth).unwrap_or(u32::MAX),
            taken: records::time(self.taken),
            started: records::time(self.started),
            by_hand: self.cause == "hand",
        })
    }
}
