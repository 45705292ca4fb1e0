//! What is said of tables of databases and of files of separated values.

use crate::shape::{Checked, Text};

/// A name of a table or column as databases take it.
pub(super) fn is_plain_name(text: &str) -> bool {
    !text.is_empty() && text.len() <= 120 && !text.chars().any(|c| c.is_control() || c == '"')
}

/// A table; a dot parts its schema from its name.
pub(super) fn table(text: &Text) -> Checked<String> {
    let table = text.str().trim();
    if table.split('.').count() > 2 || !table.split('.').all(is_plain_name) {
        return Err(text.wrong(format!("\"{table}\" is no table's name")));
    }
    Ok(table.to_owned())
}

/// What stands between two values.
pub(super) fn separator(text: Option<&Text>) -> Checked<u8> {
    match text.map(|text| (text, text.str())) {
        None => Ok(b','),
        Some((_, "tab")) => Ok(b'\t'),
        Some((_, one)) if one.len() == 1 && one.is_ascii() && one != "\"" => Ok(one.as_bytes()[0]),
        Some((text, other)) => Err(text.wrong(format!("\"{other}\" is no separator; it is one character, or \"tab\""))),
    }
}
