//! Rows of a file of SQLite, by pages.
//!
//! The database hands over many rows as one text, in JSON: a row handed over by itself costs several times as
//! much as all that is done with it.

use std::{borrow::Cow, io::Write, mem::take, sync::Arc, time::Duration};

use futures_util::future::{join, join_all};
use serde_json::value::RawValue;
use sqlx::{AssertSqlSafe, Column as _, Connection, Executor, Row, SqlSafeStr, SqliteConnection};
use wetbank_core::Asked;

use super::{
    BUSY, Extracting, judged,
    names::{self, Filled},
    quoted,
    sqlite::open,
};
use crate::ErrandError;

/// Bytes of rows that are asked for at once.
const PAGE: u64 = 256 << 10;
/// Rows that are asked for at once, at most and at first.
const MOST_ROWS: u64 = 4_000;
const FIRST_ROWS: u64 = 16;
/// Where a query's rows lie while they are written down, visible to this connection alone.
const FOUND: &str = "wetbank_found";
/// How often two connections are tried to be brought to one moment.
const TWINS: usize = 5;
/// Values one call of a function takes.
const TOGETHER: usize = 100;

/// Writes what is asked for. Answers how many rows.
pub(super) async fn extract(
    file: &str,
    extracting: Extracting,
    mut output: impl Write + Send,
) -> Result<u64, ErrandError> {
    let filled = names::fill(&extracting.asked.query(), &extracting.values, |number, _| format!("?{number}"))?;
    let mut connection = open(file, true, BUSY).await?;
    let failed = |error: sqlx::Error| judged(&error, file);
    let described = connection.prepare(AssertSqlSafe(filled.query.clone()).into_sql_str()).await.map_err(failed)?;
    let heads: Vec<String> =
        sqlx::Statement::columns(&described).iter().map(|column| column.name().to_owned()).collect();
    drop(described);
    if heads.is_empty() {
        return Err(ErrandError::Wrong("the query finds no columns; it must be a SELECT".to_owned()));
    }
    let mut head = lines(extracting.separator, 0);
    head.write_record(&heads).map_err(unwritten)?;
    output.write_all(&text_of(head)?)?;
    let mut pages = Pages::of(connection, file, &extracting, &filled, &heads).await.map_err(failed)?;
    let mut count = 0;
    let mut waiting = pages.next(FIRST_ROWS).await?;
    while !waiting.is_empty() {
        let rows: u64 = waiting.iter().map(|page| page.rows).sum();
        let bytes: usize = waiting.iter().map(|page| page.text.len()).sum();
        // As many as fill a page: a row may hold a whole book.
        let most = (PAGE * rows / (bytes as u64).max(1)).clamp(1, MOST_ROWS);
        // The next pages are gathered while these are written.
        let write = async { waiting.iter().try_for_each(|page| output.write_all(&page.text)) };
        let (next, written) = join(pages.next(most), write).await;
        written?;
        count += rows;
        waiting = next?;
    }
    output.flush()?;
    Ok(count)
}

/// Rows that follow each other, as lines.
struct Page {
    text: Vec<u8>,
    rows: u64,
    /// The number of the last row, unless no more come.
    last: Option<i64>,
}

/// The rows that are asked for, all as of one moment.
struct Pages {
    /// Each gathers a page while the others do.
    connections: Vec<SqliteConnection>,
    file: Arc<str>,
    statement: Arc<str>,
    separator: u8,
    /// The number from which the next rows are counted, unless all are gathered.
    start: Option<i64>,
}

