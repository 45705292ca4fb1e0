//! Files of SQLite.

use std::{io::Read, path::Path, time::Duration};

use sqlx::{
    AssertSqlSafe, ConnectOptions, Connection, Executor, Row, SqliteConnection,
    sqlite::{SqliteConnectOptions, SqliteRow},
};
use wetbank_core::BadRows;

use super::{BUSY, Batch, Cell, Column, Kind, Loaded, Loading, MARKS, Reading, judged, quoted, quoted_table};
use crate::ErrandError;

pub(super) async fn open(file: &str, read_only: bool, busy: Duration) -> Result<SqliteConnection, ErrandError> {
    if !Path::new(file).exists() {
        return Err(ErrandError::Refused(format!(
            "there is no file {file}; a database is never made by loading into it"
        )));
    }
    let options = |read_only| {
        let options = SqliteConnectOptions::new().filename(file).create_if_missing(false).read_only(read_only);
        options.busy_timeout(busy).disable_statement_logging()
    };
    let failed = |error: sqlx::Error| judged(&error, file);
    let mut connection = options(read_only).connect().await.map_err(failed)?;
    if read_only && looked(&mut connection).await.is_err_and(|error| is_left_unfinished(&error)) {
        // Whoever wrote into it was ended in the middle. What it left must be rolled back, which only a writer can.
        let mut writer = options(false).connect().await.map_err(failed)?;
        looked(&mut writer).await.map_err(failed)?;
        writer.close().await.map_err(failed)?;
        connection = options(true).connect().await.map_err(failed)?;
    }
    Ok(connection)
}

/// Reads something, so that the file is really opened.
async fn looked(connection: &mut SqliteConnection) -> Result<i64, sqlx::Error> {
    sqlx::query_scalar("SELECT count(*) FROM sqlite_schema").fetch_one(connection).await
}

/// Whether reading failed because a write must be undone before: `SQLITE_READONLY` and its kinds, whose lowest byte is 8.
fn is_left_unfinished(error: &sqlx::Error) -> bool {
    let code = error.as_database_error().and_then(|error| error.code()?.parse::<i32>().ok());
    code.is_some_and(|code| code & 0xff == 8)
}

pub(super) async fn make(file: &Path, statements: &str) -> Result<(), ErrandError> {
    if file.exists() {
        return Ok(());
    }
    let shown = file.display().to_string();
    let failed = |error: sqlx::Error| judged(&error, &shown);
    let options = SqliteConnectOptions::new().filename(file).create_if_missing(true);
    let mut connection = options.connect().await.map_err(failed)?;
    connection.execute(AssertSqlSafe(statements)).await.map_err(failed)?;
    connection.close().await.map_err(failed)
}

pub(super) async fn reach(file: &str) -> Result<String, ErrandError> {
    let mut connection = open(file, true, BUSY).await?;
    let count: i64 = sqlx::query_scalar("SELECT count(*) FROM sqlite_schema WHERE type = 'table' AND name <> ?1")
        .bind(MARKS)
        .fetch_one(&mut connection)
        .await
        .map_err(|error| judged(&error, file))?;
    Ok(if count == 1 { "1 table".to_owned() } else { format!("{count} tables") })
}

async fn columns(connection: &mut SqliteConnection, table: &str) -> Result<Vec<Column>, ErrandError> {
    let rows = sqlx::query("SELECT name, type, \"notnull\", pk, dflt_value IS NOT NULL FROM pragma_table_info(?1)")
        .bind(table)
        .fetch_all(connection)
        .await
        .map_err(|error| judged(&error, table))?;
    let column = |row: &SqliteRow| {
        let (name, declared): (String, String) = (row.try_get(0)?, row.try_get(1)?);
        let (strict, key): (bool, i64) = (row.try_get(2)?, row.try_get(3)?);
        let is_row_number = key > 0 && declared.eq_ignore_ascii_case("integer");
        Ok(Column {
            name,
            kind: Kind::of(&declared),
            may_be_empty: !strict || key > 0,
            fills_itself: is_row_number || row.try_get::<bool, _>(4)?,
            makes_numbers: makes_numbers(&declared),
        })
    };
    let columns: Result<Vec<Column>, sqlx::Error> = rows.iter().map(column).collect();
    let columns = columns.map_err(|error| judged(&error, table))?;
    if columns.is_empty() {
        return Err(ErrandError::Wrong(format!("there is no table \"{table}\"")));
    }
    Ok(columns)
}

