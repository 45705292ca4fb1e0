//! Items as the runner needs them.

use wetbank_core::{Cause, FilePath, Name};

use crate::{Journal, JournalError, Work, records};

impl Journal {
    /// Items that are not at rest, in the order of their numbers.
    pub async fn open_items(&self, after: i64, limit: i64) -> Result<Vec<Work>, JournalError> {
        let rows = sqlx::query_file_as!(WorkRow, "queries/item_open.sql", after, limit).fetch_all(&self.read).await?;
        rows.into_iter().map(|row| row.into_work().map_err(JournalError::from)).collect()
    }

    /// Those of one run.
    pub async fn open_items_of(&self, run: i64, after: i64, limit: i64) -> Result<Vec<Work>, JournalError> {
        let asked = sqlx::query_file_as!(WorkRow, "queries/run_unfinished.sql", run, after, limit);
        let rows = asked.fetch_all(&self.read).await?;
        rows.into_iter().map(|row| row.into_work().map_err(JournalError::from)).collect()
    }

    /// One item, as the runner needs it.
    pub async fn work(&self, item: i64) -> Result<Option<Work>, JournalError> {
        let row = sqlx::query_file_as!(WorkRow, "queries/item_one.sql", item).fetch_optional(&self.read).await?;
        Ok(row.map(WorkRow::into_work).transpose()?)
    }

    /// The files that a run has.
    pub async fn run_paths(&self, run: i64) -> Result<Vec<FilePath>, JournalError> {
        let rows = sqlx::query_file!("queries/run_paths.sql", run).fetch_all(&self.read).await?;
        rows.into_iter().map(|row| records::file(&row.place, &row.path).map_err(JournalError::from)).collect()
    }
}

struct WorkRow {
    id: i64,
    run: i64,
    rule: String,
    version: i64,
    kind: String,
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
    about: Option<String>,
    started: i64,
    unclear: bool,
}

impl WorkRow {
    fn into_work(self) -> Result<Work, sqlx::Error> {
        Ok(Work {
            item: self.id,
            run: self.run,
            rule: Name::new(&self.rule).map_err(|e| sqlx::Error::Decode(Box::new(e)))?,
            version: self.version,
            kind: records::kind(&self.kind),
            file: records::file(&self.place, &self.path)?,
            fingerprint: self.fingerprint,
            size: self.size.cast_unsigned(),
            state: records::state(&self.state),
            branch: self.branch.and_then(|b| usize::try_from(b).ok()),
            position: records::position(self.branch, self.step),
            hand: self.hand,
            failures: u32::try_from(self.failures).unwrap_or(0),
            due: self.due.map(records::time),
            depth: u32::try_from(self.depth).unwrap_or(u32::MAX),
            taken: records::time(self.taken),
            started: records::time(self.started),
            cause: Cause::parse(&self.cause).unwrap_or(Cause::Arrival),
            about: self.about,
            unclear: self.unclear,
        })
    }
}
