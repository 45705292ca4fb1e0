//! Files of SQLite.

use std::{
    borrow::Cow,
    io::{Read, Write},
    path::Path,
};

use futures_util::future::join;
use serde_json::value::RawValue;
use sqlx::{
    AssertSqlSafe, Column as _, ConnectOptions, Connection, Executor, Row, SqlSafeStr, SqliteConnection,
    sqlite::{SqliteConnectOptions, SqliteRow},
};

use super::{
    BUSY, Batch, Cell, Column, Extracting, Kind, Loaded, Loading, MARKS, Reading, judged, names, names::Filled, quoted,
    quoted_table,
};
use wetbank_core::Asked;

use crate::ErrandError;

async fn open(file: &str, read_only: bool) -> Result<SqliteConnection, ErrandError> {
    if !Path::new(file).exists() {
        return Err(ErrandError::Refused(format!(
            "there is no file {file}; a database is never made by loading into it"
        )));
    }
    SqliteConnectOptions::new()
        .filename(file)
        .create_if_missing(false)
        .read_only(read_only)
        .busy_timeout(BUSY)
        .disable_statement_logging()
        .connect()
        .await
        .map_err(|error| judged(&error, file))
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
    let mut connection = open(file, true).await?;
    let count: i64 = sqlx::query_scalar("SELECT count(*) FROM sqlite_schema WHERE type = 'table' AND name <> ?1")
        .bind(MARKS)
        .fetch_one(&mut connection)
        .await
        .map_err(|error| judged(&error, file))?;
    Ok(if count == 1 { "1 table".to_owned() } else { format!("{count} tables") })
}

async fn columns(connection: &mut SqliteConnection, table: &str) -> Result<Vec<Column>, ErrandError> {
    let rows = sqlx::query("SELECT name, type, \"notnull\", pk FROM pragma_table_info(?1)")
        .bind(table)
        .fetch_all(connection)
        .await
        .map_err(|error| judged(&error, table))?;
    let column = |row: &SqliteRow| {
        let (name, declared): (String, String) = (row.try_get(0)?, row.try_get(1)?);
        let (strict, key): (bool, i64) = (row.try_get(2)?, row.try_get(3)?);
        Ok(Column { name, kind: Kind::of(&declared), may_be_empty: !strict || key > 0 })
    };
    let columns: Result<Vec<Column>, sqlx::Error> = rows.iter().map(column).collect();
    let columns = columns.map_err(|error| judged(&error, table))?;
    if columns.is_empty() {
        return Err(ErrandError::Wrong(format!("there is no table \"{table}\"")));
    }
    Ok(columns)
}

