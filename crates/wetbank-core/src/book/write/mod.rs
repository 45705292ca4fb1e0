//! A section written with another value: what did not change keeps its bytes, its comments and its order.

pub(super) mod fresh;
mod list;
pub(super) mod order;

use std::collections::BTreeSet;

use serde_json::{Map, Number, Value};
use toml_edit::{DocumentMut, Item, RawString, Table, TableLike};

use super::{SectionKind, schema};
use order::Order;

/// Why a value cannot be written into a text, or read from one.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[non_exhaustive]
pub enum Unwritable {
    /// The text that is to be changed cannot be read.
    #[error("the text that is there cannot be read: {0}")]
    Text(String),
    /// It is not the text of just one section.
    #[error("the text is not that of one section, as in [{kind}.NAME]")]
    NotOne {
        /// What kind of section was expected.
        kind: &'static str,
    },
    /// A value that a book cannot hold.
    #[error("{key} cannot be {value}, which no book can hold")]
    Value {
        /// Where it was to stand.
        key: String,
        /// What was to stand there.
        value: String,
    },
}

/// The secrets that a section's value names.
pub fn secrets_named(value: &Map<String, Value>) -> BTreeSet<String> {
    fn walk(value: &Value, found: &mut BTreeSet<String>) {
        match value {
            Value::Object(map) => map.iter().for_each(|(key, inner)| match inner.as_str() {
                Some(name) if key == "secret" => _ = found.insert(name.to_owned()),
                _ => walk(inner, found),
            }),
            Value::Array(list) => list.iter().for_each(|inner| walk(inner, found)),
            _ => {}
        }
    }
    let mut found = BTreeSet::new();
    value.values().for_each(|inner| walk(inner, &mut found));
    found
}

/// The name and the value of a text of one section; a key that is not written is not in it.
pub fn section_value(kind: SectionKind, text: &str) -> Result<(String, Map<String, Value>), Unwritable> {
    let document = read(text)?;
    let (name, item) = only(&document, kind)?;
    let table = item.as_table_like().ok_or(Unwritable::NotOne { kind: kind.as_str() })?;
    Ok((name.to_owned(), table_value(table)))
}

/// The group that a section's text says it belongs to.
pub fn section_group(kind: SectionKind, text: &str) -> Option<String> {
    let (_, value) = section_value(kind, text).ok()?;
    value.get("group")?.as_str().map(str::to_owned)
}

/// The text of a section with this name and value. What stands in `old` with the same value keeps its bytes; a new key
/// stands where `docs/book.md` has it. Without an old text the section is written anew.
pub fn section_text(
    kind: SectionKind,
    name: &str,
    old: Option<&str>,
    wanted: &Map<String, Value>,
) -> Result<String, Unwritable> {
    let order = Order::of(schema(), kind);
    possible(kind.as_str(), &Value::Object(wanted.clone()))?;
    let wanted = &without_nothing(wanted);
    let Some(old) = old else { return Ok(fresh::section(kind, name, wanted, &order)) };
    let mut document = read(old)?;
    let (was, item) = only(&document, kind)?;
    let (was, is_table) = (was.to_owned(), item.is_table());
    if !is_table {
        return Ok(fresh::section(kind, name, wanted, &order));
    }
    let sections = document[kind.as_str()].as_table_like_mut().ok_or(Unwritable::NotOne { kind: kind.as_str() })?;
    if was != name {
        renamed(sections, &was, name);
    }
    if let Some(table) = sections.get_mut(name).and_then(Item::as_table_mut) {
        change_table(table, wanted, &order);
    }
    let text = document.to_string();
    // Of forms in which nobody writes a book something could be left out: then it is written anew, whole.
    match section_value(kind, &text) {
        Ok((_, value)) if value == *wanted => Ok(text),
        _ => Ok(fresh::section(kind, name, wanted, &order)),
    }
}

fn read(text: &str) -> Result<DocumentMut, Unwritable> {
    text.parse().map_err(|error: toml_edit::TomlError| Unwritable::Text(error.message().replace('\n', "; ")))
}

