//! A section that is still being made: everything that is wrong with its value, each mistake at the very key.

use std::{
    collections::BTreeSet,
    time::{Duration, Instant},
};

use serde::Serialize;
use serde_json::{Map, Value};
use toml::de::{DeTable, DeValue};
use toml_edit::Key;

use super::{
    Amiss, Book, Known, Problem, SectionKind, Unwritable, line_of, parse_once,
    write::{fresh, order::Order, section_text, without_nothing},
};

/// A value is read again so often, and for so long, at most: once for each mistake.
const ROUNDS: usize = 200;
const PATIENCE: Duration = Duration::from_secs(1);
/// The file that a draft is read from, where a message names one.
const FILE: &str = "draft";

/// Something in a draft that cannot be used.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct DraftMistake {
    /// Where in the value it stands (RFC 6901), as in `/branch/0/steps/1/copy/to`; empty for all of it.
    pub pointer: String,
    /// The line of the text, counted from 1.
    pub line: usize,
    /// What is wrong, and what would be right.
    pub message: String,
    /// The same for programs.
    pub amiss: Amiss,
}

/// A section as it would be, and what is wrong with it.
#[derive(Debug)]
pub struct Draft {
    /// Its text: that of the old one with this value.
    pub text: String,
    /// Everything that is wrong, in the order of the text.
    pub mistakes: Vec<DraftMistake>,
    /// What it arranges, if nothing is wrong.
    pub book: Option<Book>,
}

impl Draft {
    /// Reads a section with this value, for which `old` is the text so far.
    pub fn of(
        kind: SectionKind,
        name: &str,
        old: Option<&str>,
        value: &Map<String, Value>,
        known: &Known,
    ) -> Result<Self, Unwritable> {
        let text = section_text(kind, name, old, value)?;
        let value = without_nothing(value);
        let read = |text: String| parse_once(&[(FILE.to_owned(), text)], known);
        let first = match read(text.clone()) {
            Ok(book) => return Ok(Self { text, mistakes: Vec::new(), book: Some(book) }),
            Err(problems) => problems,
        };
        let mut spread = Spread { root: [kind.as_str(), name], text: String::new(), lines: Vec::new() };
        let mut left = Value::Object(value);
        let mut mistakes: Vec<DraftMistake> = Vec::new();
        let mut marred: BTreeSet<String> = BTreeSet::new();
        let began = Instant::now();
        for _ in 0..ROUNDS {
            spread.write(&left);
            let Err(problems) = read(std::mem::take(&mut spread.text)) else { break };
            let before = left.clone();
            for problem in problems {
                let pointer = spread.lines.get(problem.line.wrapping_sub(1)).cloned().unwrap_or_default();
                if let Some(table) = marred_at(&marred, &pointer) {
                    leave_out(&mut left, &table, &mut marred);
                    continue;
                }
                mend(&mut left, &pointer, &problem.amiss, &mut marred);
                mistakes.push(DraftMistake {
                    line: line_at(&text, &spread.root, &pointer),
                    pointer,
                    message: problem.message,
                    amiss: problem.amiss,
                });
            }
            if left == before || began.elapsed() > PATIENCE {
                break;
            }
        }
        // What is wrong with the text alone is told by its line.
        if mistakes.is_empty() {
            let of_text = |problem: Problem| DraftMistake {
                pointer: String::new(),
                line: problem.line,
                message: problem.message,
                amiss: problem.amiss,
            };
            mistakes = first.into_iter().map(of_text).collect();
        }
        mistakes.sort_by_key(|mistake| mistake.line);
        Ok(Self { text, mistakes, book: None })
    }
}

/// The table of which something was left out and that is to blame for what is said of this one: what it lacks now is no
/// mistake of its own.
fn marred_at(marred: &BTreeSet<String>, pointer: &str) -> Option<String> {
    let below = format!("{pointer}/");
    let inner = marred.iter().filter(|table| table.starts_with(&below)).max_by_key(|table| table.len());
    marred.get(pointer).or(inner).cloned()
}

/// Puts what was meant, or leaves out what is wrong.
fn mend(value: &mut Value, pointer: &str, amiss: &Amiss, marred: &mut BTreeSet<String>) {
    match (amiss, value.pointer_mut(pointer)) {
        (Amiss::Name { written, nearest: Some(right), .. }, Some(Value::String(text))) if text == written => {
            right.clone_into(text);
        }
        _ => leave_out(value, pointer, marred),
    }
}

