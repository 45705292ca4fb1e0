//! Runs that begin otherwise than with a file that came, and what is known of any run.

use std::sync::atomic::Ordering::Relaxed;

use jiff::Timestamp;
use wetbank_core::{Cause, FilePath, ItemKind, Name};

use crate::{
    Journal, JournalError, Work,
    intake::{blank, put_works},
    records,
};

/// How long, in milliseconds, a signal is remembered: longer than one counts as fresh.
const KEPT_SIGNALS: i64 = 3_600_000;

/// A run that begins otherwise than with a file that came.
#[derive(Debug, Clone)]
pub struct NewRun {
    /// The rule.
    pub rule: Name,
    /// The rule's version.
    pub version: i64,
    /// What starts it.
    pub cause: Cause,
    /// What is known of it besides, as a JSON object of texts.
    pub about: Option<String>,
    /// Folders where files are looked for, each an item of its own, with the search's number.
    pub looks: Vec<(usize, FilePath)>,
    /// What the searches have in hand, as the engine wrote it.
    pub hand: Option<String>,
    /// The firing of its schedule that this is.
    pub firing: Option<Timestamp>,
    /// What tells that it was begun before; then it is not begun again.
    pub once: Option<String>,
    /// The name of what is done without a file, if nothing is looked for.
    pub bare: Option<FilePath>,
}

impl Journal {
    /// Records that a run begins. Answers the items with which it does; nothing if it was begun
    /// before.
    pub async fn start_run(&self, run: NewRun, at: Timestamp) -> Result<Option<Vec<Work>>, JournalError> {
        let ids = self.ids.clone();
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    if let Some(proof) = &run.once {
                        let (now, old) = (at.as_millisecond(), at.as_millisecond() - KEPT_SIGNALS);
                        sqlx::query_file!("queries/signal_purge.sql", old).execute(&mut *connection).await?;
                        let put =
                            sqlx::query_file!("queries/signal_put.sql", proof, now).execute(&mut *connection).await?;
                        if put.rows_affected() == 0 {
                            return Ok(None);
                        }
                    }
                    let number = ids.run.fetch_add(1, Relaxed);
                    let of_rule = (&run.rule, run.version, run.cause);
                    let begun = |kind, file: &FilePath, branch| Work {
                        kind,
                        branch,
                        position: records::position(branch.map(|_| 0), 0),
                        about: run.about.clone(),
                        ..blank(&ids, of_rule, number, file, at)
                    };
                    let looks = run.looks.iter().map(|(find, folder)| Work {
                        hand: run.hand.clone(),
                        ..begun(ItemKind::Find, folder, Some(*find))
                    });
                    let bare = run.bare.iter().map(|file| begun(ItemKind::Made, file, None));
                    let works: Vec<Work> = looks.chain(bare).collect();
                    if let Some(firing) = run.firing {
                        let (rule, firing) = (run.rule.as_str(), firing.as_millisecond());
                        sqlx::query_file!("queries/firing_put.sql", rule, firing).execute(&mut *connection).await?;
                    }
                    put_works(connection, works.iter(), true, at.as_millisecond()).await?;
                    Ok(Some(works))
                })
            })
            .await
    }

    /// Records that a run was left out, and why. Answers its number.
    pub async fn skip_run(
        &self,
        (rule, version): (&Name, i64),
        cause: Cause,
        why: String,
        firing: Option<Timestamp>,
        at: Timestamp,
    ) -> Result<i64, JournalError> {
        let (rule, number, at) = (rule.clone(), self.ids.run.fetch_add(1, Relaxed), at.as_millisecond());
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let (rule, cause) = (rule.as_str(), cause.as_str());
                    if let Some(firing) = firing.map(Timestamp::as_millisecond) {
                        sqlx::query_file!("queries/firing_put.sql", rule, firing).execute(&mut *connection).await?;
                    }
                    sqlx::query_file!("queries/run_skip.sql", number, rule, version, cause, why, at)
                        .execute(&mut *connection)
                        .await?;
                    Ok(number)
                })
            })
            .await
    }

    /// The latest firing of a rule's schedule that was seen to.
    pub async fn fired(&self, rule: &Name) -> Result<Option<Timestamp>, JournalError> {
        let rule = rule.as_str();
        let at = sqlx::query_file_scalar!("queries/firing_get.sql", rule).fetch_optional(&self.read).await?;
        Ok(at.map(records::time))
    }

    /// Records that firings up to a time are seen to.
    pub async fn note_firing(&self, rule: &Name, at: Timestamp) -> Result<(), JournalError> {
        let (rule, at) = (rule.clone(), at.as_millisecond());
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let rule = rule.as_str();
                    sqlx::query_file!("queries/firing_put.sql", rule, at).execute(&mut *connection).await?;
                    Ok(())
                })
            })
            .await
    }

    /// Whether a run is not at its end.
    pub async fn run_goes_on(&self, run: i64) -> Result<bool, JournalError> {
        Ok(sqlx::query_file_scalar!("queries/run_goes_on.sql", run).fetch_one(&self.read).await?)
    }

    /// The runs of a rule that go on, oldest first, with their starts.
    pub async fn open_runs(&self, rule: &Name) -> Result<Vec<(i64, Timestamp)>, JournalError> {
        let rule = rule.as_str();
        let rows = sqlx::query_file!("queries/run_open.sql", rule).fetch_all(&self.read).await?;
        Ok(rows.into_iter().map(|row| (row.id, records::time(row.started))).collect())
    }

    /// The first file of a run that is held.
    pub async fn held_in_run(&self, run: i64) -> Result<Option<FilePath>, JournalError> {
        let row = sqlx::query_file!("queries/run_held.sql", run).fetch_optional(&self.read).await?;
        Ok(row.map(|row| records::file(&row.place, &row.path)).transpose()?)
    }

    /// What is known of a run from now on.
    pub async fn set_about(&self, run: i64, about: String) -> Result<(), JournalError> {
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    sqlx::query_file!("queries/run_about.sql", run, about).execute(&mut *connection).await?;
                    Ok(())
                })
            })
            .await
    }
}
