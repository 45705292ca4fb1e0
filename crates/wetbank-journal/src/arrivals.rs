//! What watchers saw, taken by a rule or not.

use jiff::Timestamp;
use wetbank_core::{FileFacts, FilePath, Name, RelPath};

use crate::{Journal, JournalError, bulk::over, records};

/// Rows removed in one transaction: few enough that nobody's commit waits for long.
const TOGETHER: i64 = 500;

/// A file as a watcher saw it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewArrival {
    /// Where.
    pub file: FilePath,
    /// Its state.
    pub fingerprint: String,
    /// Size in bytes.
    pub size: u64,
    /// When it was last modified.
    pub modified: Timestamp,
    /// When it was seen.
    pub seen: Timestamp,
}

/// A file that came, on record.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ArrivalRecord {
    /// Its number: later ones are larger.
    pub id: i64,
    /// The file as it was.
    pub file: FileFacts,
    /// When it was seen in this state first.
    pub seen: Timestamp,
}

fn arrival(id: i64, place: Name, path: &[u8], (size, modified, seen): (i64, i64, i64)) -> Option<ArrivalRecord> {
    let path = RelPath::from_bytes(path).ok()?;
    let size = u64::try_from(size).unwrap_or_default();
    let file = FileFacts { place, path, size, modified: records::time(modified), about: <_>::default() };
    Some(ArrivalRecord { id, file, seen: records::time(seen) })
}

impl Journal {
    /// Records what was seen. A state of a file that is on record stays as it is.
    pub async fn note_arrivals(&self, arrivals: Vec<NewArrival>) -> Result<(), JournalError> {
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let rows: Vec<_> = arrivals
                        .iter()
                        .map(|one| {
                            let (place, path) = (one.file.place.as_str(), hex::encode(one.file.path.as_bytes()));
                            let (modified, seen) = (one.modified.as_millisecond(), one.seen.as_millisecond());
                            (place, path, &one.fingerprint, one.size, modified, seen)
                        })
                        .collect();
                    over!(connection, "queries/arrivals_put.sql", rows);
                    Ok(())
                })
            })
            .await
    }

    /// A page of what came to a place since a time, behind the arrival `after`, in the order in which it was seen.
    pub async fn arrivals(
        &self,
        place: &Name,
        since: Timestamp,
        after: i64,
        limit: i64,
    ) -> Result<Vec<ArrivalRecord>, JournalError> {
        let (asked, since) = (place.as_str(), since.as_millisecond());
        let rows = sqlx::query_file!("queries/arrivals_page.sql", asked, after, since, limit).fetch_all(&self.read);
        let rows = rows.await?.into_iter();
        Ok(rows
            .filter_map(|row| arrival(row.id, place.clone(), &row.path, (row.size, row.modified, row.seen)))
            .collect())
    }

    /// A page of what came, newest first, before the arrival `before`; of one place, and directly into one folder, if
    /// these are named.
    pub async fn newest_arrivals(
        &self,
        place: Option<&str>,
        folder: Option<&RelPath>,
        before: i64,
        limit: i64,
    ) -> Result<Vec<ArrivalRecord>, JournalError> {
        let place = place.unwrap_or_default();
        let below = folder.map(|folder| match folder.as_bytes() {
            [] => Vec::new(),
            path => [path, b"/"].concat(),
        });
        let rows = sqlx::query_file!("queries/arrivals_newest.sql", before, place, below, limit);
        let rows = rows.fetch_all(&self.read).await?;
        Ok(rows
            .into_iter()
            .filter_map(|row| {
                arrival(row.id, Name::new(&row.place).ok()?, &row.path, (row.size, row.modified, row.seen))
            })
            .collect())
    }

    /// One of them.
    pub async fn arrival(&self, id: i64) -> Result<Option<ArrivalRecord>, JournalError> {
        let row = sqlx::query_file!("queries/arrival_get.sql", id).fetch_optional(&self.read).await?;
        Ok(row.and_then(|row| arrival(id, Name::new(&row.place).ok()?, &row.path, (row.size, row.modified, row.seen))))
    }

    /// The state in which a file was seen last: its fingerprint, and when that was seen first.
    pub async fn last_arrival(&self, file: &FilePath) -> Result<Option<(String, Timestamp)>, JournalError> {
        let (place, path) = (file.place.as_str(), file.path.as_bytes());
        let row = sqlx::query_file!("queries/arrival_last.sql", place, path).fetch_optional(&self.read).await?;
        Ok(row.map(|row| (row.fingerprint, records::time(row.seen))))
    }

    /// Items that have a file in hand and are not at their end: number, run, rule, and state in the journal's word.
    pub async fn items_in_hand(&self, file: &FilePath) -> Result<Vec<(i64, i64, String, String)>, JournalError> {
        let (place, path) = (file.place.as_str(), file.path.as_bytes());
        let rows = sqlx::query_file!("queries/items_open_at.sql", place, path).fetch_all(&self.read).await?;
        Ok(rows.into_iter().map(|row| (row.id, row.run, row.rule, row.state)).collect())
    }

    /// When the oldest arrival on record was seen, and how many there are.
    pub async fn arrivals_on_record(&self) -> Result<(Option<Timestamp>, i64), JournalError> {
        let row = sqlx::query_file!("queries/arrivals_bounds.sql").fetch_one(&self.read).await?;
        Ok((row.since.map(records::time), row.count))
    }

    /// Files that runs of a rule took or found since a time, behind the item `after`: the item's number as that of the
    /// arrival.
    pub async fn items_that_came(
        &self,
        rule: &Name,
        since: Timestamp,
        after: i64,
        limit: i64,
    ) -> Result<Vec<ArrivalRecord>, JournalError> {
        let (rule, since) = (rule.as_str(), since.as_millisecond());
        let rows = sqlx::query_file!("queries/items_came.sql", rule, since, after, limit).fetch_all(&self.read).await?;
        Ok(rows
            .into_iter()
            .filter_map(|row| {
                let place = Name::new(&row.place).ok()?;
                let modified = modified_of(&row.fingerprint).unwrap_or(row.taken);
                let mut one = arrival(row.id, place, &row.path, (row.size, modified, row.taken))?;
                let mut about: std::collections::BTreeMap<String, String> =
                    row.about.and_then(|about| serde_json::from_str(&about).ok()).unwrap_or_default();
                about.insert("run.cause".to_owned(), row.cause);
                one.file.about = about.into();
                Some(one)
            })
            .collect())
    }

    /// Forgets what was seen before a time, and all but the newest `most`. Answers how many.
    pub async fn forget_arrivals(&self, before: Timestamp, most: i64) -> Result<u64, JournalError> {
        let before = before.as_millisecond();
        let last = sqlx::query_file!("queries/arrivals_cut.sql", before, most).fetch_one(&self.read).await?.id;
        let mut forgotten = 0;
        loop {
            let removed = self.writer.write(move |connection| {
                Box::pin(async move {
                    let asked = sqlx::query_file!("queries/arrivals_forget.sql", last, TOGETHER);
                    Ok(asked.execute(connection).await?.rows_affected())
                })
            });
            match removed.await? {
                0 => return Ok(forgotten),
                some => forgotten += some,
            }
        }
    }
}

/// The modified time in a fingerprint's text, in milliseconds.
fn modified_of(fingerprint: &str) -> Option<i64> {
    let nanoseconds: i64 = fingerprint.split(['.', '#']).nth(1)?.parse().ok()?;
    Some(nanoseconds / 1_000_000)
}