/// Leaves out what stands there; of a list the others keep their places.
fn leave_out(value: &mut Value, pointer: &str, marred: &mut BTreeSet<String>) {
    let Some((table, key)) = pointer.rsplit_once('/') else { return };
    match value.pointer_mut(table) {
        Some(Value::Object(map)) => _ = map.remove(&plain(key)),
        Some(Value::Array(list)) => {
            if let Some(one) = key.parse::<usize>().ok().and_then(|at| list.get_mut(at)) {
                *one = Value::Null;
            }
        }
        _ => {}
    }
    let below = format!("{pointer}/");
    marred.retain(|one| one != pointer && !one.starts_with(&below));
    marred.insert(table.to_owned());
}

/// A section with a line for each key, and what each line is about.
struct Spread<'a> {
    root: [&'a str; 2],
    text: String,
    lines: Vec<String>,
}

impl Spread<'_> {
    fn write(&mut self, value: &Value) {
        self.text.clear();
        self.lines.clear();
        let heading: Vec<String> = self.root.iter().map(|key| quoted(key)).collect();
        if let Value::Object(map) = value {
            self.table(&heading.join("."), "", map, false);
        }
    }

    fn line(&mut self, pointer: &str, text: &str) {
        self.text.push_str(text);
        self.text.push('\n');
        self.lines.extend(text.split('\n').map(|_| pointer.to_owned()));
    }

    fn table(&mut self, heading: &str, pointer: &str, map: &Map<String, Value>, is_listed: bool) {
        let line = if is_listed { format!("[[{heading}]]") } else { format!("[{heading}]") };
        self.line(pointer, &line);
        let is_table = |value: &Value| value.is_object();
        let has_headings = |value: &Value| match value {
            Value::Object(_) => true,
            Value::Array(list) => list.iter().any(is_table) && list.iter().all(|one| one.is_object() || one.is_null()),
            _ => false,
        };
        let below = |key: &str| format!("{pointer}/{}", key.replace('~', "~0").replace('/', "~1"));
        for (key, value) in map.iter().filter(|(_, value)| !has_headings(value)) {
            let list;
            let value = match value {
                Value::Array(values) => {
                    list = values.iter().filter(|one| !one.is_null()).cloned().collect();
                    &list
                }
                other => other,
            };
            self.line(&below(key), &format!("{} = {}", quoted(key), fresh::value(value, &Order::nothing())));
        }
        for (key, value) in map.iter().filter(|(_, value)| has_headings(value)) {
            let (heading, pointer) = (format!("{heading}.{}", quoted(key)), below(key));
            match value {
                Value::Object(map) => self.table(&heading, &pointer, map, false),
                Value::Array(list) => {
                    for (index, one) in list.iter().enumerate() {
                        if let Value::Object(map) = one {
                            self.table(&heading, &format!("{pointer}/{index}"), map, true);
                        }
                    }
                }
                _ => {}
            }
        }
    }
}

/// A part of a pointer as the key that it stands for (RFC 6901, section 4).
fn plain(part: &str) -> String {
    part.replace("~1", "/").replace("~0", "~")
}

fn quoted(key: &str) -> String {
    Key::new(key).display_repr().into_owned()
}

