//! Rows of a file, each value as its column takes it.

use std::io::{self, BufReader, Read};

use encoding_rs::{Decoder, Encoding};
use jiff::civil::{Date, DateTime};
use tokio::sync::mpsc;

use wetbank_core::{Numbers, Twice};

use super::Loading;
use crate::ErrandError;

/// Values that travel together: as many as one statement takes.
const TOGETHER: usize = 4_000;
/// Batches that may wait.
const WAITING: usize = 4;
/// So many digits of a number with a fraction a database keeps that makes one of a text.
const KEPT_DIGITS: usize = 15;
/// Rows that are named.
const NAMED: usize = 20;

/// What a column takes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Kind {
    Integer,
    Real,
    /// A number of any length, kept as it is written.
    Number,
    Boolean,
    Date,
    Time,
    Text,
}

/// A column of the table.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct Column {
    pub name: String,
    pub kind: Kind,
    pub may_be_empty: bool,
    /// The database has a value of its own where none is given.
    pub fills_itself: bool,
    /// The database makes numbers of texts that look like some.
    pub makes_numbers: bool,
}

impl Column {
    /// What the database would keep instead of this text, if it makes another number of it.
    fn altered(&self, cell: &Cell) -> Option<String> {
        let Cell::Text(text) = cell else { return None };
        if !self.makes_numbers {
            return None;
        }
        let trimmed = text.trim();
        let kept = match (trimmed.parse::<i64>(), trimmed.parse::<f64>()) {
            (Ok(whole), _) => whole.to_string(),
            (_, Ok(number)) if number.is_finite() => number.to_string(),
            _ => return None,
        };
        // Of a number its value counts, of a text each sign.
        let is_same = match self.kind {
            Kind::Number => trimmed.parse::<i64>().is_ok() || digits(trimmed) <= KEPT_DIGITS,
            _ => kept == *text,
        };
        (!is_same).then_some(kept)
    }
}

/// How many digits of a number count, without an exponent's.
fn digits(number: &str) -> usize {
    let number = number.split(['e', 'E']).next().unwrap_or_default();
    let digits: String = number.chars().filter(char::is_ascii_digit).collect();
    digits.trim_matches('0').len()
}

impl Kind {
    /// What a declared type takes, by the words that all databases have in common.
    pub fn of(declared: &str) -> Self {
        let declared = declared.to_ascii_lowercase();
        let has = |words: &[&str]| words.iter().any(|word| declared.contains(word));
        if has(&["bool"]) {
            Self::Boolean
        } else if has(&["interval", "point"]) {
            Self::Text
        } else if has(&["int", "serial"]) {
            Self::Integer
        } else if has(&["real", "floa", "doub"]) {
            Self::Real
        } else if has(&["numeric", "decimal"]) {
            Self::Number
        } else if has(&["timestamp", "datetime"]) {
            Self::Time
        } else if declared == "date" {
            Self::Date
        } else {
            Self::Text
        }
    }

    fn words(self) -> &'static str {
        match self {
            Self::Integer => "a whole number",
            Self::Real | Self::Number => "a number",
            Self::Boolean => "true or false",
            Self::Date => "a date such as 2026-03-14",
            Self::Time => "a time such as 2026-03-14 06:00:00",
            Self::Text => "a text",
        }
    }

    /// The value of a text in which numbers may be written otherwise.
    fn read_as(self, text: &str, numbers: Numbers) -> Option<Cell> {
        let is_number = matches!(self, Self::Integer | Self::Real | Self::Number);
        if !is_number || numbers == Numbers::default() {
            return self.read(text);
        }
        // A point means nothing where a comma stands before the fraction.
        if numbers.decimal != '.' && numbers.thousands != Some('.') && text.contains('.') {
            return None;
        }
        let plain = text.chars().filter(|sign| Some(*sign) != numbers.thousands);
        let plain: String = plain.map(|sign| if sign == numbers.decimal { '.' } else { sign }).collect();
        self.read(&plain)
    }

    /// The value of a text that is not empty.
    fn read(self, text: &str) -> Option<Cell> {
        let trimmed = text.trim();
        match self {
            Self::Integer => trimmed.parse().ok().map(Cell::Integer),
            Self::Real => trimmed.parse::<f64>().ok().filter(|value| value.is_finite()).map(Cell::Real),
            Self::Number => {
                let is_number = trimmed.parse::<f64>().is_ok_and(f64::is_finite)
                    && trimmed.bytes().all(|b| b.is_ascii_digit() || b"+-.eE".contains(&b));
                is_number.then(|| Cell::Text(trimmed.to_owned()))
            }
            Self::Boolean => match trimmed.to_ascii_lowercase().as_str() {
                "1" | "true" | "t" | "yes" | "y" => Some(Cell::Integer(1)),
                "0" | "false" | "f" | "no" | "n" => Some(Cell::Integer(0)),
                _ => None,
            },
            Self::Date => trimmed.parse::<Date>().ok().map(|_| Cell::Text(trimmed.to_owned())),
            Self::Time => {
                let is_time = trimmed.parse::<DateTime>().is_ok() || trimmed.parse::<jiff::Timestamp>().is_ok();
                is_time.then(|| Cell::Text(trimmed.to_owned()))
            }
            // A server may refuse it, and its words would not name the line.
            Self::Text => (!text.contains('\0')).then(|| Cell::Text(text.to_owned())),
        }
    }
}

