//! PostgreSQL servers.

use std::io::{Read, Write};

use futures_util::TryStreamExt;
use secrecy::{ExposeSecret, SecretString};
use sqlx::{
    AssertSqlSafe, ConnectOptions, Connection, Executor, PgConnection, Row,
    postgres::{PgConnectOptions, PgDatabaseError, PgSslMode},
};
use tokio::time::timeout;
use wetbank_core::PostgresSpec;

use super::{
    CONNECT, Cell, Column, Extracting, Kind, Loaded, Loading, MARKS, Reading, judged, names, quoted, quoted_table,
    sqlite,
};
use crate::ErrandError;

/// Bytes that are sent together.
const CHUNK: usize = 256 << 10;

async fn open(spec: &PostgresSpec, password: Option<&SecretString>) -> Result<PgConnection, ErrandError> {
    let address = format!("{}:{}", spec.host, spec.port);
    let mode = if spec.secured { PgSslMode::VerifyFull } else { PgSslMode::Disable };
    let mut options = PgConnectOptions::new_without_pgpass()
        .host(&spec.host)
        .port(spec.port)
        .username(&spec.user)
        .database(&spec.database)
        .ssl_mode(mode)
        .application_name("wetbank")
        .disable_statement_logging();
    if let Some(password) = password {
        options = options.password(password.expose_secret());
    }
    timeout(CONNECT, options.connect())
        .await
        .map_err(|_| ErrandError::Away(format!("{address} did not answer within {} s", CONNECT.as_secs())))?
        .map_err(|error| match &error {
            sqlx::Error::Tls(why) => ErrandError::Refused(format!("{address} cannot be trusted: {why}")),
            error => judged(error, &address),
        })
}

pub(super) async fn reach(spec: &PostgresSpec, password: Option<&SecretString>) -> Result<String, ErrandError> {
    let mut connection = open(spec, password).await?;
    let count: i64 = sqlx::query_scalar(
        "SELECT count(*) FROM information_schema.tables WHERE table_schema NOT IN ('pg_catalog', 'information_schema')",
    )
    .fetch_one(&mut connection)
    .await
    .map_err(|error| judged(&error, &spec.database))?;
    let _ = connection.close().await;
    Ok(if count == 1 { "signed in, 1 table".to_owned() } else { format!("signed in, {count} tables") })
}

async fn columns(connection: &mut PgConnection, table: &str) -> Result<Vec<Column>, ErrandError> {
    let rows = sqlx::query(
        "SELECT a.attname::text, format_type(a.atttypid, NULL)::text, a.attnotnull AND NOT a.atthasdef, \
         a.atthasdef OR a.attidentity <> '' \
         FROM pg_attribute a WHERE a.attrelid = to_regclass($1) AND a.attnum > 0 AND NOT a.attisdropped \
         AND a.attgenerated = '' ORDER BY a.attnum",
    )
    .bind(quoted_table(table))
    .fetch_all(connection)
    .await
    .map_err(|error| judged(&error, table))?;
    let column = |row: &sqlx::postgres::PgRow| {
        let (name, declared, strict): (String, String, bool) = (row.try_get(0)?, row.try_get(1)?, row.try_get(2)?);
        let fills_itself = row.try_get(3)?;
        Ok(Column { name, kind: Kind::of(&declared), may_be_empty: !strict, fills_itself, makes_numbers: false })
    };
    let columns: Result<Vec<Column>, sqlx::Error> = rows.iter().map(column).collect();
    let columns = columns.map_err(|error| judged(&error, table))?;
    if columns.is_empty() {
        return Err(ErrandError::Wrong(format!("there is no table \"{table}\" that this user can see")));
    }
    Ok(columns)
}