/// The only section of a text.
fn only(document: &DocumentMut, kind: SectionKind) -> Result<(&str, &Item), Unwritable> {
    let wrong = Unwritable::NotOne { kind: kind.as_str() };
    let sections = document.get(kind.as_str()).and_then(Item::as_table_like).ok_or(wrong.clone())?;
    let mut names = sections.iter();
    match (document.len(), names.next(), names.next()) {
        (1, Some(one), None) => Ok(one),
        _ => Err(wrong),
    }
}

/// Gives a section another name; what stands above its heading stays above it.
fn renamed(sections: &mut dyn TableLike, was: &str, name: &str) {
    let item = sections.remove(was).unwrap_or_default();
    sections.insert(name, item);
}

/// A value as the book has it: what is nothing is not written.
pub(super) fn without_nothing(map: &Map<String, Value>) -> Map<String, Value> {
    let kept = map.iter().filter(|(_, value)| !value.is_null());
    kept.map(|(key, value)| (key.clone(), value_without_nothing(value))).collect()
}

fn value_without_nothing(value: &Value) -> Value {
    match value {
        Value::Object(map) => Value::Object(without_nothing(map)),
        Value::Array(list) => Value::Array(list.iter().map(value_without_nothing).collect()),
        other => other.clone(),
    }
}

/// Whether a book can hold it.
fn possible(key: &str, value: &Value) -> Result<(), Unwritable> {
    let below = |inner: &str| format!("{key}.{inner}");
    match value {
        Value::Object(map) => map.iter().try_for_each(|(inner, value)| possible(&below(inner), value)),
        Value::Array(list) => list.iter().enumerate().try_for_each(|(index, value)| match value {
            Value::Null => Err(Unwritable::Value { key: below(&index.to_string()), value: "nothing".to_owned() }),
            value => possible(&below(&index.to_string()), value),
        }),
        Value::Number(number) if number.as_i64().is_none() && number.is_u64() => {
            Err(Unwritable::Value { key: key.to_owned(), value: number.to_string() })
        }
        _ => Ok(()),
    }
}

fn table_value(table: &dyn TableLike) -> Map<String, Value> {
    table.iter().filter_map(|(key, item)| Some((key.to_owned(), item_value(item)?))).collect()
}

fn item_value(item: &Item) -> Option<Value> {
    match item {
        Item::None => None,
        Item::Value(value) => Some(value_of(value)),
        Item::Table(table) => Some(Value::Object(table_value(table))),
        Item::ArrayOfTables(tables) => {
            Some(Value::Array(tables.iter().map(|table| Value::Object(table_value(table))).collect()))
        }
    }
}

fn value_of(value: &toml_edit::Value) -> Value {
    match value {
        toml_edit::Value::String(text) => Value::String(text.value().clone()),
        toml_edit::Value::Integer(number) => Value::Number((*number.value()).into()),
        toml_edit::Value::Float(number) => Number::from_f64(*number.value()).map_or(Value::Null, Value::Number),
        toml_edit::Value::Boolean(is) => Value::Bool(*is.value()),
        toml_edit::Value::Datetime(time) => Value::String(time.value().to_string()),
        toml_edit::Value::Array(list) => Value::Array(list.iter().map(value_of).collect()),
        toml_edit::Value::InlineTable(table) => Value::Object(table_value(table)),
    }
}

/// Changes a table under a heading.
fn change_table(table: &mut Table, wanted: &Map<String, Value>, order: &Order<'_>) {
    let column = column(table);
    let new = change_keys(table, wanted, order);
    for key in &new {
        // It stands in one column with the others, if they do.
        let is_value = table.get(key).is_some_and(Item::is_value);
        if let (Some(column), Some(mut written), true) = (column, table.key_mut(key), is_value) {
            let blanks = column.saturating_sub(written.display_repr().chars().count()).max(1);
            written.leaf_decor_mut().set_suffix(" ".repeat(blanks));
        }
    }
    let keys = placed(table.iter().map(|(key, _)| key), &new, &order.keys(wanted));
    table.sort_values_by(|a, _, b, _| place(&keys, a.get()).cmp(&place(&keys, b.get())));
}

