//! Items that wait for others of their run: many files that become one, one that becomes many.

use std::sync::atomic::Ordering::Relaxed;

use jiff::Timestamp;
use wetbank_core::{FilePath, ItemKind, ItemState, Position};

use crate::{
    Journal, JournalError, Progress, Work,
    bulk::{self, over},
    records,
};

/// Items that wait at one step for the others of their run.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Gathered {
    /// The branch.
    pub branch: usize,
    /// The step that needs all of them.
    pub step: usize,
    /// How many they are.
    pub items: i64,
}

/// Whether others of a run may still come.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Standing {
    /// Some are queued, at work or wait for another attempt.
    pub open: bool,
    /// Some wait for a person.
    pub held: bool,
    /// Some do because the run was stopped.
    pub stopped: bool,
}

/// An item of which another one was made.
#[derive(Debug, Clone)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct SourceRecord {
    pub item: i64,
    pub file: FilePath,
    pub size: u64,
    pub hand: Option<String>,
    pub taken: Timestamp,
}

/// An item whose every result is at its end.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Through {
    /// The item.
    pub item: i64,
    /// Why one of the results was left out; nothing if all are done.
    pub skipped: Option<String>,
}

/// A file taken out of an item's file.
#[derive(Debug, Clone)]
pub struct NewPart {
    /// Where it is said to come from.
    pub file: FilePath,
    /// Its state.
    pub fingerprint: String,
    /// Its size in bytes.
    pub size: u64,
    /// Where it goes on.
    pub position: Position,
    /// The file in hand, as the engine wrote it.
    pub hand: String,
}

impl Journal {
    /// Runs in which items wait for others.
    pub async fn joining_runs(&self) -> Result<Vec<i64>, JournalError> {
        Ok(sqlx::query_file_scalar!("queries/join_runs.sql").fetch_all(&self.read).await?)
    }

    /// Where items of a run wait for the others.
    pub async fn gathered(&self, run: i64) -> Result<Vec<Gathered>, JournalError> {
        let rows = sqlx::query_file!("queries/join_gathered.sql", run).fetch_all(&self.read).await?;
        let number = |value: i64| usize::try_from(value).unwrap_or(0);
        Ok(rows
            .into_iter()
            .map(|row| Gathered { branch: number(row.branch), step: number(row.step), items: row.items })
            .collect())
    }

    /// Whether others of a run may still come.
    pub async fn standing(&self, run: i64) -> Result<Standing, JournalError> {
        let row = sqlx::query_file!("queries/join_standing.sql", run).fetch_one(&self.read).await?;
        Ok(Standing { open: row.open, held: row.held, stopped: row.stopped })
    }

    /// Makes the item that goes on instead of those gathered at a step, beside the first of them
    /// and called `name` for now. Answers nothing if none is gathered there any more.
    pub async fn join(
        &self,
        run: i64,
        at: Gathered,
        name: String,
        now: Timestamp,
    ) -> Result<Option<Work>, JournalError> {
        let ids = self.ids.clone();
        let (branch, step, now) = (at.branch as i64, at.step as i64, now.as_millisecond());
        let made = self
            .writer
            .write(move |connection| {
                Box::pin(async move {
                    let first = sqlx::query_file!("queries/join_first.sql", run, branch, step)
                        .fetch_optional(&mut *connection)
                        .await?;
                    let Some(first) = first else { return Ok(None) };
                    let folder = records::path(&first.path).parent();
                    let path = folder.join_name(name.as_bytes()).unwrap_or(folder);
                    let (item, path) = (ids.item.fetch_add(1, Relaxed), path.as_bytes().to_vec());
                    sqlx::query_file!(
                        "queries/join_put.sql",
                        item,
                        run,
                        first.place,
                        path,
                        branch,
                        step,
                        first.depth,
                        now
                    )
                    .execute(&mut *connection)
                    .await?;
                    sqlx::query_file!("queries/join_link.sql", item, run, branch, step)
                        .execute(&mut *connection)
                        .await?;
                    let begun = vec![item];
                    over!(connection, "queries/results_begin.sql", begun);
                    let names = vec![(item, records::path(&path).to_string())];
                    over!(connection, "queries/item_names_put.sql", names);
                    Ok(Some(item))
                })
            })
            .await?;
        match made {
            Some(item) => self.work(item).await,
            None => Ok(None),
        }
    }

    /// The items of which one was made, in their order.
    pub async fn sources(&self, item: i64, after: i64, limit: i64) -> Result<Vec<SourceRecord>, JournalError> {
        let rows = sqlx::query_file!("queries/join_sources.sql", item, after, limit).fetch_all(&self.read).await?;
        rows.into_iter()
            .map(|row| {
                Ok(SourceRecord {
                    item: row.id,
                    file: records::file(&row.place, &row.path)?,
                    size: row.size.cast_unsigned(),
                    hand: row.hand,
                    taken: records::time(row.taken),
                })
            })
            .collect()
    }

    /// Items of a run whose every result is at its end, at most so many.
    pub async fn through(&self, run: i64, limit: i64) -> Result<Vec<Through>, JournalError> {
        let rows = sqlx::query_file!("queries/join_through.sql", run, limit).fetch_all(&self.read).await?;
        Ok(rows
            .into_iter()
            .map(|row| Through {
                item: row.id,
                skipped: row.skipped.then(|| row.why.unwrap_or_else(|| "it was left out".to_owned())),
            })
            .collect())
    }

    /// Records the end of a step and the files that it took out of an item's file, together.
    pub async fn split(
        &self,
        progress: Progress,
        whole: &Work,
        parts: Vec<NewPart>,
        at: Timestamp,
    ) -> Result<Vec<Work>, JournalError> {
        let (ids, whole, now) = (self.ids.clone(), whole.clone(), at.as_millisecond());
        // The record of the split may be the first that tells the branch.
        let branch = progress.change.branch;
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let work = |part: NewPart| Work {
                        item: ids.item.fetch_add(1, Relaxed),
                        kind: ItemKind::Part,
                        file: part.file,
                        fingerprint: part.fingerprint,
                        size: part.size,
                        state: ItemState::Queued,
                        branch,
                        position: part.position,
                        hand: Some(part.hand),
                        failures: 0,
                        due: None,
                        unclear: false,
                        taken: records::time(now),
                        ..whole.clone()
                    };
                    let works: Vec<Work> = parts.into_iter().map(work).collect();
                    let rows: Vec<_> = works
                        .iter()
                        .map(|w| {
                            let (place, path) = (w.file.place.as_str(), hex::encode(w.file.path.as_bytes()));
                            let rule = w.rule.as_str();
                            (
                                w.item,
                                w.run,
                                rule,
                                place,
                                path,
                                &w.fingerprint,
                                w.size,
                                w.depth,
                                w.branch,
                                w.position.code(),
                                &w.hand,
                            )
                        })
                        .collect();
                    if !rows.is_empty() {
                        let rows = bulk::json(&rows);
                        sqlx::query_file!("queries/parts_put.sql", rows, now).execute(&mut *connection).await?;
                    }
                    let made: Vec<_> = works.iter().map(|w| (whole.item, w.item)).collect();
                    over!(connection, "queries/made_put.sql", made);
                    let begun: Vec<_> = works.iter().map(|w| w.item).collect();
                    over!(connection, "queries/results_begin.sql", begun);
                    let names: Vec<_> = works.iter().map(|w| (w.item, w.file.path.to_string())).collect();
                    over!(connection, "queries/item_names_put.sql", names);
                    bulk::record(connection, &[progress]).await?;
                    Ok(works)
                })
            })
            .await
    }
}
