//! Mails that wait to be sent.

use jiff::Timestamp;
use wetbank_core::Name;

use crate::{Journal, JournalError, records};

/// A mail that a step wrote.
#[derive(Debug, Clone)]
pub struct NewMail {
    /// Its number, which is that of the attempt.
    pub id: i64,
    /// The rule.
    pub rule: Name,
    /// The mailbox that is to send it.
    pub place: Name,
    /// To whom, with commas between.
    pub recipients: String,
    /// Its subject.
    pub subject: String,
}

/// A mail of the outbox.
#[derive(Debug, Clone)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct MailRecord {
    pub id: i64,
    pub item: i64,
    pub run: i64,
    pub rule: String,
    pub place: String,
    pub recipients: String,
    pub subject: String,
    pub state: String,
    pub queued: Timestamp,
    pub due: Timestamp,
    pub tries: i64,
    pub why: Option<String>,
    pub ended: Option<Timestamp>,
}

/// Mails of one place that could not be sent so far.
#[derive(Debug, Clone)]
pub struct LateMails {
    /// The place.
    pub place: String,
    /// How many.
    pub count: i64,
    /// Since when the first of them waits.
    pub since: Timestamp,
    /// Why one of them was not sent.
    pub why: Option<String>,
}

/// What became of an attempt to send a mail.
#[derive(Debug, Clone)]
pub enum MailFate {
    /// The server took it.
    Sent,
    /// The server will never take it.
    Refused(String),
    /// It is tried again at this time.
    Later(Timestamp, String),
}

struct Row {
    id: i64,
    item: i64,
    run: i64,
    rule: String,
    place: String,
    recipients: String,
    subject: String,
    state: String,
    queued: i64,
    due: i64,
    tries: i64,
    why: Option<String>,
    ended: Option<i64>,
}

impl From<Row> for MailRecord {
    fn from(row: Row) -> Self {
        let Row { id, item, run, rule, place, recipients, subject, state, tries, why, .. } = row;
        let (queued, due) = (records::time(row.queued), records::time(row.due));
        let ended = row.ended.map(records::time);
        Self { id, item, run, rule, place, recipients, subject, state, queued, due, tries, why, ended }
    }
}

impl Journal {
    /// Mails that are due to be sent, at most so many.
    pub async fn mails_due(&self, now: Timestamp, most: i64) -> Result<Vec<MailRecord>, JournalError> {
        let now = now.as_millisecond();
        let rows = sqlx::query_file_as!(Row, "queries/outbox_due.sql", now, most).fetch_all(&self.read).await?;
        Ok(rows.into_iter().map(MailRecord::from).collect())
    }

    /// When the next mail is due.
    pub async fn next_mail(&self) -> Result<Option<Timestamp>, JournalError> {
        let due = sqlx::query_file_scalar!("queries/outbox_next.sql").fetch_one(&self.read).await?;
        Ok(due.map(records::time))
    }

    /// The newest mails, those that wait first.
    pub async fn mails(&self, most: i64) -> Result<Vec<MailRecord>, JournalError> {
        let rows = sqlx::query_file_as!(Row, "queries/outbox_list.sql", most).fetch_all(&self.read).await?;
        Ok(rows.into_iter().map(MailRecord::from).collect())
    }

    /// The numbers of the mails that were not sent: they wait, or were refused.
    pub async fn unsent_mails(&self) -> Result<Vec<i64>, JournalError> {
        Ok(sqlx::query_file_scalar!("queries/outbox_unsent.sql").fetch_all(&self.read).await?)
    }

    /// Mails that wait although sending was tried, and those that were refused since a time, place
    /// by place.
    pub async fn late_mails(&self, since: Timestamp) -> Result<Vec<LateMails>, JournalError> {
        let since = since.as_millisecond();
        let rows = sqlx::query_file!("queries/outbox_late.sql", since).fetch_all(&self.read).await?;
        let told = |place, count, since, why| LateMails { place, count, since: records::time(since), why };
        Ok(rows.into_iter().map(|row| told(row.place, row.count, row.since, row.why)).collect())
    }

    /// Records what became of an attempt to send a mail.
    pub async fn end_mail(&self, id: i64, fate: MailFate, at: Timestamp) -> Result<(), JournalError> {
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let now = at.as_millisecond();
                    let (state, due, why, ended) = match fate {
                        MailFate::Sent => ("sent", now, None, Some(now)),
                        MailFate::Refused(why) => ("refused", now, Some(why), Some(now)),
                        MailFate::Later(due, why) => ("waiting", due.as_millisecond(), Some(why), None),
                    };
                    sqlx::query_file!("queries/outbox_change.sql", id, state, due, why, ended)
                        .execute(&mut *connection)
                        .await?;
                    Ok(())
                })
            })
            .await
    }

    /// Has a mail tried again now. Answers whether there is one that was not sent.
    pub async fn mail_again(&self, id: i64, at: Timestamp) -> Result<bool, JournalError> {
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let now = at.as_millisecond();
                    let done = sqlx::query_file!("queries/outbox_again.sql", id, now).execute(&mut *connection).await?;
                    Ok(done.rows_affected() > 0)
                })
            })
            .await
    }

    /// Forgets mails that came to their end before a time.
    pub async fn purge_mails(&self, before: Timestamp) -> Result<(), JournalError> {
        let before = before.as_millisecond();
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    sqlx::query_file!("queries/outbox_purge.sql", before).execute(&mut *connection).await?;
                    Ok(())
                })
            })
            .await
    }
}