pub(super) async fn load(
    spec: &PostgresSpec,
    password: Option<&SecretString>,
    loading: Loading,
    input: impl Read + Send + 'static,
) -> Result<Loaded, ErrandError> {
    let mut connection = open(spec, password).await?;
    let failed = |error: sqlx::Error| told(&error, &loading.said.table);
    let table = columns(&mut connection, &loading.said.table).await?;
    // Unless it is committed, what follows never was.
    let mut transaction = connection.begin().await.map_err(failed)?;
    let make =
        format!("CREATE TABLE IF NOT EXISTS {MARKS} (load text PRIMARY KEY, at timestamptz NOT NULL DEFAULT now())");
    transaction.execute(AssertSqlSafe(make)).await.map_err(failed)?;
    let mark = format!("INSERT INTO {MARKS} (load) VALUES ($1) ON CONFLICT DO NOTHING");
    let marked =
        sqlx::query(AssertSqlSafe(mark)).bind(&loading.key).execute(&mut *transaction).await.map_err(failed)?;
    if marked.rows_affected() == 0 {
        return Ok(Loaded { before: true, ..Loaded::default() });
    }
    let name = quoted_table(&loading.said.table);
    if loading.said.replace {
        transaction.execute(AssertSqlSafe(format!("DELETE FROM {name}"))).await.map_err(failed)?;
    }
    let mut reading = Reading::begin(input, &loading, table).await?;
    let names: Vec<String> = reading.columns.iter().map(|column| quoted(&column.name)).collect();
    let statement = format!("COPY {name} ({}) FROM STDIN", names.join(", "));
    let mut copying = transaction.copy_in_raw(&statement).await.map_err(failed)?;
    let width = reading.columns.len();
    let mut lines = Vec::with_capacity(2 * CHUNK);
    while let Some(batch) = reading.batches.recv().await {
        for row in batch.chunks(width) {
            line(&mut lines, row);
        }
        if lines.len() >= CHUNK {
            copying.send(std::mem::take(&mut lines)).await.map_err(failed)?;
        }
    }
    if !lines.is_empty() {
        copying.send(lines).await.map_err(failed)?;
    }
    copying.finish().await.map_err(failed)?;
    let loaded = sqlite::finish(reading, &loading).await?;
    transaction.commit().await.map_err(failed)?;
    let _ = connection.close().await;
    Ok(loaded)
}

/// A row in the text form of COPY.
fn line(lines: &mut Vec<u8>, row: &[Cell]) {
    for (at, cell) in row.iter().enumerate() {
        if at > 0 {
            lines.push(b'\t');
        }
        match cell {
            Cell::Nothing => lines.extend_from_slice(b"\\N"),
            Cell::Integer(number) => lines.extend_from_slice(number.to_string().as_bytes()),
            Cell::Real(number) => lines.extend_from_slice(number.to_string().as_bytes()),
            Cell::Text(text) => {
                for byte in text.bytes() {
                    match byte {
                        b'\\' => lines.extend_from_slice(b"\\\\"),
                        b'\n' => lines.extend_from_slice(b"\\n"),
                        b'\r' => lines.extend_from_slice(b"\\r"),
                        b'\t' => lines.extend_from_slice(b"\\t"),
                        byte => lines.push(byte),
                    }
                }
            }
        }
    }
    lines.push(b'\n');
}

/// A failure with the line that the server names, counted without the head.
fn told(error: &sqlx::Error, what: &str) -> ErrandError {
    let place = match error {
        sqlx::Error::Database(inner) => inner.try_downcast_ref::<PgDatabaseError>().and_then(PgDatabaseError::r#where),
        _ => None,
    };
    match (judged(error, what), place) {
        (ErrandError::Wrong(words), Some(place)) => ErrandError::Wrong(format!("{words} ({})", place.trim())),
        (judged, _) => judged,
    }
}

pub(super) async fn extract(
    spec: &PostgresSpec,
    password: Option<&SecretString>,
    extracting: Extracting,
    mut output: impl Write + Send,
) -> Result<u64, ErrandError> {
    // COPY takes no parameters, so values are written as texts; the setting below makes a quote the
    // only letter that means anything in them.
    let literal = |_: usize, text: &str| format!("'{}'", text.replace('\0', "").replace('\'', "''"));
    let filled = names::fill(&extracting.asked.query(), &extracting.values, literal)?;
    let mut connection = open(spec, password).await?;
    let failed = |error: sqlx::Error| told(&error, &spec.database);
    let mut transaction = connection.begin().await.map_err(failed)?;
    transaction.execute("SET TRANSACTION READ ONLY").await.map_err(failed)?;
    transaction.execute("SET LOCAL standard_conforming_strings = on").await.map_err(failed)?;
    let separator = match extracting.separator {
        b'\'' => "''".to_owned(),
        other => char::from(other).to_string(),
    };
    let statement = format!("COPY ({}) TO STDOUT (FORMAT csv, HEADER, DELIMITER '{separator}')", filled.query);
    let mut rows = transaction.copy_out_raw(&statement).await.map_err(failed)?;
    // The server sends a row at a time, the head first.
    let mut count = 0u64;
    let mut waiting = Vec::with_capacity(2 * CHUNK);
    while let Some(chunk) = rows.try_next().await.map_err(failed)? {
        waiting.extend_from_slice(&chunk);
        count += 1;
        if waiting.len() >= CHUNK {
            output.write_all(&waiting)?;
            waiting.clear();
        }
    }
    output.write_all(&waiting)?;
    output.flush()?;
    Ok(count.saturating_sub(1))
}