/// A value.
#[derive(Debug, Clone, PartialEq)]
pub(crate) enum Cell {
    Nothing,
    Integer(i64),
    Real(f64),
    Text(String),
}

/// Values of whole rows, one after the other.
pub(crate) type Batch = Vec<Cell>;

/// What a reader found out at the end.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(crate) struct Rest {
    pub rows: u64,
    pub bad: u64,
    pub named: Vec<String>,
}

/// A file that is being read.
pub(crate) struct Reading {
    /// The columns that are filled, in the order of each row's values.
    pub columns: Vec<Column>,
    pub batches: mpsc::Receiver<Batch>,
    pub rest: tokio::task::JoinHandle<Result<Rest, ErrandError>>,
}

impl Reading {
    /// Rows in one batch, but for the last.
    pub fn rows_together(&self) -> usize {
        rows_together(self.columns.len())
    }

    /// Reads the head of a file and fits it to the table, then begins to read its rows.
    pub async fn begin(
        input: impl Read + Send + 'static,
        loading: &Loading,
        table: Vec<Column>,
    ) -> Result<Self, ErrandError> {
        let (sender, batches) = mpsc::channel(WAITING);
        let (told, columns) = tokio::sync::oneshot::channel();
        let loading = loading.clone();
        let rest = tokio::task::spawn_blocking(move || {
            let text = Decoded::new(input, &loading.said.encoding)?;
            let mut reader = csv::ReaderBuilder::new()
                .delimiter(loading.said.separator)
                .flexible(true)
                .from_reader(BufReader::with_capacity(256 << 10, text));
            let fitted = head(&mut reader, &loading, &table)?;
            let columns: Vec<Column> = fitted.iter().map(|(_, column)| column.clone()).collect();
            if told.send(columns).is_err() {
                return Ok(Rest::default());
            }
            rows(&mut reader, &fitted, loading.said.numbers, &sender)
        });
        match columns.await {
            Ok(columns) => Ok(Self { columns, batches, rest }),
            Err(_) => Err(rest
                .await
                .map_err(|e| ErrandError::Io(io::Error::other(e)))?
                .err()
                .unwrap_or_else(|| ErrandError::Wrong("the file cannot be read".to_owned()))),
        }
    }
}

fn rows_together(columns: usize) -> usize {
    (TOGETHER / columns.max(1)).max(1)
}

fn failed(error: csv::Error) -> ErrandError {
    match error.into_kind() {
        csv::ErrorKind::Io(error) if error.kind() == io::ErrorKind::InvalidData => {
            ErrandError::Wrong(error.to_string())
        }
        csv::ErrorKind::Io(error) => ErrandError::Io(error),
        csv::ErrorKind::Utf8 { pos, err } => {
            let line = pos.map_or(1, |pos| pos.line());
            ErrandError::Wrong(format!(
                "line {line} is not written in UTF-8 ({err}); say encoding = \"windows-1252\", or what it is"
            ))
        }
        kind => ErrandError::Wrong(format!("{kind:?}")),
    }
}

