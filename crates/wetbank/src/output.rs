//! Tables on a terminal, plain lines elsewhere, JSON when asked. Data goes to standard output,
//! words to standard error.

use std::io::{IsTerminal, Write};

use anyhow::Result;
use comfy_table::{ContentArrangement, Table, presets};
use jiff::{Timestamp, tz::TimeZone};
use serde::Serialize;

/// How results are shown.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Output {
    pub json: bool,
}

/// A line of data.
pub(crate) fn line(text: impl std::fmt::Display) {
    // A reader that went away (`| head`) is no failure of ours.
    let _ = writeln!(std::io::stdout(), "{text}");
}

impl Output {
    /// Shows a value as JSON, or by the function.
    pub fn show<T: Serialize>(self, value: &T, people: impl FnOnce(&T)) -> Result<()> {
        if self.json {
            line(serde_json::to_string_pretty(value)?);
        } else {
            people(value);
        }
        Ok(())
    }

    /// Says that something was done.
    pub fn said(self, text: &str) -> Result<()> {
        if self.json {
            line(serde_json::json!({ "done": text }))
        } else {
            eprintln!("{text}")
        }
        Ok(())
    }
}

/// A table with a header. On a terminal it fits the width; elsewhere cells are parted by tabs.
pub(crate) fn table(header: &[&str], rows: Vec<Vec<String>>) {
    if !std::io::stdout().is_terminal() && std::env::var_os("WETBANK_TABLES").is_none() {
        line(header.join("\t"));
        for row in rows {
            line(row.join("\t").replace('\n', " "));
        }
        return;
    }
    let mut table = Table::new();
    table.load_preset(presets::UTF8_HORIZONTAL_ONLY).set_content_arrangement(ContentArrangement::Dynamic);
    table.set_header(header);
    for row in rows {
        table.add_row(row);
    }
    line(table);
}

/// A time of the API as people want it: the clock today, the date before.
pub(crate) fn when(text: &str) -> String {
    let Ok(at) = text.parse::<Timestamp>() else { return text.to_owned() };
    let zone = TimeZone::system();
    let (at, now) = (at.to_zoned(zone.clone()), Timestamp::now().to_zoned(zone));
    let pattern = if at.date() == now.date() { "%H:%M:%S" } else { "%-d %b %H:%M" };
    at.strftime(pattern).to_string()
}

/// An optional time.
pub(crate) fn when_ever(text: Option<&String>) -> String {
    text.map_or_else(|| "–".to_owned(), |text| when(text))
}

/// A size for people.
pub(crate) fn size(bytes: u64) -> String {
    wetbank_core::ByteSize(bytes).to_string()
}
