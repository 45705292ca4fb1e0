//! Passes of twins: what they queue, what they came to, and who is told of them.

use std::{collections::HashSet, sync::atomic::Ordering::Relaxed};

use jiff::Timestamp;
use wetbank_core::{Cause, FilePath, ItemState, Name, Position, twin::Done};

use crate::{
    Journal, JournalError, Work,
    intake::{blank, put_works},
    open::Ids,
    records,
};

/// An item that a plan makes: which branch does what to it is known beforehand.
#[derive(Debug, Clone)]
pub struct PlannedItem {
    /// The file.
    pub file: FilePath,
    /// Its state.
    pub fingerprint: String,
    /// Its size in bytes.
    pub size: u64,
    /// The branch.
    pub branch: usize,
    /// What it has in hand, as text.
    pub hand: String,
}

/// A pass of a twin, on record.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct PassRecord {
    pub id: i64,
    pub began: Timestamp,
    pub ended: Option<Timestamp>,
    /// The run that carries it out.
    pub run: Option<i64>,
    /// What the plan came to, as JSON.
    pub plan: Option<String>,
    /// Why it was not begun or broke off.
    pub why: Option<String>,
}

/// The run that planned items belong to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum PlannedRun {
    /// One of their own.
    New,
    /// A new one, by which this pass is carried out.
    OfPass(i64),
    /// The one of this number.
    Known(i64),
}

/// A pass of which somebody is still to be told.
#[derive(Debug, Clone, PartialEq, Eq)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct Untold {
    pub notice: String,
    pub pass: i64,
    pub run: Option<i64>,
    pub began: Timestamp,
    pub ended: Option<Timestamp>,
}

fn planned(ids: &Ids, of: (&Name, i64, Cause), run: i64, item: PlannedItem, at: Timestamp) -> Work {
    Work {
        fingerprint: item.fingerprint,
        size: item.size,
        branch: Some(item.branch),
        position: Position::Step(0),
        hand: Some(item.hand),
        ..blank(ids, of, run, &item.file, at)
    }
}