fn place(keys: &[String], key: &str) -> Option<usize> {
    keys.iter().position(|one| one == key)
}

/// The column of the equals signs, if they stand in one.
fn column(table: &Table) -> Option<usize> {
    let widths: Vec<usize> = table
        .iter()
        .filter(|(_, item)| item.is_value())
        .filter_map(|(key, _)| {
            let key = table.key(key)?;
            let blanks = key.leaf_decor().suffix().and_then(RawString::as_str).unwrap_or(" ");
            Some(key.display_repr().chars().count() + blanks.chars().count())
        })
        .collect();
    let first = *widths.first()?;
    widths.iter().all(|width| *width == first).then_some(first)
}

/// Removes what is not wanted, changes what differs, and adds what is new at the end; tells what is new.
fn change_keys(table: &mut dyn TableLike, wanted: &Map<String, Value>, order: &Order<'_>) -> Vec<String> {
    let gone: Vec<String> =
        table.iter().map(|(key, _)| key.to_owned()).filter(|key| !wanted.contains_key(key)).collect();
    for key in gone {
        table.remove(&key);
    }
    let mut new = Vec::new();
    for key in order.keys(wanted) {
        let (value, inner) = (&wanted[&key], order.key(wanted, &key));
        match table.get_mut(&key) {
            Some(item) => change_item(item, value, &inner),
            None => {
                table.insert(&key, fresh::item(value, &inner));
                new.push(key);
            }
        }
    }
    new
}

/// The keys of a table as they shall stand: what was there in its own order, each new one behind the key that is before
/// it in the wanted order.
fn placed<'k>(there: impl Iterator<Item = &'k str>, new: &[String], wanted: &[String]) -> Vec<String> {
    let mut keys: Vec<String> = there.filter(|key| !new.iter().any(|one| one == key)).map(str::to_owned).collect();
    for key in new {
        let before = wanted.iter().take_while(|one| *one != key).collect::<Vec<_>>();
        let at = before.iter().rev().find_map(|one| place(&keys, one)).map_or(0, |at| at + 1);
        keys.insert(at, key.clone());
    }
    keys
}

fn change_item(item: &mut Item, wanted: &Value, order: &Order<'_>) {
    if item_value(item).as_ref() == Some(wanted) {
        return;
    }
    match (&mut *item, wanted) {
        (Item::Table(table), Value::Object(map)) => change_table(table, map, order),
        (Item::ArrayOfTables(tables), Value::Array(values))
            if values.iter().all(Value::is_object) && !values.is_empty() =>
        {
            list::change_tables(tables, values, &order.item());
        }
        (Item::Value(value), _) => change_value(value, wanted, order),
        _ => *item = fresh::item(wanted, order),
    }
}

/// Changes a value where it stands; what is around it stays.
fn change_value(value: &mut toml_edit::Value, wanted: &Value, order: &Order<'_>) {
    if value_of(value) == *wanted {
        return;
    }
    match (&mut *value, wanted) {
        (toml_edit::Value::InlineTable(table), Value::Object(map)) if !table.is_empty() && !map.is_empty() => {
            let new = change_keys(table, map, order);
            let keys = placed(table.iter().map(|(key, _)| key), &new, &order.keys(map));
            table.sort_values_by(|a, _, b, _| place(&keys, a.get()).cmp(&place(&keys, b.get())));
            fresh::tidy(table);
        }
        (toml_edit::Value::Array(array), Value::Array(values)) if !array.is_empty() && !values.is_empty() => {
            list::change(array, values, &order.item());
        }
        _ => {
            let decor = value.decor().clone();
            *value = fresh::value(wanted, order);
            *value.decor_mut() = decor;
        }
    }
}

#[cfg(test)]
mod tests;
