//! The reference of the book: tables made of what every key tells of itself.

use std::fmt::Write;

use serde_json::{Map, Value};

use super::book_schema;
use crate::Group;

/// Parts that are one table each, with their definition in the schema.
const TABLES: [(&str, &str); 16] = [
    ("partner", "Partner"),
    ("delivery", "Delivery"),
    ("account", "Account"),
    ("account-folder", "AccountFolder"),
    ("calendar", "Calendar"),
    ("twin", "Twin"),
    ("twin-starts", "TwinStarts"),
    ("rule", "Rule"),
    ("arrival", "Arrival"),
    ("mail", "Letters"),
    ("account-trigger", "OfAccount"),
    ("schedule", "Schedule"),
    ("chain", "Chain"),
    ("finds", "Find"),
    ("retry", "Retry"),
    ("branch", "Branch"),
];
/// What is told in a place of its own besides.
const ELSEWHERE: [&str; 4] = ["Condition", "Step", "SecretRef", "Place"];

/// Tables of keys in Markdown, for a part of the book: `places`, `limits`, `partner`, `delivery`, `account`, `account-folder`, `calendar`,
/// `databases`, `twin`, `twin-starts`, `rule`, `arrival`, `mail`, `account-trigger`, `schedule`, `chain`, `finds`, `retry`, `branch`, `condition`, `steps` or
/// `every-step`. Nothing for a part that there is not.
pub fn book_reference(part: &str) -> Option<String> {
    let schema = Schema(book_schema());
    let limits = ["group", "retry", "transfers", "rate", "rates"];
    let common = ["if", "retry", "on-failure", "then"];
    Some(match part {
        "places" => schema.kinds("Place", 4, &limits),
        "databases" => schema.kinds("Database", 4, &[]),
        "limits" => schema.picked(&schema.0["$defs"]["Place"]["oneOf"][0], &limits),
        "steps" => schema.steps(),
        "every-step" => schema.picked(&schema.0["$defs"]["Step"]["oneOf"][0], &common),
        "condition" => schema.table(&schema.0["$defs"]["Condition"]),
        part => {
            let (_, name) = TABLES.iter().find(|(known, _)| *known == part)?;
            schema.table(&schema.0["$defs"][*name])
        }
    })
}

struct Schema(Value);

impl Schema {
    /// What a reference stands for.
    fn meant<'a>(&'a self, schema: &'a Value) -> &'a Value {
        match schema["$ref"].as_str().and_then(|to| to.strip_prefix("#/$defs/")) {
            Some(name) => &self.0["$defs"][name],
            None => schema,
        }
    }

    /// Each kind under its heading: what it is, an example, its keys but for those that all have.
    fn kinds(&self, definition: &str, level: usize, but: &[&str]) -> String {
        let mut text = String::new();
        for variant in self.0["$defs"][definition]["oneOf"].as_array().into_iter().flatten() {
            let kind = variant["properties"]["kind"]["const"].as_str().unwrap_or_default();
            let _ = writeln!(text, "{} `{kind}`: {}\n", "#".repeat(level), lower(said(variant, "title")));
            let _ = writeln!(text, "{}\n", cell(said(variant, "description")));
            if let Some(example) = variant["example"].as_str() {
                let _ = writeln!(text, "```toml\n[place.NAME]\n{example}\n```\n");
            }
            let keys = keys(variant).filter(|(key, _)| *key != "kind" && !but.contains(&key.as_str()));
            text.push_str(&self.rows(keys, variant));
            text.push('\n');
        }
        text.trim_end().to_owned() + "\n"
    }

    /// Each kind of step, under what it is wanted for.
    fn steps(&self) -> String {
        let variants = || self.0["$defs"]["Step"]["oneOf"].as_array().into_iter().flatten();
        let mut text = String::new();
        for group in Group::ALL {
            let word = serde_json::to_value(group).unwrap_or_default();
            let _ = writeln!(text, "#### {}\n", group.title());
            for variant in variants().filter(|variant| variant["group"] == word) {
                let name = variant["required"][0].as_str().unwrap_or_default();
                let (title, help) = (said(variant, "title"), said(variant, "description"));
                let title = if lower(title) == name { String::new() } else { format!(" {}.", lower(title)) };
                let _ = writeln!(text, "**`{name}`:{title}** {}\n", cell(help));
                let _ = writeln!(text, "```toml\n{{ {} }}\n```\n", said(variant, "example"));
                let shape = self.meant(&variant["properties"][name]);
                if keys(shape).next().is_some() {
                    text.push_str(&self.table(shape));
                    text.push('\n');
                }
            }
        }
        text.trim_end().to_owned() + "\n"
    }

