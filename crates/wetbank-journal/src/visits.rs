//! Who comes with an account: passwords, visits, and what is being handed in.

use jiff::Timestamp;
use wetbank_core::{FilePath, Name, RelPath};

use crate::{Journal, JournalError, records};

/// What is kept of an account's password.
#[derive(Debug, Clone)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct AccountPassword {
    pub account: String,
    /// In the PHC string format.
    pub password: String,
    /// It lets its owner choose another one, and nothing else.
    pub is_once: bool,
    pub made: Timestamp,
    /// Wrong ones since the last right one.
    pub wrong: u32,
    /// None counts until then.
    pub locked: Option<Timestamp>,
}

/// Somebody who comes with an account.
#[derive(Debug, Clone)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct NewVisit {
    pub account: Name,
    pub partner: Name,
    /// `sftp` or `https`.
    pub way: &'static str,
    /// What was signed in with: a key's fingerprint, or `password`.
    pub how: String,
    pub address: String,
    pub agent: String,
    pub began: Timestamp,
}

/// The same on record.
#[derive(Debug, Clone)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct VisitRecord {
    pub id: i64,
    pub account: String,
    pub partner: String,
    pub way: String,
    pub how: String,
    pub address: String,
    pub agent: String,
    pub began: Timestamp,
    pub ended: Option<Timestamp>,
}

/// A file that is being handed in.
#[derive(Debug, Clone)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct UploadRecord {
    /// Where it lies until it is whole.
    pub staged: FilePath,
    pub account: String,
    /// Its name as the account sees it.
    pub seen: RelPath,
    pub began: Timestamp,
}

impl Journal {
    /// The passwords of all accounts.
    pub async fn account_passwords(&self) -> Result<Vec<AccountPassword>, JournalError> {
        let rows = sqlx::query_file!("queries/account_passwords.sql").fetch_all(&self.read).await?;
        let one = rows.into_iter().map(|row| AccountPassword {
            account: row.account,
            password: row.password,
            is_once: row.is_once,
            made: records::time(row.made),
            wrong: u32::try_from(row.wrong).unwrap_or(u32::MAX),
            locked: row.locked.map(records::time),
        });
        Ok(one.collect())
    }

    /// Gives an account a password; what was wrong before is forgotten.
    pub async fn put_account_password(
        &self,
        account: &str,
        password: String,
        is_once: bool,
        at: Timestamp,
    ) -> Result<(), JournalError> {
        let account = account.to_owned();
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let at = at.as_millisecond();
                    sqlx::query_file!("queries/account_password_put.sql", account, password, is_once, at)
                        .execute(connection)
                        .await?;
                    Ok(())
                })
            })
            .await
    }

    /// Takes an account's password away. Answers whether it had one.
    pub async fn remove_account_password(&self, account: &str) -> Result<bool, JournalError> {
        let account = account.to_owned();
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let removed = sqlx::query_file!("queries/account_password_remove.sql", account);
                    Ok(removed.execute(connection).await?.rows_affected() > 0)
                })
            })
            .await
    }

    /// How many wrong passwords came for an account, and until when none counts.
    pub async fn set_account_wrong(
        &self,
        account: &str,
        wrong: u32,
        locked: Option<Timestamp>,
    ) -> Result<(), JournalError> {
        let account = account.to_owned();
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let (wrong, locked) = (i64::from(wrong), locked.map(Timestamp::as_millisecond));
                    sqlx::query_file!("queries/account_password_wrong.sql", account, wrong, locked)
                        .execute(connection)
                        .await?;
                    Ok(())
                })
            })
            .await
    }

    /// Somebody comes. Answers the visit's number.
    pub async fn begin_visit(&self, new: NewVisit) -> Result<i64, JournalError> {
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let (account, partner, began) =
                        (new.account.as_str(), new.partner.as_str(), new.began.as_millisecond());
                    let put = sqlx::query_file_scalar!(
                        "queries/visit_put.sql",
                        account,
                        partner,
                        new.way,
                        new.how,
                        new.address,
                        new.agent,
                        began
                    );
                    put.fetch_one(connection).await
                })
            })
            .await
    }

    /// Somebody went.
    pub async fn end_visit(&self, id: i64, at: Timestamp) -> Result<(), JournalError> {
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let at = at.as_millisecond();
                    sqlx::query_file!("queries/visit_end.sql", id, at).execute(connection).await?;
                    Ok(())
                })
            })
            .await
    }

    /// Nobody is there any more: who was when the service ended went then.
    pub async fn cut_visits(&self, at: Timestamp) -> Result<(), JournalError> {
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let at = at.as_millisecond();
                    sqlx::query_file!("queries/visits_cut.sql", at).execute(connection).await?;
                    Ok(())
                })
            })
            .await
    }

    /// Who came, the newest first, from before a number on.
    pub async fn visits(
        &self,
        account: Option<&str>,
        before: i64,
        limit: u32,
    ) -> Result<Vec<VisitRecord>, JournalError> {
        let rows = sqlx::query_file!("queries/visits.sql", before, account, limit).fetch_all(&self.read).await?;
        let one = rows.into_iter().map(|row| VisitRecord {
            id: row.id,
            account: row.account,
            partner: row.partner,
            way: row.way,
            how: row.how,
            address: row.address,
            agent: row.agent,
            began: records::time(row.began),
            ended: row.ended.map(records::time),
        });
        Ok(one.collect())
    }

    /// A file begins to be handed in, or goes on.
    pub async fn begin_upload(&self, new: UploadRecord) -> Result<(), JournalError> {
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let (place, staged) = (new.staged.place.as_str(), new.staged.path.as_bytes());
                    let (seen, began) = (new.seen.as_bytes(), new.began.as_millisecond());
                    sqlx::query_file!("queries/upload_put.sql", place, staged, new.account, seen, began)
                        .execute(connection)
                        .await?;
                    Ok(())
                })
            })
            .await
    }

    /// A file that was being handed in is given up.
    pub async fn end_upload(&self, staged: &FilePath) -> Result<(), JournalError> {
        let staged = staged.clone();
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let (place, staged) = (staged.place.as_str(), staged.path.as_bytes());
                    sqlx::query_file!("queries/upload_remove.sql", place, staged).execute(connection).await?;
                    Ok(())
                })
            })
            .await
    }

    /// What is being handed in.
    pub async fn uploads(&self) -> Result<Vec<UploadRecord>, JournalError> {
        let rows = sqlx::query_file!("queries/uploads.sql").fetch_all(&self.read).await?;
        rows.into_iter()
            .map(|row| {
                Ok(UploadRecord {
                    staged: records::file(&row.place, &row.staged)?,
                    account: row.account,
                    seen: records::path(&row.seen),
                    began: records::time(row.began),
                })
            })
            .collect()
    }
}