/// Whether a column of this declared type makes numbers of texts that look like some (the affinities INTEGER, REAL and
/// NUMERIC, which SQLite finds out by these words in this order).
fn makes_numbers(declared: &str) -> bool {
    let declared = declared.to_ascii_lowercase();
    let has = |words: &[&str]| words.iter().any(|word| declared.contains(word));
    has(&["int"]) || !(declared.is_empty() || has(&["char", "clob", "text", "blob"]))
}

pub(super) async fn load(
    file: &str,
    loading: Loading,
    input: impl Read + Send + 'static,
) -> Result<Loaded, ErrandError> {
    let mut connection = open(file, false, BUSY).await?;
    let failed = |error: sqlx::Error| judged(&error, &loading.said.table);
    let table = columns(&mut connection, &loading.said.table).await?;
    connection.execute("BEGIN IMMEDIATE").await.map_err(failed)?;
    let done = within(&mut connection, &loading, table, input).await;
    let end = match &done {
        Ok(loaded) if !loaded.before => "COMMIT",
        _ => "ROLLBACK",
    };
    connection.execute(end).await.map_err(failed)?;
    let _ = connection.close().await;
    done
}

async fn within(
    connection: &mut SqliteConnection,
    loading: &Loading,
    table: Vec<Column>,
    input: impl Read + Send + 'static,
) -> Result<Loaded, ErrandError> {
    let failed = |error: sqlx::Error| judged(&error, &loading.said.table);
    let make = format!("CREATE TABLE IF NOT EXISTS {MARKS} (load TEXT PRIMARY KEY, at TEXT NOT NULL)");
    connection.execute(AssertSqlSafe(make)).await.map_err(failed)?;
    let mark = format!("INSERT INTO {MARKS} (load, at) VALUES (?1, datetime('now')) ON CONFLICT DO NOTHING");
    let marked = sqlx::query(AssertSqlSafe(mark)).bind(&loading.key).execute(&mut *connection).await.map_err(failed)?;
    if marked.rows_affected() == 0 {
        return Ok(Loaded { before: true, ..Loaded::default() });
    }
    let name = quoted_table(&loading.said.table);
    if loading.said.replace {
        connection.execute(AssertSqlSafe(format!("DELETE FROM {name}"))).await.map_err(failed)?;
    }
    let mut reading = Reading::begin(input, loading, table).await?;
    let width = reading.columns.len();
    let statement = |rows: usize| {
        let names: Vec<String> = reading.columns.iter().map(|column| quoted(&column.name)).collect();
        let row = format!("({})", vec!["?"; width].join(","));
        format!("INSERT INTO {name} ({}) VALUES {}", names.join(","), vec![row; rows].join(","))
    };
    let full = statement(reading.rows_together());
    while let Some(batch) = reading.batches.recv().await {
        let rows = batch.len() / width;
        let last = (rows != reading.rows_together()).then(|| statement(rows));
        insert(connection, last.as_deref().unwrap_or(&full), batch).await.map_err(failed)?;
    }
    finish(reading, loading).await
}

/// What the reader found out, judged as the load says.
pub(super) async fn finish(reading: Reading, loading: &Loading) -> Result<Loaded, ErrandError> {
    let rest = reading.rest.await.map_err(|error| ErrandError::Io(std::io::Error::other(error)))??;
    if rest.bad > 0 && loading.said.bad_rows == BadRows::Refuse {
        let more = rest.bad.saturating_sub(rest.named.len() as u64);
        let more = if more > 0 { format!("; and {more} more") } else { String::new() };
        let count =
            if rest.bad == 1 { "a row does not fit".to_owned() } else { format!("{} rows do not fit", rest.bad) };
        return Err(ErrandError::Wrong(format!("{count}, so none was loaded: {}{more}", rest.named.join("; "))));
    }
    Ok(Loaded { rows: rest.rows, left_out: rest.bad, named: rest.named, before: false })
}

async fn insert(connection: &mut SqliteConnection, statement: &str, batch: Batch) -> Result<(), sqlx::Error> {
    let mut query = sqlx::query(AssertSqlSafe(statement));
    for cell in batch {
        query = match cell {
            Cell::Nothing => query.bind(None::<i64>),
            Cell::Integer(number) => query.bind(number),
            Cell::Real(number) => query.bind(number),
            Cell::Text(text) => query.bind(text),
        };
    }
    query.execute(connection).await.map(drop)
}
