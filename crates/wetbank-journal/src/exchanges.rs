//! What accounts handed in and collected. A file that is handed in and the work that it begins are one transaction: who is
//! told that it arrived can rely on it.

use jiff::Timestamp;
use sqlx::SqliteConnection;
use wetbank_core::{Cause, FilePath, Name, RelPath};

use crate::{
    Journal, JournalError, Sighting, Work,
    intake::{Into, take_batch},
    open::Ids,
    records,
};

/// Forgotten in one transaction at most.
const TOGETHER: i64 = 1_000;

/// Something that an account does with a file.
#[derive(Debug, Clone)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct NewExchange {
    pub visit: i64,
    pub account: Name,
    pub partner: Name,
    pub what: &'static str,
    /// As the account sees it.
    pub seen: RelPath,
    /// Where it lies, or is to lie.
    pub file: FilePath,
    pub fingerprint: String,
    pub size: u64,
    /// BLAKE3 of the content in hexadecimal, if it is known.
    pub sum: Option<String>,
    pub address: String,
    pub at: Timestamp,
    /// Where it lies until it has its own name.
    pub staged: Option<RelPath>,
}

/// The same on record.
#[derive(Debug, Clone)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct ExchangeRecord {
    pub id: i64,
    pub visit: i64,
    pub account: String,
    pub partner: String,
    pub what: String,
    pub seen: RelPath,
    pub file: FilePath,
    pub fingerprint: String,
    pub size: u64,
    pub sum: Option<String>,
    pub address: String,
    pub at: Timestamp,
    pub staged: Option<RelPath>,
}

/// What of a visit waits to be one run of a rule.
#[derive(Debug, Clone)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct DueRecord {
    pub rule: String,
    pub visit: i64,
    pub exchange: i64,
    pub account: String,
    pub partner: String,
    pub what: String,
    pub file: FilePath,
    pub fingerprint: String,
    pub size: u64,
    pub address: String,
    pub at: Timestamp,
}

struct ExchangeRow {
    id: i64,
    visit: i64,
    account: String,
    partner: String,
    what: String,
    seen: Vec<u8>,
    place: String,
    path: Vec<u8>,
    fingerprint: String,
    size: i64,
    sum: Option<String>,
    address: String,
    at: i64,
    staged: Option<Vec<u8>>,
}

impl ExchangeRow {
    fn into_record(self) -> Result<ExchangeRecord, sqlx::Error> {
        Ok(ExchangeRecord {
            id: self.id,
            visit: self.visit,
            account: self.account,
            partner: self.partner,
            what: self.what,
            seen: records::path(&self.seen),
            file: records::file(&self.place, &self.path)?,
            fingerprint: self.fingerprint,
            size: self.size.cast_unsigned(),
            sum: self.sum,
            address: self.address,
            at: records::time(self.at),
            staged: self.staged.as_deref().map(records::path),
        })
    }
}

fn told(rows: Vec<ExchangeRow>) -> Result<Vec<ExchangeRecord>, JournalError> {
    Ok(rows.into_iter().map(ExchangeRow::into_record).collect::<Result<_, _>>()?)
}

/// Which of what was exchanged is asked for.
#[derive(Debug, Clone, Default)]
pub struct ExchangeFilter {
    /// Of this account.
    pub account: Option<String>,
    /// Of this partner.
    pub partner: Option<String>,
    /// Only this: `handed-in`, `collected` or `removed`.
    pub what: Option<String>,
}

async fn put(connection: &mut SqliteConnection, new: &NewExchange) -> Result<i64, sqlx::Error> {
    let (account, partner, place) = (new.account.as_str(), new.partner.as_str(), new.file.place.as_str());
    let (seen, path, staged) =
        (new.seen.as_bytes(), new.file.path.as_bytes(), new.staged.as_ref().map(RelPath::as_bytes));
    let (size, at) = (new.size.cast_signed(), new.at.as_millisecond());
    sqlx::query_file_scalar!(
        "queries/exchange_put.sql",
        new.visit,
        account,
        partner,
        new.what,
        seen,
        place,
        path,
        new.fingerprint,
        size,
        new.sum,
        new.address,
        at,
        staged
    )
    .fetch_one(connection)
    .await
}