/// Which header fills which column.
fn head<R: Read>(
    reader: &mut csv::Reader<R>,
    loading: &Loading,
    table: &[Column],
) -> Result<Vec<(usize, Column)>, ErrandError> {
    let headers: Vec<String> = reader
        .headers()
        .map_err(failed)?
        .iter()
        .map(|header| header.trim_start_matches('\u{feff}').trim().to_owned())
        .collect();
    if headers.iter().all(String::is_empty) {
        return Err(ErrandError::Wrong("the file has no head line with the names of its columns".to_owned()));
    }
    let listed = |names: &[String]| names.join(", ");
    let column = |name: &str| {
        table.iter().find(|column| column.name.eq_ignore_ascii_case(name)).cloned().ok_or_else(|| {
            let known: Vec<String> = table.iter().map(|column| column.name.clone()).collect();
            ErrandError::Wrong(format!(
                "the table {} has no column \"{name}\"; it has {}",
                loading.said.table,
                listed(&known)
            ))
        })
    };
    // The place of a header, if only one has it or the rule says which of two counts.
    let place = |wanted: &str| {
        // Columns of the table have no case, headers that the book names do.
        let is_wanted = |one: &str| match loading.said.columns.is_empty() {
            true => one.eq_ignore_ascii_case(wanted),
            false => one == wanted,
        };
        let mut at = headers.iter().enumerate().filter(|(_, one)| is_wanted(one)).map(|(at, _)| at);
        let (first, last) = (at.next(), at.next_back());
        match (loading.said.twice, last) {
            (Twice::Refuse, Some(_)) => Err(ErrandError::Wrong(format!(
                "the file has the column \"{wanted}\" twice; say which counts with twice = \"first\" or \"last\""
            ))),
            (Twice::Last, Some(last)) => Ok(Some(last)),
            _ => Ok(first),
        }
    };
    if loading.said.columns.is_empty() {
        let mut fitted = Vec::with_capacity(headers.len());
        for (at, header) in headers.iter().enumerate() {
            if place(header)? == Some(at) {
                fitted.push((at, column(header)?));
            }
        }
        let is_missing =
            |column: &&Column| !column.fills_itself && !fitted.iter().any(|(_, one)| one.name == column.name);
        if let Some(missing) = table.iter().find(is_missing).filter(|_| !loading.said.missing_stay_empty) {
            return Err(ErrandError::Wrong(format!(
                "the file has no column \"{}\", and the table {} has one; say missing = \"empty\" if it may stay empty, or columns = {{ … }}",
                missing.name, loading.said.table
            )));
        }
        return Ok(fitted);
    }
    let fit = |(name, header): &(String, String)| {
        let at = place(header.trim())?.ok_or_else(|| {
            ErrandError::Wrong(format!("the file has no column \"{header}\"; it has {}", listed(&headers)))
        })?;
        Ok((at, column(name)?))
    };
    loading.said.columns.iter().map(fit).collect()
}

fn rows<R: Read>(
    reader: &mut csv::Reader<R>,
    fitted: &[(usize, Column)],
    numbers: Numbers,
    sender: &mpsc::Sender<Batch>,
) -> Result<Rest, ErrandError> {
    let width = reader.headers().map_err(failed)?.len();
    let together = rows_together(fitted.len()) * fitted.len();
    let mut rest = Rest::default();
    let mut batch = Batch::with_capacity(together);
    let mut record = csv::StringRecord::new();
    while reader.read_record(&mut record).map_err(failed)? {
        let before = batch.len();
        match row(&record, width, fitted, numbers, &mut batch) {
            Ok(()) => rest.rows += 1,
            Err(why) => {
                batch.truncate(before);
                rest.bad += 1;
                if rest.named.len() < NAMED {
                    let line = record.position().map_or(0, csv::Position::line);
                    rest.named.push(format!("line {line}: {why}"));
                }
            }
        }
        if batch.len() >= together {
            let full = std::mem::replace(&mut batch, Batch::with_capacity(together));
            if sender.blocking_send(full).is_err() {
                return Ok(rest);
            }
        }
    }
    if !batch.is_empty() {
        let _ = sender.blocking_send(batch);
    }
    Ok(rest)
}

fn row(
    record: &csv::StringRecord,
    width: usize,
    fitted: &[(usize, Column)],
    numbers: Numbers,
    batch: &mut Batch,
) -> Result<(), String> {
    if record.len() != width {
        return Err(format!("has {} values, the head has {width}", record.len()));
    }
    for (at, column) in fitted {
        let text = record.get(*at).unwrap_or_default();
        let cell = match (text.is_empty() || (column.kind != Kind::Text && text.trim().is_empty()), column.may_be_empty)
        {
            (true, true) => Cell::Nothing,
            (true, false) if column.kind == Kind::Text => Cell::Text(String::new()),
            (true, false) => return Err(format!("{} is empty", column.name)),
            (false, _) => column.kind.read_as(text, numbers).ok_or_else(|| {
                let shown: String = text.chars().take(40).collect();
                format!("{} is \"{}\", not {}", column.name, shown.escape_debug(), column.kind.words())
            })?,
        };
        if let Some(kept) = column.altered(&cell) {
            let shown: String = text.chars().take(40).collect();
            let to = if column.kind == Kind::Number { "TEXT" } else { "TEXT instead of a type of numbers" };
            return Err(format!(
                "{} is \"{}\", and the database would keep {kept}; give the column the type {to}",
                column.name,
                shown.escape_debug()
            ));
        }
        batch.push(cell);
    }
    Ok(())
}