impl Journal {
    /// Queues planned items.
    pub async fn take_planned(
        &self,
        (rule, version, cause): (&Name, i64, Cause),
        run: PlannedRun,
        items: Vec<PlannedItem>,
        at: Timestamp,
    ) -> Result<Vec<Work>, JournalError> {
        let (ids, rule) = (self.ids.clone(), rule.clone());
        let (number, is_new) = match run {
            PlannedRun::Known(run) => (run, false),
            PlannedRun::New | PlannedRun::OfPass(_) => (ids.run.fetch_add(1, Relaxed), true),
        };
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let work = |item| planned(&ids, (&rule, version, cause), number, item, at);
                    let works: Vec<Work> = items.into_iter().map(work).collect();
                    put_works(&mut *connection, works.iter(), is_new, at.as_millisecond()).await?;
                    if let PlannedRun::OfPass(pass) = run {
                        sqlx::query_file!("queries/twin_pass_run.sql", pass, number).execute(connection).await?;
                    }
                    Ok(works)
                })
            })
            .await
    }

    /// Begins a pass, of which these are to be told. Answers its number.
    pub async fn begin_pass(&self, twin: &Name, tell: Vec<String>, at: Timestamp) -> Result<i64, JournalError> {
        let twin = twin.clone();
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let (twin, at) = (twin.as_str(), at.as_millisecond());
                    let begin = sqlx::query_file_scalar!("queries/twin_pass_begin.sql", twin, at);
                    let pass = begin.fetch_one(&mut *connection).await?;
                    for notice in tell {
                        let put = sqlx::query_file!("queries/twin_untold_put.sql", twin, notice, pass);
                        put.execute(&mut *connection).await?;
                    }
                    Ok(pass)
                })
            })
            .await
    }

    /// What a pass came to.
    pub async fn set_pass(&self, pass: PassRecord) -> Result<(), JournalError> {
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let ended = pass.ended.map(|at| at.as_millisecond());
                    let PassRecord { id, plan, run, why, .. } = pass;
                    let set = sqlx::query_file!("queries/twin_pass_planned.sql", id, plan, run, why, ended);
                    set.execute(connection).await?;
                    Ok(())
                })
            })
            .await
    }

    /// The last passes of a twin, newest first.
    pub async fn passes(&self, twin: &Name, limit: i64) -> Result<Vec<PassRecord>, JournalError> {
        let rows = sqlx::query_file!("queries/twin_pass_last.sql", twin.as_str(), limit).fetch_all(&self.read).await?;
        let pass = |id, began, ended: Option<i64>, run, plan, why| PassRecord {
            id,
            began: records::time(began),
            ended: ended.map(records::time),
            run,
            plan,
            why,
        };
        Ok(rows.into_iter().map(|row| pass(row.id, row.began, row.ended, row.run, row.plan, row.why)).collect())
    }

    /// The last pass came to the same once more.
    pub async fn pass_again(&self, id: i64, ended: Timestamp, plan: Option<String>) -> Result<(), JournalError> {
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let ended = ended.as_millisecond();
                    sqlx::query_file!("queries/twin_pass_again.sql", id, ended, plan).execute(connection).await?;
                    Ok(())
                })
            })
            .await
    }

    /// Held items of a branch of a rule, each with why.
    pub async fn holds_of_branch(&self, rule: &Name, branch: usize) -> Result<Vec<(i64, String)>, JournalError> {
        let (rule, branch) = (rule.as_str(), i64::try_from(branch).unwrap_or(i64::MAX));
        let rows = sqlx::query_file!("queries/twin_questions.sql", rule, branch).fetch_all(&self.read).await?;
        Ok(rows.into_iter().map(|row| (row.item, row.why)).collect())
    }

    /// Items of a branch of a rule of which no attempt has ended: what they ask is about to be held.
    pub async fn not_asked(&self, rule: &Name, branch: usize) -> Result<Vec<i64>, JournalError> {
        let (rule, branch) = (rule.as_str(), i64::try_from(branch).unwrap_or(i64::MAX));
        Ok(sqlx::query_file_scalar!("queries/twin_unasked.sql", rule, branch).fetch_all(&self.read).await?)
    }

    /// Files of a rule's items that wait for a person.
    pub async fn files_held(&self, rule: &Name) -> Result<HashSet<FilePath>, JournalError> {
        let rows = sqlx::query_file!("queries/twin_held.sql", rule.as_str()).fetch_all(&self.read).await?;
        rows.into_iter().map(|row| Ok(records::file(&row.place, &row.path)?)).collect()
    }

    /// How many items of a run are in a state.
    pub async fn items_in(&self, run: i64, state: ItemState) -> Result<u64, JournalError> {
        let rows = sqlx::query_file!("queries/twin_run_states.sql", run).fetch_all(&self.read).await?;
        let count = rows.iter().find(|row| row.state == state.as_str()).map_or(0, |row| row.count);
        Ok(count.cast_unsigned())
    }

    /// Twins that have passes of which somebody is still to be told.
    pub async fn twins_untold(&self) -> Result<Vec<String>, JournalError> {
        Ok(sqlx::query_file_scalar!("queries/twin_untold_twins.sql").fetch_all(&self.read).await?)
    }

    /// The passes of a twin of which somebody is still to be told, in their order for each who is.
    pub async fn untold(&self, twin: &Name) -> Result<Vec<Untold>, JournalError> {
        let rows = sqlx::query_file!("queries/twin_untold_of.sql", twin.as_str()).fetch_all(&self.read).await?;
        let untold = |notice, pass, run, began, ended: Option<i64>| Untold {
            notice,
            pass,
            run,
            began: records::time(began),
            ended: ended.map(records::time),
        };
        Ok(rows.into_iter().map(|row| untold(row.notice, row.id, row.run, row.began, row.ended)).collect())
    }

    /// Queues what tells somebody of a twin's passes up to one, if there is anything to tell, and notes that they are told.
    pub async fn take_notice(
        &self,
        (rule, version, cause): (&Name, i64, Cause),
        item: Option<PlannedItem>,
        (twin, notice, pass): (&Name, String, i64),
        at: Timestamp,
    ) -> Result<Vec<Work>, JournalError> {
        let (ids, rule, twin) = (self.ids.clone(), rule.clone(), twin.clone());
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let run = ids.run.fetch_add(1, Relaxed);
                    let works: Vec<Work> =
                        item.into_iter().map(|item| planned(&ids, (&rule, version, cause), run, item, at)).collect();
                    put_works(&mut *connection, works.iter(), true, at.as_millisecond()).await?;
                    let told = sqlx::query_file!("queries/twin_untold_told.sql", twin.as_str(), notice, pass);
                    told.execute(connection).await?;
                    Ok(works)
                })
            })
            .await
    }

    /// What the items of a run that were done did, so many from after one on, and how far that goes. One of which no
    /// attempt has a target did nothing.
    pub async fn deeds(&self, run: i64, after: i64, limit: i64) -> Result<(Vec<Done>, Option<i64>), JournalError> {
        let rows = sqlx::query_file!("queries/twin_run_done.sql", run, after, limit).fetch_all(&self.read).await?;
        let last =
            sqlx::query_file_scalar!("queries/twin_run_last.sql", run, after, limit).fetch_one(&self.read).await?;
        let mut deeds: Vec<(i64, Done)> = Vec::new();
        for row in rows {
            let target = records::file(&row.at_place, &row.at_path)?;
            match deeds.last_mut().filter(|(id, _)| *id == row.id) {
                Some((_, deed)) => deed.targets.push(target),
                None => {
                    let deed = Done {
                        branch: usize::try_from(row.branch).unwrap_or(usize::MAX),
                        file: records::file(&row.place, &row.path)?,
                        size: row.size.cast_unsigned(),
                        targets: vec![target],
                        note: row.message,
                    };
                    deeds.push((row.id, deed));
                }
            }
        }
        Ok((deeds.into_iter().map(|(_, deed)| deed).collect(), last))
    }
}