    fn table(&self, shape: &Value) -> String {
        self.rows(keys(shape), shape)
    }

    fn picked(&self, shape: &Value, only: &[&str]) -> String {
        self.rows(keys(shape).filter(|(key, _)| only.contains(&key.as_str())), shape)
    }

    fn rows<'a>(&self, keys: impl Iterator<Item = (&'a String, &'a Value)>, of: &Value) -> String {
        let mut text = "| key | meaning | unless it is said |\n|---|---|---|\n".to_owned();
        for (key, value) in keys {
            let is_needed = of["required"].as_array().is_some_and(|list| list.iter().any(|one| one == key));
            let default = match &value["default"] {
                _ if is_needed => "needed".to_owned(),
                Value::Null => String::new(),
                Value::Array(list) if list.is_empty() => String::new(),
                Value::Object(map) if map.is_empty() => String::new(),
                Value::String(text) if text.is_empty() => String::new(),
                default => format!("`{}`", cell(&toml_of(default))),
            };
            let _ =
                writeln!(text, "| `{key}` | {}{} | {default} |", cell(said(value, "description")), self.choices(value));
        }
        text
    }

    /// The words that a key takes, or its own keys, each with what it means.
    fn choices(&self, value: &Value) -> String {
        let inner = value["anyOf"].as_array().and_then(|any| any.iter().find(|one| one["type"] != "null"));
        let inner = inner.unwrap_or(value);
        let inner = if inner["items"].is_object() { &inner["items"] } else { inner };
        let name = inner["$ref"].as_str().unwrap_or_default().trim_start_matches("#/$defs/");
        if ELSEWHERE.contains(&name) || TABLES.iter().any(|(_, table)| *table == name) {
            return String::new();
        }
        let inner = self.meant(inner);
        let told = |word: String, of: &Value| {
            let help = said(of, "description").trim_end_matches('.');
            cell(&format!("{word}: {}", lower(help)))
        };
        let words = inner["oneOf"].as_array().into_iter().flatten().filter_map(|one| {
            let word = match one["const"].as_str() {
                Some(word) => format!("`\"{word}\"`"),
                None => format!("`{{ {} = … }}`", one["required"][0].as_str()?),
            };
            Some(told(word, one))
        });
        let own = keys(inner).map(|(key, value)| told(format!("`{key}`"), value));
        let words: Vec<String> = words.chain(own).collect();
        if words.is_empty() { String::new() } else { format!(" {}", words.join("; ")) }
    }
}

fn keys(shape: &Value) -> impl Iterator<Item = (&String, &Value)> {
    shape["properties"].as_object().into_iter().flat_map(Map::iter)
}

fn said<'a>(of: &'a Value, what: &str) -> &'a str {
    of[what].as_str().unwrap_or_default()
}

/// A value as the book writes it.
pub(super) fn toml_of(value: &Value) -> String {
    match value {
        // In a basic string quotes would be escaped; the book writes such texts in a literal one.
        Value::String(text) if text.contains('"') => format!("'{text}'"),
        value => toml::Value::try_from(value).map(|value| value.to_string()).unwrap_or_default(),
    }
}

/// Text in one cell of a table.
fn cell(text: &str) -> String {
    text.split_whitespace().collect::<Vec<_>>().join(" ").replace('|', "\\|")
}

/// A heading within a sentence; names written in capitals stay.
fn lower(text: &str) -> String {
    let mut letters = text.chars();
    match (letters.next(), text.chars().nth(1)) {
        (Some(first), Some(second)) if !second.is_uppercase() => first.to_lowercase().chain(letters).collect(),
        _ => text.to_owned(),
    }
}
