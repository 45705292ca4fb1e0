//! What was done: runs, items, attempts, holds, traces, counts.

use jiff::Timestamp;
use wetbank_core::FilePath;

use crate::{
    AttemptRecord, Count, HoldRecord, HourCount, ItemRecord, Journal, JournalError, RunFilter, RunRecord, RunSummary,
    bulk, records,
};

/// The longest page of anything.
pub(crate) const PAGE: u32 = 500;

fn optional_file(place: Option<&str>, path: Option<&[u8]>) -> Result<Option<FilePath>, sqlx::Error> {
    match (place, path) {
        (Some(place), Some(path)) => records::file(place, path).map(Some),
        _ => Ok(None),
    }
}

impl Journal {
    /// Runs, newest first.
    pub async fn runs(&self, filter: &RunFilter) -> Result<Vec<RunSummary>, JournalError> {
        let before = filter.before.unwrap_or(i64::MAX);
        let limit = filter.limit.clamp(1, PAGE);
        // Each filter is a question of its own, so that each has its index.
        let rows = match (&filter.rule, &filter.state) {
            (None, None) => {
                let asked = sqlx::query_file_as!(RunRow, "queries/runs.sql", before, limit);
                asked.fetch_all(&self.read).await?
            }
            (Some(rule), None) => {
                let asked = sqlx::query_file_as!(RunRow, "queries/runs_of_rule.sql", before, limit, rule);
                asked.fetch_all(&self.read).await?
            }
            (None, Some(state)) => {
                let asked = sqlx::query_file_as!(RunRow, "queries/runs_in_state.sql", before, limit, state);
                asked.fetch_all(&self.read).await?
            }
            (Some(rule), Some(state)) => {
                let asked =
                    sqlx::query_file_as!(RunRow, "queries/runs_of_rule_in_state.sql", before, limit, rule, state);
                asked.fetch_all(&self.read).await?
            }
        };
        Ok(rows.into_iter().map(RunRow::into_summary).collect())
    }

    /// One run.
    pub async fn run(&self, id: i64) -> Result<Option<RunRecord>, JournalError> {
        let row = sqlx::query_file!("queries/run_one.sql", id).fetch_optional(&self.read).await?;
        Ok(row.map(|row| RunRecord {
            id: row.id,
            rule: row.rule,
            version: row.version,
            cause: row.cause,
            about: row.about,
            why: row.why,
            started: records::time(row.started),
            ended: row.ended.map(records::time),
            state: row.state,
        }))
    }

    /// A page of a run's items.
    pub async fn items(&self, run: i64, after: i64, limit: u32) -> Result<Vec<ItemRecord>, JournalError> {
        let limit = limit.clamp(1, PAGE);
        let rows = sqlx::query_file!("queries/run_items.sql", run, after, limit).fetch_all(&self.read).await?;
        rows.into_iter()
            .map(|row| {
                Ok(ItemRecord {
                    id: row.id,
                    kind: records::kind(&row.kind),
                    file: records::file(&row.place, &row.path)?,
                    size: row.size.cast_unsigned(),
                    state: records::state(&row.state),
                    branch: row.branch,
                    position: records::position(row.branch, row.step),
                    failures: row.failures,
                    due: row.due.map(records::time),
                    why: row.why,
                    taken: records::time(row.taken),
                    ended: row.ended.map(records::time),
                })
            })
            .collect()
    }

    /// The attempts of an item, oldest first.
    pub async fn attempts(&self, item: i64) -> Result<Vec<AttemptRecord>, JournalError> {
        let rows = sqlx::query_file_as!(AttemptRow, "queries/item_attempts.sql", item).fetch_all(&self.read).await?;
        rows.into_iter().map(AttemptRow::into_record).collect()
    }

    /// The attempts of several items, oldest first, each with its item.
    pub async fn attempts_of(&self, items: &[i64]) -> Result<Vec<(i64, AttemptRecord)>, JournalError> {
        let items = bulk::json(items);
        let asked = sqlx::query_file_as!(AttemptRow, "queries/attempts_of.sql", items);
        let rows = asked.fetch_all(&self.read).await?;
        rows.into_iter().map(|row| Ok((row.item, row.into_record()?))).collect()
    }

    /// Holds, newest first.
    pub async fn holds(&self, before: Option<i64>, limit: u32) -> Result<Vec<HoldRecord>, JournalError> {
        let (before, limit) = (before.unwrap_or(i64::MAX), limit.clamp(1, PAGE));
        let rows = sqlx::query_file!("queries/holds.sql", before, limit).fetch_all(&self.read).await?;
        rows.into_iter()
            .map(|row| {
                Ok(HoldRecord {
                    item: row.item,
                    run: row.run,
                    rule: row.rule,
                    version: row.version,
                    kind: records::kind(&row.kind),
                    file: records::file(&row.place, &row.path)?,
                    size: row.size.cast_unsigned(),
                    branch: row.branch,
                    position: records::position(row.branch, row.step),
                    since: records::time(row.since),
                    code: row.code,
                    why: row.why,
                    remedy: row.remedy,
                })
            })
            .collect()
    }

