//! Lists: what stays keeps its text wherever it goes, and a note behind it goes with it.

use std::cmp::Reverse;

use serde_json::Value;
use toml_edit::{Array, ArrayOfTables, Item, RawString, Table};

use super::{change_table, change_value, fresh, item_value, order::Order, table_value, value_of};

/// One of a list, with what stands before it and, up to the end of its line, behind it.
struct Part {
    lead: String,
    value: toml_edit::Value,
    note: String,
}

fn text(raw: Option<&RawString>) -> String {
    raw.and_then(RawString::as_str).unwrap_or_default().to_owned()
}

/// What stands in the rest of a line, and all behind it.
fn line(text: &str) -> (&str, &str) {
    text.find('\n').map_or(("", text), |end| text.split_at(end))
}

/// Takes a list apart; the second is what stands before its closing bracket.
fn parts(array: &mut Array) -> (Vec<Part>, String) {
    let mut parts: Vec<Part> = Vec::new();
    let mut tail = text(Some(array.trailing()));
    for mut value in std::mem::take(array) {
        let (prefix, suffix) = (text(value.decor().prefix()), text(value.decor().suffix()));
        value.decor_mut().clear();
        let mut lead = prefix;
        if let Some(before) = parts.last_mut() {
            let (note, rest) = line(&lead);
            before.note.push_str(note);
            lead = rest.to_owned();
        }
        parts.push(Part { lead, value, note: suffix });
    }
    if let Some(last) = parts.last_mut() {
        // Without a comma behind the last one, all that follows belongs to it.
        let all = std::mem::take(&mut last.note) + &tail;
        let (note, rest) = line(&all);
        last.note = note.to_owned();
        tail = rest.to_owned();
    }
    (parts, tail)
}

/// Which of the old ones each wanted one was: the very same, else the likest, else the one in its place.
fn matched(old: &[Value], wanted: &[Value]) -> Vec<Option<usize>> {
    let mut found: Vec<Option<usize>> = vec![None; wanted.len()];
    let same_place = |index: usize, at: usize| at == index && old[at] == wanted[index];
    let same = |index: usize, at: usize| old[at] == wanted[index];
    for is_it in [&same_place as &dyn Fn(usize, usize) -> bool, &same] {
        for index in 0..wanted.len() {
            let free = (0..old.len()).find(|at| !found.contains(&Some(*at)) && is_it(index, *at));
            found[index] = found[index].or(free);
        }
    }
    // Of those that are left the likest two come together first: one that was only added must not take the notes of
    // another that was changed.
    loop {
        let lone = (0..wanted.len()).filter(|index| found[*index].is_none());
        let pairs = lone.flat_map(|index| (0..old.len()).map(move |at| (index, at)));
        let free = pairs.filter(|(_, at)| !found.contains(&Some(*at)));
        let likest = free.map(|(index, at)| (likeness(&old[at], &wanted[index]), at == index, index, at));
        match likest
            .filter(|(likeness, ..)| *likeness > 0)
            .max_by_key(|(likeness, stays, index, at)| (*likeness, *stays, Reverse((*index, *at))))
        {
            Some((_, _, index, at)) => found[index] = Some(at),
            None => break,
        }
    }
    for index in 0..wanted.len().min(old.len()) {
        if found[index].is_none() && !found.contains(&Some(index)) {
            found[index] = Some(index);
        }
    }
    found
}

/// How much two tables have in common.
fn likeness(old: &Value, wanted: &Value) -> usize {
    let (Value::Object(old), Value::Object(wanted)) = (old, wanted) else { return 0 };
    wanted.iter().filter_map(|(key, value)| old.get(key).map(|old| if old == value { 3 } else { 1 })).sum()
}

