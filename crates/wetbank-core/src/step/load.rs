//! The step `load`.

use std::collections::BTreeMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{
    Group, Kind, Telling,
    table::{is_plain_name, separator, table},
};
use crate::{
    Name,
    shape::{Checked, Here, Text, holds},
};

/// Load a file of separated values into a table: all rows or none, unless `bad-rows` says that those that do not fit
/// are left out and named.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "Load into a table")]
pub(crate) struct Shape {
    /// The database.
    #[schemars(title = "Into")]
    into: Text<holds::DatabaseName>,
    /// The table; a dot parts its schema from its name.
    #[schemars(title = "Table")]
    table: Text,
    /// Columns of the table, each with the header of the file that it is filled from; without it the headers are the
    /// columns.
    #[serde(default)]
    #[schemars(title = "Columns")]
    columns: BTreeMap<String, String>,
    /// What stands between two values: one character, or `tab`.
    #[schemars(title = "Separator", extend("default" = ","))]
    separator: Option<Text>,
    /// How its text is written, a name of the WHATWG list.
    #[schemars(title = "Encoding", extend("default" = "utf-8"))]
    encoding: Option<Text>,
    /// What stands before the fraction of a number.
    #[schemars(title = "Decimal sign", extend("default" = "."))]
    decimal: Option<Text>,
    /// What may stand between the thousands of a number; nothing unless it is said.
    #[schemars(title = "Thousands sign")]
    thousands: Option<Text>,
    /// Which column counts if two have one header; unless it is said, such a file is refused.
    #[schemars(title = "Header that is there twice")]
    twice: Option<Which>,
    /// What becomes of columns of the table that the file does not have and that get no value by themselves.
    #[schemars(title = "Missing columns", extend("default" = "refuse"))]
    missing: Option<Missing>,
    /// What becomes of rows that do not fit.
    #[schemars(title = "Rows that do not fit", extend("default" = "refuse"))]
    bad_rows: Option<BadRows>,
    /// What the table holds is removed first.
    #[serde(default)]
    #[schemars(title = "Replace what the table holds")]
    replace: bool,
}

/// Which of two.
#[derive(Debug, Clone, Copy, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
enum Which {
    /// The first.
    First,
    /// The last.
    Last,
}

/// What becomes of a column that is not in the file.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
enum Missing {
    /// The file is refused.
    Refuse,
    /// It stays empty.
    Empty,
}

/// What becomes of rows that do not fit.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum BadRows {
    /// Nothing is loaded.
    Refuse,
    /// They are left out, and named.
    LeaveOut,
}

/// How numbers are written in a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Numbers {
    /// What stands before the fraction.
    pub decimal: char,
    /// What may stand between the thousands.
    pub thousands: Option<char>,
}

impl Default for Numbers {
    fn default() -> Self {
        Self { decimal: '.', thousands: None }
    }
}

/// Which column of a file counts if two have one header.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum Twice {
    /// The file is refused.
    #[default]
    Refuse,
    /// The first.
    First,
    /// The last.
    Last,
}

/// A file that goes into a table.
#[derive(Debug, Clone)]
pub struct Load {
    /// The database.
    pub into: Name,
    /// The table.
    pub table: String,
    /// Columns, each with the header of the file that it is filled from; all headers of the file's
    /// own names if empty.
    pub columns: Vec<(String, String)>,
    /// What stands between two values.
    pub separator: u8,
    /// How its text is written, as the web calls it (WHATWG Encoding Standard).
    pub encoding: String,
    /// How numbers are written.
    pub numbers: Numbers,
    /// Which column counts if two have one header.
    pub twice: Twice,
    /// Whether columns of the table that the file does not have stay empty; else such a file is refused.
    pub missing_stay_empty: bool,
    /// What becomes of rows that do not fit.
    pub bad_rows: BadRows,
    /// Whether what the table holds is removed first.
    pub replace: bool,
}

/// A sign within numbers.
fn mark(text: Option<&Text>) -> Checked<Option<char>> {
    let Some(text) = text else { return Ok(None) };
    match text.str().chars().collect::<Vec<_>>()[..] {
        [sign] if !sign.is_alphanumeric() && !"+-\"".contains(sign) => Ok(Some(sign)),
        _ => Err(text.wrong(format!("\"{}\" is no sign within numbers, as in \",\"", text.str()))),
    }
}

fn encoding(text: Option<&Text>) -> Checked<String> {
    let Some(text) = text else { return Ok("utf-8".to_owned()) };
    let encoding = text.str().trim().to_ascii_lowercase();
    if encoding_rs::Encoding::for_label(encoding.as_bytes()).is_none() {
        let words = format!(
            "unknown encoding \"{encoding}\"; it is a name of the WHATWG list, as utf-8, utf-16le, iso-8859-1, windows-1252"
        );
        return Err(text.wrong(words));
    }
    Ok(encoding)
}

impl Kind for Load {
    type Shape = Shape;

    const GROUP: Group = Group::Data;
    const EXAMPLE: &'static str = r#"load = { into = "survey", table = "readings", separator = ";", decimal = "," }"#;

    fn resolve(shape: &Shape, here: &Here<'_>) -> Checked<Self> {
        if let Some(wrong) = shape.columns.keys().find(|column| !is_plain_name(column)) {
            return Err(shape.table.wrong(format!("\"{wrong}\" is no column's name")));
        }
        let numbers = Numbers {
            decimal: mark(shape.decimal.as_ref())?.unwrap_or('.'),
            thousands: mark(shape.thousands.as_ref())?,
        };
        if Some(numbers.decimal) == numbers.thousands {
            return Err(shape.table.wrong("decimal and thousands cannot be the same sign"));
        }
        Ok(Self {
            into: here.database(&shape.into)?,
            table: table(&shape.table)?,
            columns: shape.columns.iter().map(|(column, header)| (column.clone(), header.clone())).collect(),
            separator: separator(shape.separator.as_ref())?,
            encoding: encoding(shape.encoding.as_ref())?,
            numbers,
            twice: match shape.twice {
                None => Twice::Refuse,
                Some(Which::First) => Twice::First,
                Some(Which::Last) => Twice::Last,
            },
            missing_stay_empty: shape.missing == Some(Missing::Empty),
            bad_rows: shape.bad_rows.unwrap_or(BadRows::Refuse),
            replace: shape.replace,
        })
    }

    fn told(&self, _: Telling<'_>) -> (&'static str, String) {
        ("load it", format!("into the table {} of {}", self.table, self.into))
    }

    fn database(&self) -> Option<&Name> {
        Some(&self.into)
    }
}