impl Journal {
    /// Puts on record what an account does, takes in what rules take of it, and notes which rules wait for the rest of the
    /// visit. An upload that it ends is none any more. Answers its number and the work.
    pub async fn exchange(
        &self,
        new: NewExchange,
        sightings: Vec<Sighting>,
        waiting: Vec<Name>,
    ) -> Result<(i64, Vec<Work>), JournalError> {
        let ids = self.ids.clone();
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let id = put(connection, &new).await?;
                    if let Some(staged) = &new.staged {
                        let (place, staged) = (new.file.place.as_str(), staged.as_bytes());
                        sqlx::query_file!("queries/upload_remove.sql", place, staged).execute(&mut *connection).await?;
                    }
                    wait(connection, (id, new.visit), &waiting).await?;
                    Ok((id, take(connection, &ids, id, sightings).await?))
                })
            })
            .await
    }

    /// Takes in what rules take of a file that was handed in and lies under its own name now, in this state.
    pub async fn exchange_taken(
        &self,
        (id, visit): (i64, i64),
        fingerprint: String,
        sightings: Vec<Sighting>,
        waiting: Vec<Name>,
    ) -> Result<Vec<Work>, JournalError> {
        let ids = self.ids.clone();
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let state = sqlx::query_file!("queries/exchange_state.sql", id, fingerprint);
                    state.execute(&mut *connection).await?;
                    wait(connection, (id, visit), &waiting).await?;
                    take(connection, &ids, id, sightings).await
                })
            })
            .await
    }

    /// A file that was handed in lies under its own name now.
    pub async fn exchange_placed(&self, id: i64) -> Result<(), JournalError> {
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    sqlx::query_file!("queries/exchange_placed.sql", id).execute(connection).await?;
                    Ok(())
                })
            })
            .await
    }

    /// A file that was handed in did not get its name: nothing of it happened, and its state was seen by no rule.
    pub async fn exchange_undone(&self, id: i64) -> Result<(), JournalError> {
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    sqlx::query_file!("queries/exchange_sightings_undo.sql", id).execute(&mut *connection).await?;
                    sqlx::query_file!("queries/exchange_remove.sql", id).execute(connection).await?;
                    Ok(())
                })
            })
            .await
    }

    /// What was handed in and may not lie under its own name yet, the oldest first.
    pub async fn exchanges_staged(&self) -> Result<Vec<ExchangeRecord>, JournalError> {
        told(sqlx::query_file_as!(ExchangeRow, "queries/exchanges_staged.sql").fetch_all(&self.read).await?)
    }

    /// What was exchanged, the newest first, from before a number on.
    pub async fn exchanges(
        &self,
        filter: &ExchangeFilter,
        before: i64,
        limit: u32,
    ) -> Result<Vec<ExchangeRecord>, JournalError> {
        let ExchangeFilter { account, partner, what } = filter;
        let asked = sqlx::query_file_as!(ExchangeRow, "queries/exchanges.sql", before, account, partner, what, limit);
        told(asked.fetch_all(&self.read).await?)
    }

    /// What accounts did with a file, the newest first.
    pub async fn exchanges_of(&self, file: &FilePath, limit: u32) -> Result<Vec<ExchangeRecord>, JournalError> {
        let (place, path) = (file.place.as_str(), file.path.as_bytes());
        let asked = sqlx::query_file_as!(ExchangeRow, "queries/exchanges_of_file.sql", place, path, limit);
        told(asked.fetch_all(&self.read).await?)
    }

    /// The items that something exchanged began.
    pub async fn exchange_items(&self, id: i64) -> Result<Vec<i64>, JournalError> {
        Ok(sqlx::query_file_scalar!("queries/exchange_items.sql", id).fetch_all(&self.read).await?)
    }

    /// What waits for the rest of its visit, by rule and visit.
    pub async fn exchanges_due(&self) -> Result<Vec<DueRecord>, JournalError> {
        let rows = sqlx::query_file!("queries/exchanges_due.sql").fetch_all(&self.read).await?;
        rows.into_iter()
            .map(|row| {
                Ok(DueRecord {
                    rule: row.rule,
                    visit: row.visit,
                    exchange: row.id,
                    account: row.account,
                    partner: row.partner,
                    what: row.what,
                    file: records::file(&row.place, &row.path)?,
                    fingerprint: row.fingerprint,
                    size: row.size.cast_unsigned(),
                    address: row.address,
                    at: records::time(row.at),
                })
            })
            .collect()
    }

    /// Takes in what of a visit waited for the rest of it, up to this exchange, as one run of a rule. Without a sighting
    /// nothing waits any more.
    pub async fn take_due(
        &self,
        (rule, visit, last): (&str, i64, i64),
        sightings: Vec<(i64, Sighting)>,
        about: String,
        at: Timestamp,
    ) -> Result<Vec<Work>, JournalError> {
        use std::sync::atomic::Ordering::Relaxed;
        let (ids, rule) = (self.ids.clone(), rule.to_owned());
        let into = Into::Joint(Cause::Account, Some(about), ids.run.fetch_add(1, Relaxed));
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    sqlx::query_file!("queries/exchange_due_remove.sql", rule, visit, last)
                        .execute(&mut *connection)
                        .await?;
                    // Of a file that was handed in twice the last counts.
                    let mut latest: Vec<(i64, Sighting)> = Vec::with_capacity(sightings.len());
                    let mut seen = std::collections::HashSet::new();
                    for (exchange, sighting) in sightings.into_iter().rev() {
                        if seen.insert(sighting.file.clone()) {
                            latest.push((exchange, sighting));
                        }
                    }
                    latest.reverse();
                    let (numbers, sightings): (Vec<i64>, Vec<Sighting>) = latest.into_iter().unzip();
                    let taken = take_batch(connection, &ids, sightings, &into, at).await?;
                    let mut works = Vec::with_capacity(taken.len());
                    for (exchange, work) in numbers.into_iter().zip(taken) {
                        let Ok(work) = work else { continue };
                        link(connection, exchange, std::slice::from_ref(&work)).await?;
                        works.push(work);
                    }
                    Ok(works)
                })
            })
            .await
    }

    /// Forgets what was exchanged, and who came, before a time. Answers how much.
    pub async fn forget_exchanges(&self, before: Timestamp) -> Result<u64, JournalError> {
        let (before, mut forgotten) = (before.as_millisecond(), 0);
        loop {
            let removed = self.writer.write(move |connection| {
                Box::pin(async move {
                    let exchanges = sqlx::query_file!("queries/exchanges_forget.sql", before, TOGETHER);
                    let exchanges = exchanges.execute(&mut *connection).await?.rows_affected();
                    let visits = sqlx::query_file!("queries/visits_forget.sql", before, TOGETHER);
                    Ok(exchanges + visits.execute(connection).await?.rows_affected())
                })
            });
            match removed.await? {
                0 => return Ok(forgotten),
                some => forgotten += some,
            }
        }
    }
}