/// Makes a list one of these values. Neither is empty.
pub(super) fn change(array: &mut Array, wanted: &[Value], order: &Order<'_>) {
    let old: Vec<Value> = array.iter().map(value_of).collect();
    let has_comma = array.trailing_comma();
    let decor = array.decor().clone();
    let (old_parts, tail) = parts(array);
    let is_over_lines = tail.contains('\n') || old_parts.iter().any(|part| part.lead.contains('\n'));
    let indent =
        old_parts.iter().find_map(|part| part.lead.rsplit_once('\n')).map_or("  ", |(_, blanks)| blanks).to_owned();
    let first = old_parts.first().map(|part| part.lead.clone()).unwrap_or_default();
    let end = old_parts.last().map(|part| part.note.clone()).unwrap_or_default() + &tail;
    let mut old_parts: Vec<Option<Part>> = old_parts.into_iter().map(Some).collect();
    let mut parts: Vec<Part> = Vec::new();
    for (value, was) in wanted.iter().zip(matched(&old, wanted)) {
        parts.push(match was.and_then(|at| old_parts[at].take()) {
            Some(mut part) => {
                change_value(&mut part.value, value, order);
                part
            }
            None => Part { lead: format!("\n{indent}"), value: fresh::value(value, order), note: String::new() },
        });
    }
    let last = parts.len() - 1;
    let mut note = String::new();
    for (index, Part { lead, mut value, note: own }) in parts.into_iter().enumerate() {
        let (prefix, suffix) = if is_over_lines {
            // Behind a note a new line begins.
            let lead = if note.contains('#') && !lead.contains('\n') { format!("\n{indent}") } else { lead };
            (std::mem::take(&mut note) + &lead, String::new())
        } else {
            (
                if index == 0 { first.clone() } else { " ".to_owned() },
                if index == last { end.clone() } else { String::new() },
            )
        };
        note = own;
        value.decor_mut().set_prefix(prefix);
        value.decor_mut().set_suffix(suffix);
        array.push_formatted(value);
    }
    if is_over_lines {
        array.set_trailing(note + &tail);
    }
    array.set_trailing_comma(has_comma);
    if !is_over_lines {
        fresh::broken(array);
    }
    *array.decor_mut() = decor;
}

/// Makes a list of tables with headings one of these values, which are tables. Neither is empty.
pub(super) fn change_tables(tables: &mut ArrayOfTables, wanted: &[Value], order: &Order<'_>) {
    let old: Vec<Value> = tables.iter().map(|table| Value::Object(table_value(table))).collect();
    let mut positions = Vec::new();
    tables.iter().for_each(|table| every_position(table, &mut positions));
    positions.sort_unstable();
    let mut old_tables: Vec<Option<Table>> = std::mem::take(tables).into_iter().map(Some).collect();
    let mut positions = positions.into_iter().peekable();
    let mut position = None;
    for (value, was) in wanted.iter().zip(matched(&old, wanted)) {
        let Value::Object(map) = value else { continue };
        let mut table = match was.and_then(|at| old_tables[at].take()) {
            Some(mut table) => {
                if item_value(&Item::Table(table.clone())).as_ref() != Some(value) {
                    change_table(&mut table, map, order);
                }
                table
            }
            None => fresh::table(map, order),
        };
        // Tables are written in the order of their positions, those within one behind its heading.
        let mut own: Vec<isize> = Vec::new();
        every_position(&table, &mut own);
        own.sort_unstable();
        let mut next = || {
            position = positions.next().or(position);
            position
        };
        let new: Vec<(isize, Option<isize>)> = own.iter().map(|old| (*old, next())).collect();
        if new.is_empty() {
            table.set_position(next());
        }
        put_positions(&mut table, &new);
        tables.push(table);
    }
}

fn every_position(table: &Table, found: &mut Vec<isize>) {
    found.extend(table.position());
    for (_, item) in table.iter() {
        match item {
            Item::Table(inner) => every_position(inner, found),
            Item::ArrayOfTables(inner) => inner.iter().for_each(|table| every_position(table, found)),
            _ => {}
        }
    }
}

fn put_positions(table: &mut Table, new: &[(isize, Option<isize>)]) {
    if let Some(found) = table.position().and_then(|was| new.iter().find(|(old, _)| *old == was)) {
        table.set_position(found.1);
    }
    for (_, item) in table.iter_mut() {
        match item {
            Item::Table(inner) => put_positions(inner, new),
            Item::ArrayOfTables(inner) => inner.iter_mut().for_each(|table| put_positions(table, new)),
            _ => {}
        }
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    #[test]
    fn what_was_changed_keeps_its_own_text_though_something_like_it_was_added_before() {
        let old = [json!({ "steps": [] }), json!({ "title": "in", "steps": [], "if": 1 })];
        let wanted = [json!({ "steps": [] }), json!({ "steps": [] }), json!({ "title": "in", "steps": [], "if": 2 })];
        assert_eq!(matched(&old, &wanted), [Some(0), None, Some(1)]);
        let moved = [old[1].clone(), old[0].clone()];
        assert_eq!(matched(&old, &moved), [Some(1), Some(0)]);
        assert_eq!(matched(&[json!("a")], &[json!("b")]), [Some(0)], "else the one in its place");
    }
}
