//! Who may sign in, who is signed in, and what opens the door. Each change is one transaction.

use jiff::Timestamp;
use sqlx::SqliteConnection;

use crate::{Journal, JournalError, bulk, records};

/// A one-way sum of what opens a door.
pub type Proof = Vec<u8>;

/// Somebody who may sign in.
#[derive(Debug, Clone)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct UserRecord {
    pub name: String,
    pub title: String,
    pub rights: String,
    pub password: Option<String>,
    pub seed: Option<Vec<u8>>,
    pub step: Option<i64>,
    pub identity: Option<String>,
    pub made: Timestamp,
    pub seen: Option<Timestamp>,
}

/// A browser that signs in.
#[derive(Debug, Clone)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct NewSession {
    pub proof: Proof,
    pub user: Option<String>,
    pub how: String,
    pub address: String,
    pub agent: String,
    pub began: Timestamp,
    pub ends: Timestamp,
}

/// A browser that is signed in.
#[derive(Debug, Clone)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct SessionRecord {
    pub id: i64,
    pub new: NewSession,
    pub seen: Timestamp,
}

/// What a program signs in with.
#[derive(Debug, Clone)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct TokenRecord {
    pub name: String,
    pub proof: Proof,
    pub user: Option<String>,
    pub role: String,
    pub maker: String,
    pub made: Timestamp,
    pub ends: Option<Timestamp>,
    pub used: Option<Timestamp>,
}

/// A link that opens once: for a user, or for whoever may read the data folder.
#[derive(Debug, Clone)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct LinkRecord {
    pub user: Option<String>,
    pub ends: Timestamp,
}

/// The public half of a user's passkey.
#[derive(Debug, Clone)]
#[allow(missing_docs, reason = "the fields are the columns")]
pub struct PasskeyRecord {
    pub id: String,
    pub user: String,
    pub title: String,
    pub key: String,
    pub made: Timestamp,
    pub used: Option<Timestamp>,
}

/// What a new session replaces, in the same transaction.
#[derive(Debug, Clone, Default)]
pub struct Replaced {
    /// The link that it came by: it opens no more. If it does not open any more already, nothing happens at all.
    pub link: Option<Proof>,
    /// The time step of the second factor's code: no code of this step or one before counts again. If one did already,
    /// nothing happens at all.
    pub step: Option<i64>,
    /// The passkey that opened, as it is from now on.
    pub passkey: Option<(String, String)>,
    /// The user's new password, as its argon2id text.
    pub password: Option<String>,
    /// Who the user is from now on to the provider that vouches for her.
    pub identity: Option<String>,
    /// Sessions that end.
    pub sessions: Vec<i64>,
}

async fn begin(connection: &mut SqliteConnection, new: &NewSession) -> Result<i64, sqlx::Error> {
    let (began, ends) = (new.began.as_millisecond(), new.ends.as_millisecond());
    sqlx::query_file_scalar!(
        "queries/session_put.sql",
        new.proof,
        new.user,
        new.how,
        new.address,
        new.agent,
        began,
        ends
    )
    .fetch_one(connection)
    .await
}

async fn end(connection: &mut SqliteConnection, sessions: &[i64]) -> Result<(), sqlx::Error> {
    let ids = bulk::json(sessions);
    sqlx::query_file!("queries/sessions_remove.sql", ids).execute(connection).await?;
    Ok(())
}

impl Journal {
    /// Everybody who may sign in.
    pub async fn users(&self) -> Result<Vec<UserRecord>, JournalError> {
        let rows = sqlx::query_file!("queries/users.sql").fetch_all(&self.read).await?.into_iter();
        Ok(rows
            .map(|row| UserRecord {
                name: row.name,
                title: row.title,
                rights: row.rights,
                password: row.password,
                seed: row.seed,
                step: row.step,
                identity: row.identity,
                made: records::time(row.made),
                seen: row.seen.map(records::time),
            })
            .collect())
    }