    /// Why an item waits for a person, as a code.
    pub async fn hold(&self, item: i64) -> Result<Option<String>, JournalError> {
        Ok(sqlx::query_file_scalar!("queries/hold_one.sql", item).fetch_optional(&self.read).await?)
    }

    /// The state in which we wrote a file, and for which rule.
    pub async fn output(&self, file: &FilePath) -> Result<Option<(String, String)>, JournalError> {
        let (place, path) = (file.place.as_str(), file.path.as_bytes());
        let row = sqlx::query_file!("queries/output_get.sql", place, path).fetch_optional(&self.read).await?;
        Ok(row.map(|row| (row.fingerprint, row.rule)))
    }

    /// How many items are queued, working, waiting, held.
    pub async fn open_counts(&self) -> Result<Vec<Count>, JournalError> {
        let rows = sqlx::query_file!("queries/counts_open.sql").fetch_all(&self.read).await?;
        Ok(rows.into_iter().map(|row| Count { group: 0, state: row.state, count: row.count }).collect())
    }

    /// How many files ended from `midnight` on, by the hour.
    pub async fn hour_counts(&self, midnight: Timestamp, to: Timestamp) -> Result<Vec<HourCount>, JournalError> {
        let [midnight, to] = [midnight, to].map(Timestamp::as_millisecond);
        let rows = sqlx::query_file!("queries/counts_hours.sql", midnight, to).fetch_all(&self.read).await?;
        let count = |hour, state, count, bytes| HourCount { hour, state, count, bytes };
        Ok(rows.into_iter().map(|row| count(row.hour, row.state, row.count, row.bytes)).collect())
    }

    /// How many items are held since each hour from `midnight` on.
    pub async fn held_counts(&self, midnight: Timestamp, to: Timestamp) -> Result<Vec<HourCount>, JournalError> {
        let [midnight, to] = [midnight, to].map(Timestamp::as_millisecond);
        let rows = sqlx::query_file!("queries/counts_held.sql", midnight, to).fetch_all(&self.read).await?;
        let count = |hour, count| HourCount { hour, state: "held".to_owned(), count, bytes: 0 };
        Ok(rows.into_iter().map(|row| count(row.hour, row.count)).collect())
    }

    /// A rule's newest run: number, start, state.
    pub async fn last_run(&self, rule: &str) -> Result<Option<(i64, Timestamp, String)>, JournalError> {
        let row = sqlx::query_file!("queries/rule_last.sql", rule).fetch_optional(&self.read).await?;
        Ok(row.map(|row| (row.id, records::time(row.started), row.state)))
    }

    /// A rule's runs by day since a time.
    pub async fn day_counts(&self, rule: &str, since: Timestamp) -> Result<Vec<Count>, JournalError> {
        let since = since.as_millisecond();
        let rows = sqlx::query_file!("queries/rule_days.sql", rule, since).fetch_all(&self.read).await?;
        Ok(rows.into_iter().map(|row| Count { group: row.day, state: row.state, count: row.count }).collect())
    }

    /// A rule's items by branch: those that ended since a time, and all that are open.
    pub async fn branch_counts(&self, rule: &str, since: Timestamp) -> Result<Vec<Count>, JournalError> {
        let since = since.as_millisecond();
        let rows = sqlx::query_file!("queries/branch_counts.sql", rule, since).fetch_all(&self.read).await?;
        Ok(rows.into_iter().map(|row| Count { group: row.branch, state: row.state, count: row.count }).collect())
    }
}

struct RunRow {
    id: i64,
    rule: String,
    cause: String,
    started: i64,
    ended: Option<i64>,
    state: String,
    why: Option<String>,
    items: i64,
    path: Option<Vec<u8>>,
    size: Option<i64>,
}

impl RunRow {
    fn into_summary(self) -> RunSummary {
        RunSummary {
            id: self.id,
            rule: self.rule,
            cause: self.cause,
            started: records::time(self.started),
            ended: self.ended.map(records::time),
            state: self.state,
            items: self.items,
            first_path: self.path.as_deref().map(records::path),
            first_size: self.size.unwrap_or(0).cast_unsigned(),
            why: self.why,
        }
    }
}

struct AttemptRow {
    item: i64,
    id: i64,
    step: i64,
    kind: String,
    number: i64,
    began: i64,
    ended: Option<i64>,
    outcome: String,
    place: Option<String>,
    path: Option<Vec<u8>>,
    size: Option<i64>,
    sha256: Option<String>,
    blake3: Option<String>,
    code: Option<String>,
    message: Option<String>,
    remedy: Option<String>,
}

impl AttemptRow {
    fn into_record(self) -> Result<AttemptRecord, JournalError> {
        Ok(AttemptRecord {
            id: self.id,
            position: records::position(Some(0), self.step),
            kind: self.kind,
            number: self.number,
            began: records::time(self.began),
            ended: self.ended.map(records::time),
            outcome: self.outcome,
            target: optional_file(self.place.as_deref(), self.path.as_deref())?,
            size: self.size.map(i64::cast_unsigned),
            sha256: self.sha256,
            blake3: self.blake3,
            code: self.code,
            message: self.message,
            remedy: self.remedy,
        })
    }
}
