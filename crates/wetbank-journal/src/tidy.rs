//! What the journal gives back: rows that nobody asks for any more, and room in its file.

use jiff::Timestamp;

use crate::{Journal, JournalError, bulk};

/// Rows looked through at once.
const PAGE: i64 = 2_000;
/// Rows removed in one transaction: few enough that nobody's commit waits for long.
const TOGETHER: usize = 500;

impl Journal {
    /// Forgets which files we wrote where no rule looks for files, if that is long ago: that is known only so
    /// that a rule does not take its own results. `looked_at` are the places where some rule looks. Answers how many.
    pub async fn forget_outputs(&self, looked_at: &[&str], before: Timestamp) -> Result<u64, JournalError> {
        let (looked_at, before) = (bulk::json(looked_at), before.as_millisecond());
        let (mut place, mut path, mut forgotten) = (String::new(), Vec::new(), 0);
        loop {
            let page = sqlx::query_file!("queries/outputs_page.sql", place, path, PAGE).fetch_all(&self.read).await?;
            let Some(last) = page.last() else { return Ok(forgotten) };
            (place, path) = (last.place.clone(), last.path.clone());
            for some in page.chunks(TOGETHER) {
                let rows: Vec<_> = some.iter().map(|row| (&row.place, hex::encode(&row.path), row.item)).collect();
                let (rows, looked_at) = (bulk::json(&rows), looked_at.clone());
                let removed = self.writer.write(move |connection| {
                    Box::pin(async move {
                        let asked = sqlx::query_file!("queries/outputs_forget.sql", rows, looked_at, before);
                        Ok(asked.execute(connection).await?.rows_affected())
                    })
                });
                forgotten += removed.await?;
            }
        }
    }

    /// Gives room that is free in the file back to the disk, a little at a time.
    pub async fn give_room_back(&self) -> Result<(), JournalError> {
        loop {
            let free: i64 = self
                .writer
                .write(|connection| {
                    Box::pin(async move { sqlx::query_scalar("PRAGMA freelist_count").fetch_one(connection).await })
                })
                .await?;
            if free < KEPT_FREE {
                return Ok(());
            }
            let given = self.writer.write(|connection| {
                Box::pin(async move {
                    sqlx::raw_sql("PRAGMA incremental_vacuum(500)").execute(&mut *connection).await?;
                    sqlx::query_scalar::<_, i64>("PRAGMA freelist_count").fetch_one(connection).await
                })
            });
            if given.await? >= free {
                return Ok(());
            }
        }
    }
}

/// Free pages that stay: they are used again soon.
const KEPT_FREE: i64 = 2_000;
