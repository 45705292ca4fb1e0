//! What is arranged: sections of the book, secrets, keys.

use jiff::Timestamp;

use crate::{Journal, JournalError, KeyRecord, SectionRecord, VersionRecord, records};

impl Journal {
    /// A small value kept under a name.
    pub async fn setting(&self, key: &str) -> Result<Option<String>, JournalError> {
        Ok(sqlx::query_file_scalar!("queries/setting_get.sql", key).fetch_optional(&self.read).await?)
    }

    /// Keeps a small value under a name.
    pub async fn set_setting(&self, key: &str, value: &str) -> Result<(), JournalError> {
        let (key, value) = (key.to_owned(), value.to_owned());
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    sqlx::query_file!("queries/setting_put.sql", key, value).execute(connection).await?;
                    Ok(())
                })
            })
            .await
    }

    /// Forgets a small value.
    pub async fn remove_setting(&self, key: &str) -> Result<(), JournalError> {
        let key = key.to_owned();
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    sqlx::query_file!("queries/setting_remove.sql", key).execute(connection).await?;
                    Ok(())
                })
            })
            .await
    }

    /// Every section, in the order of the book.
    pub async fn sections(&self) -> Result<Vec<SectionRecord>, JournalError> {
        let rows = sqlx::query_file!("queries/sections.sql").fetch_all(&self.read).await?;
        Ok(rows
            .into_iter()
            .map(|row| SectionRecord {
                kind: row.kind,
                name: row.name,
                text: row.text,
                position: row.position,
                version: row.version,
                is_on: row.is_on,
                changed: records::time(row.changed),
            })
            .collect())
    }

    /// Changes the book in one transaction: sections to write, to remove, and the whole order; `note` says why.
    pub async fn change_book(
        &self,
        put: Vec<(String, String, String)>,
        remove: Vec<(String, String)>,
        order: Vec<(String, String)>,
        who: &str,
        at: Timestamp,
        note: Option<&str>,
    ) -> Result<(), JournalError> {
        let (who, at, note) = (who.to_owned(), at.as_millisecond(), note.map(str::to_owned));
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    for (kind, name, text) in put {
                        sqlx::query_file!("queries/section_put.sql", kind, name, text, 0_i64, at)
                            .execute(&mut *connection)
                            .await?;
                        sqlx::query_file!("queries/version_put.sql", kind, name, text, at, who, note)
                            .execute(&mut *connection)
                            .await?;
                    }
                    for (kind, name) in remove {
                        sqlx::query_file!("queries/section_remove.sql", kind, name).execute(&mut *connection).await?;
                        let gone: Option<String> = None;
                        sqlx::query_file!("queries/version_put.sql", kind, name, gone, at, who, note)
                            .execute(&mut *connection)
                            .await?;
                    }
                    for (position, (kind, name)) in order.into_iter().enumerate() {
                        let position = position as i64;
                        sqlx::query_file!("queries/section_place.sql", kind, name, position)
                            .execute(&mut *connection)
                            .await?;
                    }
                    Ok(())
                })
            })
            .await
    }

    /// Switches a rule on or off. Answers whether there is such a rule.
    pub async fn switch(&self, kind: &'static str, name: &str, is_on: bool) -> Result<bool, JournalError> {
        let name = name.to_owned();
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let done =
                        sqlx::query_file!("queries/section_switch.sql", kind, name, is_on).execute(connection).await?;
                    Ok(done.rows_affected() > 0)
                })
            })
            .await
    }

    /// The texts a section had, newest first.
    pub async fn versions(&self, kind: &str, name: &str) -> Result<Vec<VersionRecord>, JournalError> {
        let rows = sqlx::query_file!("queries/versions.sql", kind, name).fetch_all(&self.read).await?;
        Ok(rows
            .into_iter()
            .map(|row| VersionRecord {
                version: row.version,
                text: row.text,
                at: records::time(row.at),
                who: row.who,
                note: row.note,
            })
            .collect())
    }

    /// The text of a section in force, and its version.
    pub async fn section(&self, kind: &str, name: &str) -> Result<Option<(String, i64)>, JournalError> {
        let row = sqlx::query_file!("queries/section_get.sql", kind, name).fetch_optional(&self.read).await?;
        Ok(row.map(|row| (row.text, row.version)))
    }

    /// Names of sections that were removed and are not there again.
    pub async fn sections_gone(&self, kind: &str) -> Result<Vec<String>, JournalError> {
        let rows = sqlx::query_file!("queries/sections_gone.sql", kind).fetch_all(&self.read).await?;
        Ok(rows.into_iter().map(|row| row.name).collect())
    }

    /// Keeps the text of a rule that is in no book, so that its runs can be understood later.
    /// Answers its version; the same text has the same one.
    pub async fn keep_text(&self, rule: &str, text: &str, who: &str, at: Timestamp) -> Result<i64, JournalError> {
        let (rule, text, who, at) = (rule.to_owned(), text.to_owned(), who.to_owned(), at.as_millisecond());
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let same = sqlx::query_file_scalar!("queries/version_same.sql", "rule", rule, text)
                        .fetch_optional(&mut *connection)
                        .await?;
                    if let Some(version) = same {
                        return Ok(version);
                    }
                    sqlx::query_file_scalar!("queries/version_keep.sql", "rule", rule, text, at, who)
                        .fetch_one(connection)
                        .await
                })
            })
            .await
    }

    /// The text of a section in one version.
    pub async fn version_text(&self, kind: &str, name: &str, version: i64) -> Result<Option<String>, JournalError> {
        Ok(sqlx::query_file_scalar!("queries/version_text.sql", kind, name, version)
            .fetch_optional(&self.read)
            .await?
            .flatten())
    }

    /// A sealed secret.
    pub async fn secret(&self, name: &str) -> Result<Option<Vec<u8>>, JournalError> {
        Ok(sqlx::query_file_scalar!("queries/secret_get.sql", name).fetch_optional(&self.read).await?)
    }

    /// Keeps a sealed secret.
    pub async fn set_secret(&self, name: &str, sealed: Vec<u8>, at: Timestamp) -> Result<(), JournalError> {
        let (name, at) = (name.to_owned(), at.as_millisecond());
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    sqlx::query_file!("queries/secret_put.sql", name, sealed, at).execute(connection).await?;
                    Ok(())
                })
            })
            .await
    }

    /// Removes a secret. Answers whether it was there.
    pub async fn remove_secret(&self, name: &str) -> Result<bool, JournalError> {
        let name = name.to_owned();
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let done = sqlx::query_file!("queries/secret_remove.sql", name).execute(connection).await?;
                    Ok(done.rows_affected() > 0)
                })
            })
            .await
    }

    /// Names of secrets and when each was set.
    pub async fn secrets(&self) -> Result<Vec<(String, Timestamp)>, JournalError> {
        let rows = sqlx::query_file!("queries/secrets.sql").fetch_all(&self.read).await?;
        Ok(rows.into_iter().map(|row| (row.name, records::time(row.changed))).collect())
    }

    /// Every OpenPGP key.
    pub async fn keys(&self) -> Result<Vec<KeyRecord>, JournalError> {
        let rows = sqlx::query_file!("queries/keys.sql").fetch_all(&self.read).await?;
        Ok(rows
            .into_iter()
            .map(|row| KeyRecord {
                name: row.name,
                fingerprint: row.fingerprint,
                certificate: row.certificate,
                sealed: row.sealed,
                changed: records::time(row.changed),
            })
            .collect())
    }

    /// Keeps an OpenPGP key. A certificate brought up to date does not lose its secret part.
    pub async fn set_key(&self, key: KeyRecord) -> Result<(), JournalError> {
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let at = key.changed.as_millisecond();
                    sqlx::query_file!(
                        "queries/key_put.sql",
                        key.name,
                        key.fingerprint,
                        key.certificate,
                        key.sealed,
                        at
                    )
                    .execute(connection)
                    .await?;
                    Ok(())
                })
            })
            .await
    }

    /// Removes a key. Answers whether it was there.
    pub async fn remove_key(&self, name: &str) -> Result<bool, JournalError> {
        let name = name.to_owned();
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let done = sqlx::query_file!("queries/key_remove.sql", name).execute(connection).await?;
                    Ok(done.rows_affected() > 0)
                })
            })
            .await
    }
}
