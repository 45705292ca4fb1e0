//! Tables of databases: files of comma-separated values (RFC 4180) go in and come out.

mod names;
mod pages;
mod postgres;
mod rows;
mod sqlite;

use std::{
    io::{Read, Write},
    time::Duration,
};

use secrecy::SecretString;
use wetbank_core::{Asked, Database, DatabaseKind, step::Load};

use crate::ErrandError;
pub(crate) use rows::{Batch, Cell, Column, Kind, Reading};

/// A database and what opens it.
#[derive(Debug, Clone)]
pub struct Source {
    /// The database.
    pub database: Database,
    /// The password, if it has one.
    pub password: Option<SecretString>,
}

/// What is to be loaded, and how.
#[derive(Debug, Clone)]
pub struct Loading {
    /// What the rule says of it.
    pub said: Load,
    /// What tells this load from every other: it is never done twice.
    pub key: String,
}

/// What came of loading.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Loaded {
    /// Rows that were loaded.
    pub rows: u64,
    /// Rows that were left out.
    pub left_out: u64,
    /// The first of them in words, each with its line.
    pub named: Vec<String>,
    /// It was loaded before, so nothing was done now.
    pub before: bool,
}

/// What is to be extracted, and how.
#[derive(Debug, Clone)]
pub struct Extracting {
    /// What is asked.
    pub asked: Asked,
    /// The values.
    pub values: Vec<(String, String)>,
    /// What stands between two values of a line.
    pub separator: u8,
}

/// How long a database may take to let us in.
const CONNECT: Duration = Duration::from_secs(15);
/// How long another writer is waited for.
const BUSY: Duration = Duration::from_secs(30);
/// Where a load leaves its mark, in the same transaction, so that a stop in the middle of it is
/// followed neither by a second load nor by none.
const MARKS: &str = "wetbank_loaded";

/// Signs in and says goodbye. Answers in words what was found.
///
/// # Errors
///
/// `Away`, `SignIn` or `Refused`.
pub async fn reach(source: &Source) -> Result<String, ErrandError> {
    match &source.database.kind {
        DatabaseKind::Sqlite { file } => sqlite::reach(file).await,
        DatabaseKind::Postgres(spec) => postgres::reach(spec, source.password.as_ref()).await,
    }
}

/// Makes a file of SQLite with these tables, for samples and tests; one that is there is left as it is.
///
/// # Errors
///
/// If it cannot be written.
pub async fn new_sqlite(file: &std::path::Path, statements: &str) -> Result<(), ErrandError> {
    sqlite::make(file, statements).await
}

/// Loads a file into a table: all of it or, unless rows are left out, nothing.
///
/// # Errors
///
/// `Wrong` names the headers or lines that do not fit; nothing was loaded then.
pub async fn load(source: &Source, loading: Loading, input: impl Read + Send + 'static) -> Result<Loaded, ErrandError> {
    match &source.database.kind {
        DatabaseKind::Sqlite { file } => sqlite::load(file, loading, input).await,
        DatabaseKind::Postgres(spec) => postgres::load(spec, source.password.as_ref(), loading, input).await,
    }
}

/// Writes what a query finds, with a head line. Answers how many rows.
///
/// # Errors
///
/// `Wrong` if the database does not understand the query.
pub async fn extract(source: &Source, extracting: Extracting, output: impl Write + Send) -> Result<u64, ErrandError> {
    match &source.database.kind {
        DatabaseKind::Sqlite { file } => pages::extract(file, extracting, output).await,
        DatabaseKind::Postgres(spec) => postgres::extract(spec, source.password.as_ref(), extracting, output).await,
    }
}

/// A name of a table or column in a statement. Two parts of a table's name are told apart by a dot.
fn quoted(name: &str) -> String {
    format!("\"{}\"", name.replace('"', "\"\""))
}

fn quoted_table(table: &str) -> String {
    table.split('.').map(quoted).collect::<Vec<_>>().join(".")
}

/// Whether a failure of a database is one of reaching it.
fn judged(error: &sqlx::Error, what: &str) -> ErrandError {
    match error {
        sqlx::Error::Io(_) | sqlx::Error::PoolTimedOut | sqlx::Error::WorkerCrashed => {
            ErrandError::Away(format!("{what}: {error}"))
        }
        sqlx::Error::Database(inner) => {
            let code = inner.code().unwrap_or_default();
            let words = format!("{what}: {}", inner.message());
            match &*code {
                // SQLite: busy, locked, full. PostgreSQL: class 08 and 53, a shutdown, a deadlock.
                "5" | "6" | "13" | "57P01" | "57P03" | "40001" | "40P01" => ErrandError::Away(words),
                "28P01" | "28000" => ErrandError::SignIn(words),
                code if code.starts_with("08") || code.starts_with("53") => ErrandError::Away(words),
                _ => ErrandError::Wrong(words),
            }
        }
        error => ErrandError::Refused(format!("{what}: {error}")),
    }
}