pub(super) async fn load(
    file: &str,
    loading: Loading,
    input: impl Read + Send + 'static,
) -> Result<Loaded, ErrandError> {
    let mut connection = open(file, false).await?;
    let failed = |error: sqlx::Error| judged(&error, &loading.table);
    let table = columns(&mut connection, &loading.table).await?;
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
    let failed = |error: sqlx::Error| judged(&error, &loading.table);
    let make = format!("CREATE TABLE IF NOT EXISTS {MARKS} (load TEXT PRIMARY KEY, at TEXT NOT NULL)");
    connection.execute(AssertSqlSafe(make)).await.map_err(failed)?;
    let mark = format!("INSERT INTO {MARKS} (load, at) VALUES (?1, datetime('now')) ON CONFLICT DO NOTHING");
    let marked = sqlx::query(AssertSqlSafe(mark)).bind(&loading.key).execute(&mut *connection).await.map_err(failed)?;
    if marked.rows_affected() == 0 {
        return Ok(Loaded { before: true, ..Loaded::default() });
    }
    let name = quoted_table(&loading.table);
    if loading.replace {
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
    if rest.bad > 0 && !loading.leave_out {
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

/// Bytes of rows that are asked for at once.
const PAGE: u64 = 256 << 10;
/// Rows that are asked for at once, at most and at first.
const MOST_ROWS: u64 = 4_000;
const FIRST_ROWS: u64 = 16;
/// Where a query's rows lie while they are written down, visible to this connection alone.
const FOUND: &str = "wetbank_found";
/// Values one call of a function takes.
const TOGETHER: usize = 100;

/// The database hands over many rows as one text: a row handed over by itself costs several times as much as
/// all that is done with it.
pub(super) async fn extract(file: &str, extracting: Extracting, output: impl Write + Send) -> Result<u64, ErrandError> {
    let filled = names::fill(&extracting.asked.query(), &extracting.values, |number, _| format!("?{number}"))?;
    let mut connection = open(file, true).await?;
    let failed = |error: sqlx::Error| judged(&error, file);
    let described = connection.prepare(AssertSqlSafe(filled.query.clone()).into_sql_str()).await.map_err(failed)?;
    let heads: Vec<String> =
        sqlx::Statement::columns(&described).iter().map(|column| column.name().to_owned()).collect();
    drop(described);
    if heads.is_empty() {
        return Err(ErrandError::Wrong("the query finds no columns; it must be a SELECT".to_owned()));
    }
    let mut writer =
        csv::WriterBuilder::new().delimiter(extracting.separator).buffer_capacity(256 << 10).from_writer(output);
    writer.write_record(&heads).map_err(unwritten)?;
    let mut pages = Pages::of(connection, &extracting.asked, &filled, &heads).await.map_err(failed)?;
    let mut page = pages.from(i64::MIN, FIRST_ROWS).await.map_err(failed)?;
    let mut count = 0;
    while let Some(last) = page.last {
        count += page.rows;
        // As many as fill a page: a row may hold a whole book.
        let each = (page.texts.iter().map(String::len).sum::<usize>() as u64 / page.rows.max(1)).max(1);
        let next = pages.from(last.saturating_add(1), (PAGE / each).clamp(1, MOST_ROWS));
        // The next page is gathered while this one is written.
        let (next, written) = join(next, async { write(&page, &mut writer) }).await;
        written?;
        page = next.map_err(failed)?;
        if last == i64::MAX {
            break;
        }
    }
    writer.flush()?;
    pages.close().await;
    Ok(count)
}

struct Page {
    /// Side by side, at most [`TOGETHER`] columns in each: an array of rows, each of which is an array of values.
    texts: Vec<String>,
    rows: u64,
    /// The number of the last row, if there is one.
    last: Option<i64>,
}

/// The rows that are asked for, by pages, all as of one moment.
struct Pages {
    connection: SqliteConnection,
    statement: String,
}

impl Pages {
    /// A table's rows have numbers already; what a query finds is first kept in a list.
    async fn of(
        mut connection: SqliteConnection,
        asked: &Asked,
        filled: &Filled,
        heads: &[String],
    ) -> Result<Self, sqlx::Error> {
        if let Asked::Table(table) = asked {
            let (schema, table) = table.split_once('.').unwrap_or(("main", table));
            let numbered = "SELECT count(*) FROM pragma_table_list WHERE schema = ?1 COLLATE NOCASE \
                            AND name = ?2 COLLATE NOCASE AND type = 'table' AND wr = 0";
            let numbered: i64 =
                sqlx::query_scalar(numbered).bind(schema).bind(table).fetch_one(&mut connection).await?;
            if let Some(number) = free(heads).filter(|_| numbered > 0) {
                connection.execute("BEGIN").await?;
                let source = format!("{}.{}", quoted(schema), quoted(table));
                return Ok(Self::over(connection, &source, number, heads));
            }
        }
        let mut query = sqlx::query(AssertSqlSafe(format!("CREATE TEMP TABLE {FOUND} AS {}", filled.query)));
        for value in &filled.values {
            query = query.bind(value);
        }
        query.execute(&mut connection).await?;
        // Two columns of one name have two in the list.
        let names: Vec<String> = sqlx::query_scalar("SELECT name FROM pragma_table_info(?1, 'temp')")
            .bind(FOUND)
            .fetch_all(&mut connection)
            .await?;
        let number = free(&names).ok_or_else(|| {
            let words = "columns named rowid, oid and _rowid_ leave no name for a row's number; rename one with AS";
            sqlx::Error::Protocol(words.to_owned())
        })?;
        Ok(Self::over(connection, &format!("temp.{FOUND}"), number, &names))
    }

    fn over(connection: SqliteConnection, source: &str, number: &str, names: &[String]) -> Self {
        let columns: Vec<String> = names.iter().map(|name| quoted(name)).collect();
        // Bytes have no form in JSON, and some would be taken for JSON in its binary form. They are what
        // comes after all else.
        let shown = |column: &String| format!("CASE WHEN {column} >= x'' THEN lower(hex({column})) ELSE {column} END");
        let parts = columns.chunks(TOGETHER).map(|part| {
            let part: Vec<String> = part.iter().map(shown).collect();
            format!("json_group_array(json_array({}))", part.join(","))
        });
        let parts = parts.collect::<Vec<_>>().join(",");
        let statement = format!(
            "SELECT count(*), max({number}), {parts} FROM {source} \
             WHERE {number} >= ?1 AND {number} <= coalesce((SELECT {number} FROM {source} WHERE {number} >= ?1 \
             ORDER BY {number} LIMIT 1 OFFSET ?2 - 1), {})",
            i64::MAX
        );
        Self { connection, statement }
    }

    async fn from(&mut self, row: i64, most: u64) -> Result<Page, sqlx::Error> {
        let found = sqlx::query(AssertSqlSafe(self.statement.as_str()))
            .bind(row)
            .bind(most.cast_signed())
            .fetch_one(&mut self.connection)
            .await?;
        let rows: i64 = found.try_get(0)?;
        let texts: Result<_, sqlx::Error> = (2..found.len()).map(|part| found.try_get(part)).collect();
        Ok(Page { texts: texts?, rows: rows.unsigned_abs(), last: found.try_get(1)? })
    }

    async fn close(self) {
        let _ = self.connection.close().await;
    }
}

/// A name by which a row's number can be asked for, as no column has it.
fn free(names: &[String]) -> Option<&'static str> {
    ["rowid", "oid", "_rowid_"].into_iter().find(|word| !names.iter().any(|name| name.eq_ignore_ascii_case(word)))
}

fn unwritten(error: csv::Error) -> ErrandError {
    ErrandError::Io(std::io::Error::other(error))
}

/// Writes a page's rows as lines (RFC 4180): numbers as the database writes them, nothing as nothing.
fn write(page: &Page, writer: &mut csv::Writer<impl Write>) -> Result<(), ErrandError> {
    let strange = |error: serde_json::Error| ErrandError::Wrong(format!("the database's answer is unclear: {error}"));
    let parts: Vec<Vec<Vec<&RawValue>>> =
        page.texts.iter().map(|text| serde_json::from_str(text)).collect::<Result<_, _>>().map_err(strange)?;
    for row in 0..parts[0].len() {
        for value in parts.iter().flat_map(|part| &part[row]) {
            let text: Cow<'_, str> = match value.get() {
                "null" => Cow::Borrowed(""),
                // JSON has no infinity; the database writes what no number reaches.
                "9.0e+999" => Cow::Borrowed("Inf"),
                "-9.0e+999" => Cow::Borrowed("-Inf"),
                plain if plain.starts_with('"') && !plain.contains('\\') => {
                    Cow::Borrowed(plain.trim_start_matches('"').trim_end_matches('"'))
                }
                text if text.starts_with('"') => Cow::Owned(serde_json::from_str(text).map_err(strange)?),
                number => Cow::Borrowed(number),
            };
            writer.write_field(text.as_bytes()).map_err(unwritten)?;
        }
        writer.write_record(None::<&[u8]>).map_err(unwritten)?;
    }
    Ok(())
}