/// Text in UTF-8 of bytes written otherwise.
struct Decoded<R> {
    input: R,
    decoder: Option<Decoder>,
    name: &'static str,
    raw: Vec<u8>,
    text: Vec<u8>,
    given: usize,
    ended: bool,
}

impl<R: Read> Decoded<R> {
    fn new(input: R, encoding: &str) -> Result<Self, ErrandError> {
        let known = Encoding::for_label(encoding.as_bytes())
            .ok_or_else(|| ErrandError::Wrong(format!("unknown encoding \"{encoding}\"")))?;
        // UTF-8 is checked line by line, so that a message can name the line.
        let decoder = (known != encoding_rs::UTF_8).then(|| known.new_decoder());
        Ok(Self {
            input,
            decoder,
            name: known.name(),
            raw: vec![0; 64 << 10],
            text: Vec::new(),
            given: 0,
            ended: false,
        })
    }
}

impl<R: Read> Read for Decoded<R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        let Some(decoder) = &mut self.decoder else { return self.input.read(buffer) };
        while self.given >= self.text.len() {
            if self.ended {
                return Ok(0);
            }
            let read = self.input.read(&mut self.raw)?;
            self.ended = read == 0;
            let room = decoder.max_utf8_buffer_length(read).unwrap_or(4 * read + 16);
            self.text.resize(room, 0);
            let (_, _, written, wrong) = decoder.decode_to_utf8(&self.raw[..read], &mut self.text, self.ended);
            if wrong {
                let words = format!("the file is not written in {}; say encoding = \"…\" as it is", self.name);
                return Err(io::Error::new(io::ErrorKind::InvalidData, words));
            }
            self.text.truncate(written);
            self.given = 0;
        }
        let taken = buffer.len().min(self.text.len() - self.given);
        buffer[..taken].copy_from_slice(&self.text[self.given..self.given + taken]);
        self.given += taken;
        Ok(taken)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_text_is_what_its_column_takes_or_nothing() {
        for (kind, text, cell) in [
            (Kind::Integer, " 12 ", Some(Cell::Integer(12))),
            (Kind::Integer, "12.5", None),
            (Kind::Real, "-3.5e2", Some(Cell::Real(-350.0))),
            (Kind::Real, "3,5", None),
            (Kind::Real, "nan", None),
            (Kind::Number, "12345678901234567890.123", Some(Cell::Text("12345678901234567890.123".to_owned()))),
            (Kind::Number, "1e999", None),
            (Kind::Boolean, "Yes", Some(Cell::Integer(1))),
            (Kind::Boolean, "maybe", None),
            (Kind::Date, "2026-02-30", None),
            (Kind::Time, "2026-03-14T06:00:00Z", Some(Cell::Text("2026-03-14T06:00:00Z".to_owned()))),
            (Kind::Time, "2026-03-14 06:00", Some(Cell::Text("2026-03-14 06:00".to_owned()))),
            (Kind::Text, " as it is ", Some(Cell::Text(" as it is ".to_owned()))),
        ] {
            assert_eq!(kind.read(text), cell, "{kind:?} {text}");
        }
    }

    #[test]
    fn numbers_are_read_as_they_are_said_to_be_written() {
        let numbers = Numbers { decimal: ',', thousands: Some('.') };
        for (kind, text, cell) in [
            (Kind::Real, "1.234,5", Some(Cell::Real(1234.5))),
            (Kind::Integer, "1.234", Some(Cell::Integer(1234))),
            (Kind::Number, "1.234,50", Some(Cell::Text("1234.50".to_owned()))),
            (Kind::Text, "70.10", Some(Cell::Text("70.10".to_owned()))),
        ] {
            assert_eq!(kind.read_as(text, numbers), cell, "{text}");
        }
        let comma = Numbers { decimal: ',', thousands: None };
        assert_eq!(Kind::Real.read_as("3,5", comma), Some(Cell::Real(3.5)));
        assert_eq!(Kind::Real.read_as("3.5", comma), None, "it may be three thousand five hundred");
    }

    #[test]
    fn a_declared_type_is_understood_in_the_words_of_either_database() {
        for (declared, kind) in [
            ("INTEGER", Kind::Integer),
            ("bigint", Kind::Integer),
            ("double precision", Kind::Real),
            ("NUMERIC(10,2)", Kind::Number),
            ("VARCHAR(20)", Kind::Text),
            ("timestamp without time zone", Kind::Time),
            ("date", Kind::Date),
            ("boolean", Kind::Boolean),
            ("interval", Kind::Text),
            ("", Kind::Text),
        ] {
            assert_eq!(Kind::of(declared), kind, "{declared}");
        }
    }
}