/// The line on which a value of a section begins; the last one above it that is there.
fn line_at(text: &str, root: &[&str], pointer: &str) -> usize {
    let Ok(table) = DeTable::parse(text) else { return 1 };
    let keys = root.iter().map(|key| (*key).to_owned());
    let below = pointer.split('/').skip(1).map(plain);
    let mut line = 1;
    let mut at: Option<&DeValue<'_>> = None;
    for (depth, key) in keys.chain(below).enumerate() {
        let table = match (depth, at) {
            (0, _) => Some(table.as_ref()),
            (_, Some(DeValue::Table(table))) => Some(table),
            _ => None,
        };
        let (span, value) = match (table, at) {
            (Some(table), _) => match table.get_key_value(key.as_str()) {
                Some((key, value)) => (key.span(), value.as_ref()),
                None => break,
            },
            (None, Some(DeValue::Array(list))) => match key.parse::<usize>().ok().and_then(|at| list.get(at)) {
                Some(one) => (one.span(), one.as_ref()),
                None => break,
            },
            _ => break,
        };
        (line, at) = (line_of(text, span.start), Some(value));
    }
    line
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;
    use crate::Name;

    fn draft(value: &Value) -> Draft {
        let known =
            Known { places: vec![Name::new("office").unwrap(), Name::new("archive").unwrap()], ..Known::default() };
        Draft::of(SectionKind::Rule, "keep", None, value.as_object().unwrap(), &known).unwrap()
    }

    fn told(value: &Value) -> Vec<(String, String)> {
        draft(value).mistakes.into_iter().map(|one| (one.pointer, one.message)).collect()
    }

    fn rule(steps: &Value) -> Value {
        json!({ "starts": { "arrival": { "place": "office", "folder": "in" } }, "branch": [ { "steps": steps } ] })
    }

    #[test]
    fn a_draft_without_a_mistake_is_a_book() {
        let draft = draft(&rule(&json!([ { "copy": { "to": "archive" } } ])));
        assert_eq!(draft.mistakes, []);
        assert_eq!(draft.book.unwrap().rules[0].name.as_str(), "keep");
        assert!(
            draft.text.starts_with("[rule.keep]\nstarts = { arrival = { place = \"office\", folder = \"in\" } }\n")
        );
    }

    #[test]
    fn every_mistake_is_told_at_its_key_also_those_that_stand_in_one_line() {
        let value = json!({
            "zone": "Atlantis",
            "starts": { "arrival": { "place": "ofice", "folder": "../in", "settle": "soon" }, "schedule": { "at": "25:00" } },
            "branch": [
                { "if": { "all": [ { "file": "size", "over": "much" }, { "file": "nmae", "is": "a" } ] },
                  "steps": [ { "copy": { "to": "nowhere", "folder": "{{ nmae }}" } }, { "cpy": {} }, { "copy": {} },
                             { "note": { "text": "{{ tody }}" } } ] },
                { "steps": [] },
            ],
        });
        let found: Vec<String> = draft(&value).mistakes.into_iter().map(|one| one.pointer).collect();
        let expected = [
            "/zone",
            "/starts/arrival/place",
            "/starts/arrival/folder",
            "/starts/arrival/settle",
            "/starts/schedule/at",
            "/branch/0/if/all/1/file",
            "/branch/0/if/all/0/over",
            "/branch/0/steps/0/copy/to",
            "/branch/0/steps/0/copy/folder",
            "/branch/0/steps/1/cpy",
            "/branch/0/steps/2",
            "/branch/0/steps/3/note/text",
            "/branch/1",
        ];
        assert_eq!(found, expected);
    }

    #[test]
    fn what_only_follows_from_a_mistake_is_none() {
        assert_eq!(told(&rule(&json!([ { "copy": { "to": "archve" } }, { "delete": {} } ]))).len(), 1);
        assert_eq!(told(&rule(&json!([ { "encrypt": { "to": [7] } } ]))).len(), 1);
        let held = rule(&json!([ { "copy": { "to": "archive" }, "on-failure": [ { "cpy": {} } ] } ]));
        assert_eq!(told(&held).len(), 1, "{:?}", told(&held));
        let lacks = told(&json!({ "branch": [ { "steps": [ { "delete": {} } ] } ] }));
        assert_eq!(lacks.len(), 1, "{lacks:?}");
        assert_eq!(lacks[0].0, "");
        assert!(lacks[0].1.contains("starts"), "{lacks:?}");
    }

    #[test]
    fn a_mistake_is_told_with_the_line_of_the_text_that_is_there() {
        let old = "# ours\n[rule.keep]\nstarts = { arrival = { place = \"office\" } }\n\n[[rule.keep.branch]]\nsteps = [\n  # first\n  \
                   { copy = { to = \"archive\" } },\n  { note = { text = \"x\" } },\n]\n";
        let (_, mut value) = crate::section_value(SectionKind::Rule, old).unwrap();
        value["branch"][0]["steps"][1]["note"]["text"] = json!("{{ tody }}");
        value.insert("zone".to_owned(), json!("Atlantis"));
        let known =
            Known { places: vec![Name::new("office").unwrap(), Name::new("archive").unwrap()], ..Known::default() };
        let draft = Draft::of(SectionKind::Rule, "keep", Some(old), &value, &known).unwrap();
        let lines: Vec<(usize, &str)> = draft.mistakes.iter().map(|one| (one.line, one.pointer.as_str())).collect();
        assert_eq!(lines, [(3, "/zone"), (10, "/branch/0/steps/1/note/text")], "{}", draft.text);
    }

    #[test]
    fn odd_keys_and_values_are_mistakes_and_no_trouble() {
        for value in [
            json!({}),
            json!({ "a/b": 1, "c~d": { "e.f": [1, { "g": "h" }] }, "": {} }),
            json!({ "starts": 7, "branch": "none" }),
            json!({ "starts": [], "branch": {} }),
            json!({ "starts": {}, "branch": [] }),
            json!({ "starts": { "hand": { "x": "two\nlines\n[rule.evil]" } }, "branch": [ [ ], { } ] }),
            json!({ "title": "\u{0}\"'", "starts": { "hand": {} }, "branch": [ { "steps": [ { "hold": { "why": [ { "a": { "b": {} } } ] } } ] } ] }),
        ] {
            let draft = draft(&value);
            assert!(!draft.mistakes.is_empty() && draft.mistakes.len() < 20, "{value}: {:#?}", draft.mistakes);
        }
    }
}
