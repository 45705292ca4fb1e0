//! Taking files in: the sighting and its work in one transaction.

use std::{
    collections::{HashMap, HashSet},
    sync::atomic::Ordering::Relaxed,
};

use jiff::Timestamp;
use sqlx::SqliteConnection;
use wetbank_core::{FilePath, ItemState, Name, RelPath};

use crate::{
    Journal, JournalError, Work,
    bulk::{self, over},
    open::Ids,
    records,
};

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
                    for batch in without_doubles(sightings) {
                        answers.extend(take_batch(connection, &ids, batch, at).await?);
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
                    let rows: Vec<_> = files
                        .iter()
                        .map(|f| (rule.as_str(), f.place.as_str(), bulk::hex(f.path.as_bytes()), before, now))
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
            asked.enumerate().map(|(at, (rule, path))| (rule.as_str(), bulk::hex(path.as_bytes()), at)).collect();
        let (place, rows) = (place.as_str(), bulk::json(&rows));
        let found = sqlx::query_file!("queries/sightings_known.sql", place, rows).fetch_all(&self.read).await?;
        Ok(found.into_iter().filter_map(|row| Some((usize::try_from(row.key).ok()?, row.fingerprint))).collect())
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

/// Splits sightings so that no two of a batch are about the same file and rule: a statement
/// over many rows could not tell which of them it took.
fn without_doubles(sightings: Vec<Sighting>) -> Vec<Vec<Sighting>> {
    let mut batches = vec![Vec::with_capacity(sightings.len())];
    let mut seen = HashSet::new();
    for sighting in sightings {
        if !seen.insert((sighting.rule.clone(), sighting.file.clone())) {
            seen.clear();
            seen.insert((sighting.rule.clone(), sighting.file.clone()));
            batches.push(Vec::new());
        }
        batches.last_mut().expect("one is there").push(sighting);
    }
    batches
}

async fn take_batch(
    connection: &mut SqliteConnection,
    ids: &Ids,
    sightings: Vec<Sighting>,
    at: Timestamp,
) -> Result<Vec<Result<Work, Refusal>>, sqlx::Error> {
    let rows: Vec<_> = sightings
        .iter()
        .enumerate()
        .map(|(at, s)| {
            let path = bulk::hex(s.file.path.as_bytes());
            (s.rule.as_str(), s.file.place.as_str(), path, &s.fingerprint, s.seen.as_millisecond(), at)
        })
        .collect();
    let rows = bulk::json(&rows);
    let mut outputs = HashMap::new();
    for output in sqlx::query_file!("queries/outputs_at.sql", rows).fetch_all(&mut *connection).await? {
        outputs.insert(usize::try_from(output.key).unwrap_or(usize::MAX), output);
    }
    let taken = sqlx::query_file!("queries/sightings_take.sql", rows).fetch_all(&mut *connection).await?;
    let taken: HashSet<_> = taken.into_iter().map(|row| (row.rule, row.place, row.path)).collect();
    let now = at.as_millisecond();
    let mut answers = Vec::with_capacity(sightings.len());
    for (at, sighting) in sightings.into_iter().enumerate() {
        let Sighting { rule, version, file, fingerprint, size, own_results, by_hand, .. } = sighting;
        let output = outputs.get(&at).filter(|output| output.fingerprint == fingerprint);
        let key = (rule.as_str().to_owned(), file.place.as_str().to_owned(), file.path.as_bytes().to_vec());
        if !by_hand && !taken.contains(&key) {
            answers.push(Err(Refusal::Known));
        } else if !by_hand && output.is_some_and(|output| output.rule == rule.as_str() && !own_results) {
            answers.push(Err(Refusal::OwnResult));
        } else {
            let depth = output.map_or(0, |output| output.depth + 1);
            answers.push(Ok(Work {
                item: ids.item.fetch_add(1, Relaxed),
                run: ids.run.fetch_add(1, Relaxed),
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
            }));
        }
    }
    put_works(connection, answers.iter().flatten(), now).await?;
    Ok(answers)
}

async fn put_works(
    connection: &mut SqliteConnection,
    works: impl Iterator<Item = &Work> + Clone + Send,
    now: i64,
) -> Result<(), sqlx::Error> {
    if works.clone().next().is_none() {
        return Ok(());
    }
    let runs: Vec<_> = works
        .clone()
        .map(|w| (w.run, w.rule.as_str(), w.version, if w.by_hand { "hand" } else { "arrival" }))
        .collect();
    let runs = bulk::json(&runs);
    sqlx::query_file!("queries/runs_put.sql", runs, now).execute(&mut *connection).await?;
    let items: Vec<_> = works
        .clone()
        .map(|w| {
            let path = bulk::hex(w.file.path.as_bytes());
            (w.item, w.run, w.rule.as_str(), w.file.place.as_str(), path, &w.fingerprint, w.size, w.depth)
        })
        .collect();
    let items = bulk::json(&items);
    sqlx::query_file!("queries/items_put.sql", items, now).execute(&mut *connection).await?;
    let names: Vec<_> = works.map(|w| (w.item * 2, w.file.path.to_string())).collect();
    over!(connection, "queries/names_put.sql", names);
    Ok(())
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