impl Pages {
    /// A table's rows have numbers already; what a query finds is first kept in a list.
    async fn of(
        mut connection: SqliteConnection,
        file: &str,
        extracting: &Extracting,
        filled: &Filled,
        heads: &[String],
    ) -> Result<Self, sqlx::Error> {
        let over = |connections, source: &str, number, names: &[String]| Self {
            connections,
            file: file.into(),
            statement: statement(source, number, names).into(),
            separator: extracting.separator,
            start: Some(i64::MIN),
        };
        if let Asked::Table(table) = &extracting.asked {
            let (schema, table) = table.split_once('.').unwrap_or(("main", table));
            let numbered = "SELECT count(*) FROM pragma_table_list WHERE schema = ?1 COLLATE NOCASE \
                            AND name = ?2 COLLATE NOCASE AND type = 'table' AND wr = 0";
            let numbered: i64 =
                sqlx::query_scalar(numbered).bind(schema).bind(table).fetch_one(&mut connection).await?;
            if let Some(number) = free(heads).filter(|_| numbered > 0) {
                let source = format!("{}.{}", quoted(schema), quoted(table));
                return Ok(over(at_one_moment(connection, file).await?, &source, number, heads));
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
        Ok(over(vec![connection], &format!("temp.{FOUND}"), number, &names))
    }

    /// The pages that come next, each of so many rows but for the last; none behind that.
    async fn next(&mut self, rows: u64) -> Result<Vec<Page>, ErrandError> {
        let Some(start) = self.start else { return Ok(Vec::new()) };
        let each = (0..).zip(take(&mut self.connections)).map(|(before, mut connection)| {
            let (file, statement, separator) = (self.file.clone(), self.statement.clone(), self.separator);
            tokio::spawn(async move {
                let asked = Asking { start, skip: before * rows, rows };
                let page = page(&mut connection, &file, &statement, asked, separator).await;
                (connection, page)
            })
        });
        let mut pages = Vec::new();
        for done in join_all(each).await {
            let (connection, page) = done.map_err(|error| ErrandError::Io(std::io::Error::other(error)))?;
            self.connections.push(connection);
            pages.push(page?);
        }
        self.start = pages.last().and_then(|page| page.last?.checked_add(1));
        Ok(pages)
    }
}

/// Asks for a page: from the row of number `?1` on, without the first `?2`, `?3` rows.
fn statement(source: &str, number: &str, names: &[String]) -> String {
    // Bytes have no form in JSON, and some would be taken for JSON in its binary form. They are what
    // comes after all else.
    let shown = |name: &String| {
        let column = quoted(name);
        format!("CASE WHEN {column} >= x'' THEN lower(hex({column})) ELSE {column} END")
    };
    let parts = names.chunks(TOGETHER).map(|part| {
        let part: Vec<String> = part.iter().map(shown).collect();
        format!("json_group_array(json_array({}))", part.join(","))
    });
    let parts = parts.collect::<Vec<_>>().join(",");
    let rows = format!("SELECT {number} AS at FROM {source} WHERE {number} >= ");
    format!(
        "WITH first AS MATERIALIZED ({rows} ?1 ORDER BY {number} LIMIT 1 OFFSET ?2), \
         last AS MATERIALIZED ({rows} (SELECT at FROM first) ORDER BY {number} LIMIT 1 OFFSET ?3 - 1) \
         SELECT (SELECT at FROM last), {parts} FROM {source} \
         WHERE {number} >= (SELECT at FROM first) AND {number} <= coalesce((SELECT at FROM last), {})",
        i64::MAX
    )
}

struct Asking {
    start: i64,
    skip: u64,
    rows: u64,
}

async fn page(
    connection: &mut SqliteConnection,
    file: &str,
    statement: &str,
    asking: Asking,
    separator: u8,
) -> Result<Page, ErrandError> {
    let failed = |error: sqlx::Error| judged(&error, file);
    let found = sqlx::query(AssertSqlSafe(statement))
        .bind(asking.start)
        .bind(asking.skip.cast_signed())
        .bind(asking.rows.cast_signed())
        .fetch_one(connection)
        .await
        .map_err(failed)?;
    let parts: Result<Vec<&str>, _> = (1..found.len()).map(|part| found.try_get(part)).collect();
    let (rows, text) = written(&parts.map_err(failed)?, separator)?;
    Ok(Page { text, rows, last: found.try_get(0).map_err(failed)? })
}

/// This connection and a second one that sees the database as of the same moment; only this one if others write
/// to it so often that the two never agree.
async fn at_one_moment(mut first: SqliteConnection, file: &str) -> Result<Vec<SqliteConnection>, sqlx::Error> {
    for _ in 0..TWINS {
        // It never waits: a writer that keeps it out may itself wait for the first.
        let Ok(mut twin) = open(file, true, Duration::ZERO).await else { break };
        let before = version(&mut twin).await;
        begin(&mut first).await?;
        let after = match begin(&mut twin).await {
            Ok(()) => version(&mut twin).await,
            Err(error) => Err(error),
        };
        if matches!((&before, &after), (Ok(before), Ok(after)) if before == after) {
            return Ok(vec![first, twin]);
        }
        let _ = twin.close().await;
        first.execute("ROLLBACK").await?;
    }
    begin(&mut first).await?;
    Ok(vec![first])
}

/// A number that changes whenever a connection sees what another one wrote since it looked last.
async fn version(connection: &mut SqliteConnection) -> Result<i64, sqlx::Error> {
    sqlx::query_scalar("PRAGMA data_version").fetch_one(connection).await
}

/// From now on the connection sees the database as it is now.
async fn begin(connection: &mut SqliteConnection) -> Result<(), sqlx::Error> {
    connection.execute("BEGIN").await?;
    // Only the first look fixes the moment.
    connection.execute("SELECT count(*) FROM sqlite_schema").await.map(drop)
}

/// A name by which a row's number can be asked for, as no column has it.
fn free(names: &[String]) -> Option<&'static str> {
    ["rowid", "oid", "_rowid_"].into_iter().find(|word| !names.iter().any(|name| name.eq_ignore_ascii_case(word)))
}

/// Rows as lines (RFC 4180): numbers as the database writes them, nothing as nothing. Each part holds some of
/// the columns, side by side: an array of rows, each of which is an array of values.
fn written(parts: &[&str], separator: u8) -> Result<(u64, Vec<u8>), ErrandError> {
    let mut lines = lines(separator, PAGE as usize);
    let mut parts: Vec<Values<'_>> = parts.iter().map(|text| Values { rest: text }).collect();
    let mut rows = 0;
    while parts[0].begin() {
        rows += 1;
        for (number, part) in parts.iter_mut().enumerate() {
            // The first has begun already.
            if number > 0 {
                part.begin();
            }
            while let Some(value) = part.next()? {
                lines.write_field(value.as_bytes()).map_err(unwritten)?;
            }
        }
        lines.write_record(None::<&[u8]>).map_err(unwritten)?;
    }
    Ok((rows, text_of(lines)?))
}

/// The values of rows in JSON as the database writes it: without a blank, and in arrays only. Reading just this
/// is a good deal quicker than reading any JSON.
struct Values<'t> {
    rest: &'t str,
}

