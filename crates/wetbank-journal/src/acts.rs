//! Who asked for what, and what came of it.

use jiff::Timestamp;

use crate::{Journal, JournalError, records};

/// Rows removed in one transaction.
const TOGETHER: i64 = 500;

/// Something that somebody asked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NewAct {
    /// When.
    pub at: Timestamp,
    /// Who.
    pub who: String,
    /// From where.
    pub address: String,
    /// What is asked for, as the API calls it.
    pub call: String,
    /// Of what.
    pub about: String,
}

/// An act on record.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ActRecord {
    /// Its number: later ones are larger.
    pub id: i64,
    /// What was asked for.
    pub act: NewAct,
    /// What came of it, as a status of HTTP; nothing if the service stopped meanwhile, or is at it.
    pub outcome: Option<u16>,
    /// What of the change is worth telling besides.
    pub note: Option<String>,
}

impl Journal {
    /// Records that somebody asks for something, before it is done. Answers its number.
    pub async fn begin_act(&self, act: NewAct) -> Result<i64, JournalError> {
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let at = act.at.as_millisecond();
                    sqlx::query_file_scalar!("queries/act_begin.sql", at, act.who, act.address, act.call, act.about)
                        .fetch_one(connection)
                        .await
                })
            })
            .await
    }

    /// Records what came of an act.
    pub async fn end_act(&self, id: i64, outcome: u16, note: Option<String>) -> Result<(), JournalError> {
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    sqlx::query_file!("queries/act_end.sql", id, outcome, note).execute(connection).await?;
                    Ok(())
                })
            })
            .await
    }

    /// Acts older than `before`, of everybody or of one, newest first.
    pub async fn acts(
        &self,
        before: Option<i64>,
        who: Option<&str>,
        limit: u32,
    ) -> Result<Vec<ActRecord>, JournalError> {
        let before = before.unwrap_or(i64::MAX);
        let rows = sqlx::query_file!("queries/acts.sql", before, who, limit).fetch_all(&self.read).await?.into_iter();
        Ok(rows
            .map(|row| ActRecord {
                id: row.id,
                act: NewAct {
                    at: records::time(row.at),
                    who: row.who,
                    address: row.address,
                    call: row.call,
                    about: row.about,
                },
                outcome: row.outcome.and_then(|status| u16::try_from(status).ok()),
                note: row.note,
            })
            .collect())
    }

    /// Forgets acts of long ago. Answers how many.
    pub async fn forget_acts(&self, before: Timestamp) -> Result<u64, JournalError> {
        let (before, mut forgotten) = (before.as_millisecond(), 0);
        loop {
            let removed = self.writer.write(move |connection| {
                Box::pin(async move {
                    let asked = sqlx::query_file!("queries/acts_forget.sql", before, TOGETHER);
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
