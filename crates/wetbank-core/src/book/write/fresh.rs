//! New text, as the books that we show are written.

use serde_json::{Map, Value};
use toml_edit::{Array, ArrayOfTables, Decor, DocumentMut, InlineTable, Item, Key, RawString, Table};

use super::order::Order;
use crate::book::SectionKind;

/// A list of tables goes over several lines where it would be longer than this.
const LONGEST: usize = 110;

/// A whole section.
pub(super) fn section(kind: SectionKind, name: &str, wanted: &Map<String, Value>, order: &Order<'_>) -> String {
    let mut sections = Table::new();
    sections.set_implicit(true);
    sections.insert(name, Item::Table(table(wanted, order)));
    let mut document = DocumentMut::new();
    document.insert(kind.as_str(), Item::Table(sections));
    document.to_string().trim_start().to_owned()
}

/// A table under a heading, its equals signs in one column.
pub(super) fn table(wanted: &Map<String, Value>, order: &Order<'_>) -> Table {
    let mut table = Table::new();
    let items: Vec<(String, Item)> = order
        .keys(wanted)
        .into_iter()
        .map(|key| (key.clone(), item(&wanted[&key], &order.key(wanted, &key))))
        .collect();
    let length = |key: &str| Key::new(key).display_repr().chars().count();
    let values = items.iter().filter(|(_, item)| item.is_value());
    let column = values.map(|(key, _)| length(key)).max().unwrap_or_default() + 1;
    for (key, item) in items {
        let is_value = item.is_value();
        table.insert(&key, item);
        if let Some(mut written) = table.key_mut(&key).filter(|_| is_value) {
            written.leaf_decor_mut().set_suffix(" ".repeat(column.saturating_sub(length(&key)).max(1)));
        }
    }
    table
}

/// What stands behind a key of a table.
pub(super) fn item(wanted: &Value, order: &Order<'_>) -> Item {
    match wanted {
        Value::Array(values) if order.has_headings && !values.is_empty() && values.iter().all(Value::is_object) => {
            let inner = order.item();
            let tables = values.iter().filter_map(Value::as_object).map(|map| table(map, &inner));
            Item::ArrayOfTables(tables.collect::<ArrayOfTables>())
        }
        Value::Array(values) if values.iter().any(Value::is_object) => {
            let line = value(wanted, order);
            if values.len() > 1 || line.to_string().chars().count() > LONGEST {
                Item::Value(over_lines(values, &order.item()).into())
            } else {
                Item::Value(line)
            }
        }
        Value::Array(values) => {
            let line = value(wanted, order);
            let is_long = line.to_string().chars().count() > LONGEST;
            Item::Value(if is_long { over_lines(values, &order.item()).into() } else { line })
        }
        other => Item::Value(value(other, order)),
    }
}

/// Gives each of a list of plain values a line of its own, if one line is too long for them.
pub(super) fn broken(array: &mut Array) {
    let is_plain = array.iter().all(|value| !value.is_inline_table() && !value.is_array());
    if !is_plain || array.to_string().chars().count() <= LONGEST {
        return;
    }
    for value in array.iter_mut() {
        *value.decor_mut() = Decor::new("\n  ", "");
    }
    array.set_trailing("\n");
    array.set_trailing_comma(true);
}

/// A list with a line for each.
fn over_lines(values: &[Value], order: &Order<'_>) -> Array {
    let mut array = Array::new();
    for one in values {
        array.push_formatted(value(one, order).decorated("\n  ", ""));
    }
    array.set_trailing("\n");
    array.set_trailing_comma(true);
    array
}

/// A value in one line.
pub(in crate::book) fn value(wanted: &Value, order: &Order<'_>) -> toml_edit::Value {
    match wanted {
        Value::Null => toml_edit::Value::from(""),
        Value::Bool(is) => (*is).into(),
        Value::Number(number) => match (number.as_i64(), number.as_f64()) {
            (Some(whole), _) => whole.into(),
            (None, real) => real.unwrap_or_default().into(),
        },
        Value::String(text) => text.as_str().into(),
        Value::Array(values) => {
            let (inner, last) = (order.item(), values.len().saturating_sub(1));
            let has_tables = values.iter().any(Value::is_object);
            let mut array = Array::new();
            for (index, one) in values.iter().enumerate() {
                let prefix = if index > 0 || has_tables { " " } else { "" };
                let suffix = if index == last && has_tables { " " } else { "" };
                array.push_formatted(value(one, &inner).decorated(prefix, suffix));
            }
            array.into()
        }
        Value::Object(map) => {
            let mut table = InlineTable::new();
            for key in order.keys(map) {
                table.insert(key.as_str(), value(&map[&key], &order.key(map, &key)));
            }
            table.into()
        }
    }
}

/// Blanks around what stands in braces, where nothing but blanks is there.
pub(super) fn tidy(table: &mut InlineTable) {
    let is_blank = |text: Option<&RawString>| {
        text.and_then(RawString::as_str).is_none_or(|text| text.chars().all(|c| c == ' ' || c == '\t'))
    };
    let last = table.len().saturating_sub(1);
    for (index, (mut key, value)) in table.iter_mut().enumerate() {
        if is_blank(key.leaf_decor().prefix()) {
            key.leaf_decor_mut().set_prefix(" ");
        }
        if is_blank(value.decor().suffix()) {
            value.decor_mut().set_suffix(if index == last { " " } else { "" });
        }
    }
}