impl<'t> Values<'t> {
    /// Goes to the first value of the next row, if there is one.
    fn begin(&mut self) -> bool {
        // The first row follows the bracket of them all, each other one a comma.
        let row = self.rest.strip_prefix("[[").or_else(|| self.rest.strip_prefix(",["));
        self.rest = row.unwrap_or_default();
        row.is_some()
    }

    /// The next value of the row as a line shows it; nothing at its end.
    fn next(&mut self) -> Result<Option<Cow<'t, str>>, ErrandError> {
        if let Some(rest) = self.rest.strip_prefix(']') {
            self.rest = rest;
            return Ok(None);
        }
        let text = self.rest.strip_prefix(',').unwrap_or(self.rest);
        let (value, end) = match text.as_bytes().first() {
            Some(b'"') => string(text)?,
            // A column that is reckoned may be JSON, which then stands there as it is.
            Some(b'[' | b'{') => {
                let mut values = serde_json::Deserializer::from_str(text).into_iter::<&RawValue>();
                let value = values.next().ok_or_else(|| strange("it breaks off"))?.map_err(strange)?;
                (Cow::Borrowed(value.get()), values.byte_offset())
            }
            _ => {
                let end = memchr::memchr2(b',', b']', text.as_bytes()).ok_or_else(|| strange("it breaks off"))?;
                let value = match &text[..end] {
                    "null" => "",
                    // JSON has no infinity; the database writes what no number reaches.
                    "9.0e+999" => "Inf",
                    "-9.0e+999" => "-Inf",
                    number => number,
                };
                (Cow::Borrowed(value), end)
            }
        };
        self.rest = &text[end..];
        Ok(Some(value))
    }
}

/// The string at the beginning of a text, and where it ends.
fn string(text: &str) -> Result<(Cow<'_, str>, usize), ErrandError> {
    let mark = |from: usize| {
        let rest = text.as_bytes().get(from..)?;
        memchr::memchr2(b'"', b'\\', rest).map(|at| from + at)
    };
    let broken = || strange("a text breaks off");
    let mut end = mark(1).ok_or_else(broken)?;
    if text.as_bytes()[end] == b'"' {
        return Ok((Cow::Borrowed(&text[1..end]), end + 1));
    }
    while text.as_bytes()[end] == b'\\' {
        // Whatever follows it belongs to it.
        end = mark(end + 2).ok_or_else(broken)?;
    }
    Ok((Cow::Owned(serde_json::from_str(&text[..=end]).map_err(strange)?), end + 1))
}

fn lines(separator: u8, room: usize) -> csv::Writer<Vec<u8>> {
    csv::WriterBuilder::new().delimiter(separator).from_writer(Vec::with_capacity(room))
}

fn text_of(lines: csv::Writer<Vec<u8>>) -> Result<Vec<u8>, ErrandError> {
    lines.into_inner().map_err(|error| ErrandError::Io(error.into_error()))
}

fn unwritten(error: csv::Error) -> ErrandError {
    ErrandError::Io(std::io::Error::other(error))
}

fn strange(error: impl std::fmt::Display) -> ErrandError {
    ErrandError::Wrong(format!("the database's answer is unclear: {error}"))
}