/// Notes which rules wait for the rest of a visit.
async fn wait(connection: &mut SqliteConnection, (id, visit): (i64, i64), waiting: &[Name]) -> Result<(), sqlx::Error> {
    for rule in waiting {
        let rule = rule.as_str();
        sqlx::query_file!("queries/exchange_due_put.sql", rule, visit, id).execute(&mut *connection).await?;
    }
    Ok(())
}

/// Takes in what rules take of what was exchanged, each in a run of its own.
async fn take(
    connection: &mut SqliteConnection,
    ids: &Ids,
    id: i64,
    sightings: Vec<Sighting>,
) -> Result<Vec<Work>, sqlx::Error> {
    if sightings.is_empty() {
        return Ok(Vec::new());
    }
    let now = sightings.first().map_or(Timestamp::UNIX_EPOCH, |sighting| sighting.seen);
    let taken = take_batch(connection, ids, sightings, &Into::Own(Cause::Account), now).await?;
    let works: Vec<Work> = taken.into_iter().flatten().collect();
    link(connection, id, &works).await?;
    Ok(works)
}

async fn link(connection: &mut SqliteConnection, exchange: i64, works: &[Work]) -> Result<(), sqlx::Error> {
    for work in works {
        let put = sqlx::query_file!("queries/exchange_item_put.sql", exchange, work.item);
        put.execute(&mut *connection).await?;
    }
    Ok(())
}