    /// Adds a user, or changes how she is called and what she may do.
    pub async fn put_user(&self, name: &str, title: &str, rights: &str, at: Timestamp) -> Result<(), JournalError> {
        let (name, title, rights, at) = (name.to_owned(), title.to_owned(), rights.to_owned(), at.as_millisecond());
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    sqlx::query_file!("queries/user_put.sql", name, title, rights, at).execute(connection).await?;
                    Ok(())
                })
            })
            .await
    }

    /// Removes a user with her sessions, tokens and links. Answers whether there was one.
    pub async fn remove_user(&self, name: &str) -> Result<bool, JournalError> {
        let name = name.to_owned();
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let done = sqlx::query_file!("queries/user_remove.sql", name).execute(connection).await?;
                    Ok(done.rows_affected() > 0)
                })
            })
            .await
    }

    /// Gives a user another password, as its argon2id text; these sessions of hers end.
    pub async fn set_password(&self, name: &str, password: String, ended: Vec<i64>) -> Result<(), JournalError> {
        let name = name.to_owned();
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    sqlx::query_file!("queries/user_password.sql", name, password).execute(&mut *connection).await?;
                    end(connection, &ended).await
                })
            })
            .await
    }

    /// Keeps the sealed seed of a user's second factor and the step whose code was used; nothing takes it away.
    pub async fn set_seed(&self, name: &str, seed: Option<(Vec<u8>, i64)>) -> Result<(), JournalError> {
        let (name, (seed, step)) = (name.to_owned(), seed.unzip());
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    sqlx::query_file!("queries/user_seed.sql", name, seed, step).execute(connection).await?;
                    Ok(())
                })
            })
            .await
    }

    /// Keeps who a user is to the provider that vouches for her; nothing for nobody.
    pub async fn set_identity(&self, name: &str, identity: Option<String>) -> Result<(), JournalError> {
        let name = name.to_owned();
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    sqlx::query_file!("queries/user_identity.sql", name, identity).execute(connection).await?;
                    Ok(())
                })
            })
            .await
    }

    /// Every passkey.
    pub async fn passkeys(&self) -> Result<Vec<PasskeyRecord>, JournalError> {
        let rows = sqlx::query_file!("queries/passkeys.sql").fetch_all(&self.read).await?.into_iter();
        Ok(rows
            .map(|row| PasskeyRecord {
                id: row.id,
                user: row.user,
                title: row.title,
                key: row.key,
                made: records::time(row.made),
                used: row.used.map(records::time),
            })
            .collect())
    }

    /// Keeps a new passkey.
    pub async fn add_passkey(&self, new: PasskeyRecord) -> Result<(), JournalError> {
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let made = new.made.as_millisecond();
                    sqlx::query_file!("queries/passkey_put.sql", new.id, new.user, new.title, new.key, made)
                        .execute(connection)
                        .await?;
                    Ok(())
                })
            })
            .await
    }

    /// Removes a passkey.
    pub async fn remove_passkey(&self, id: &str) -> Result<(), JournalError> {
        let id = id.to_owned();
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    sqlx::query_file!("queries/passkey_remove.sql", id).execute(connection).await?;
                    Ok(())
                })
            })
            .await
    }

    /// Takes away what a user proves herself with besides her password: the seed of codes, and every passkey.
    pub async fn remove_proofs(&self, name: &str) -> Result<(), JournalError> {
        let name = name.to_owned();
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let (seed, step) = (None::<Vec<u8>>, None::<i64>);
                    sqlx::query_file!("queries/user_seed.sql", name, seed, step).execute(&mut *connection).await?;
                    sqlx::query_file!("queries/passkeys_remove.sql", name).execute(connection).await?;
                    Ok(())
                })
            })
            .await
    }

    /// Every session.
    pub async fn sessions(&self) -> Result<Vec<SessionRecord>, JournalError> {
        let rows = sqlx::query_file!("queries/people_sessions.sql").fetch_all(&self.read).await?.into_iter();
        Ok(rows
            .map(|row| SessionRecord {
                id: row.id,
                new: NewSession {
                    proof: row.proof,
                    user: row.user,
                    how: row.how,
                    address: row.address,
                    agent: row.agent,
                    began: records::time(row.began),
                    ends: records::time(row.ends),
                },
                seen: records::time(row.seen),
            })
            .collect())
    }

    /// Begins a session in the place of what it replaces. Answers its number; nothing if the link or the code had opened
    /// already.
    pub async fn begin_session(&self, new: NewSession, replaced: Replaced) -> Result<Option<i64>, JournalError> {
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let now = new.began.as_millisecond();
                    if let Some(step) = replaced.step {
                        let used = sqlx::query_file!("queries/user_step.sql", new.user, step).execute(&mut *connection);
                        if used.await?.rows_affected() == 0 {
                            return Ok(None);
                        }
                    }
                    if let Some(link) = replaced.link {
                        let taken = sqlx::query_file!("queries/link_take.sql", link, now).execute(&mut *connection);
                        if taken.await?.rows_affected() == 0 {
                            return Ok(None);
                        }
                    }
                    if let Some((id, key)) = replaced.passkey {
                        let used = sqlx::query_file!("queries/passkey_used.sql", id, key, now);
                        if used.execute(&mut *connection).await?.rows_affected() == 0 {
                            return Ok(None);
                        }
                    }
                    if let Some(password) = replaced.password {
                        sqlx::query_file!("queries/user_password.sql", new.user, password)
                            .execute(&mut *connection)
                            .await?;
                    }
                    if let Some(identity) = replaced.identity {
                        sqlx::query_file!("queries/user_identity.sql", new.user, identity)
                            .execute(&mut *connection)
                            .await?;
                    }
                    end(connection, &replaced.sessions).await?;
                    sqlx::query_file!("queries/user_seen.sql", new.user, now).execute(&mut *connection).await?;
                    Ok(Some(begin(connection, &new).await?))
                })
            })
            .await
    }

    /// Ends sessions.
    pub async fn end_sessions(&self, ids: Vec<i64>) -> Result<(), JournalError> {
        self.writer.write(move |connection| Box::pin(async move { end(connection, &ids).await })).await
    }

    /// Every token.
    pub async fn tokens(&self) -> Result<Vec<TokenRecord>, JournalError> {
        let rows = sqlx::query_file!("queries/tokens.sql").fetch_all(&self.read).await?.into_iter();
        Ok(rows
            .map(|row| TokenRecord {
                name: row.name,
                proof: row.proof,
                user: row.user,
                role: row.role,
                maker: row.maker,
                made: records::time(row.made),
                ends: row.ends.map(records::time),
                used: row.used.map(records::time),
            })
            .collect())
    }

    /// Keeps a new token.
    pub async fn add_token(&self, token: TokenRecord) -> Result<(), JournalError> {
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let (made, ends) = (token.made.as_millisecond(), token.ends.map(Timestamp::as_millisecond));
                    sqlx::query_file!(
                        "queries/token_put.sql",
                        token.name,
                        token.proof,
                        token.user,
                        token.role,
                        token.maker,
                        made,
                        ends
                    )
                    .execute(connection)
                    .await?;
                    Ok(())
                })
            })
            .await
    }

    /// Removes a token. Answers whether it was there.
    pub async fn remove_token(&self, name: &str) -> Result<bool, JournalError> {
        let name = name.to_owned();
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    let done = sqlx::query_file!("queries/token_remove.sql", name).execute(connection).await?;
                    Ok(done.rows_affected() > 0)
                })
            })
            .await
    }

    /// Notes when sessions were last seen, by their number, and tokens last used, by their name.
    pub async fn note_seen(
        &self,
        sessions: Vec<(i64, Timestamp)>,
        tokens: Vec<(String, Timestamp)>,
    ) -> Result<(), JournalError> {
        let sessions: Vec<_> = sessions.into_iter().map(|(id, at)| (id, at.as_millisecond())).collect();
        let tokens: Vec<_> = tokens.into_iter().map(|(name, at)| (name, at.as_millisecond())).collect();
        let (sessions, tokens) = (bulk::json(&sessions), bulk::json(&tokens));
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    sqlx::query_file!("queries/sessions_seen.sql", sessions).execute(&mut *connection).await?;
                    sqlx::query_file!("queries/tokens_used.sql", tokens).execute(connection).await?;
                    Ok(())
                })
            })
            .await
    }

    /// Keeps a link that opens once. Those that the same user had before open no more, nor those whose time is over.
    pub async fn add_link(&self, proof: Proof, link: LinkRecord, now: Timestamp) -> Result<(), JournalError> {
        let (ends, now) = (link.ends.as_millisecond(), now.as_millisecond());
        self.writer
            .write(move |connection| {
                Box::pin(async move {
                    sqlx::query_file!("queries/links_remove.sql", link.user, now).execute(&mut *connection).await?;
                    sqlx::query_file!("queries/link_put.sql", proof, link.user, ends).execute(connection).await?;
                    Ok(())
                })
            })
            .await
    }

    /// What a link opens, if it still does.
    pub async fn link(&self, proof: &[u8], now: Timestamp) -> Result<Option<LinkRecord>, JournalError> {
        let row = sqlx::query_file!("queries/link_get.sql", proof).fetch_optional(&self.read).await?;
        let link = row.map(|row| LinkRecord { user: row.user, ends: records::time(row.ends) });
        Ok(link.filter(|link| link.ends > now))
    }
}
