//! In which order keys stand: that of the schema, which is that of the reference.

use serde_json::{Map, Value};

use crate::book::SectionKind;

/// What the schema says of a value: one or several shapes that it may have.
pub(in crate::book) struct Order<'s> {
    schema: &'s Value,
    shape: &'s Value,
    /// Whether each of a list has a heading of its own, as in `[[rule.r.branch]]`.
    pub has_headings: bool,
}

impl<'s> Order<'s> {
    /// Of a section of this kind.
    pub fn of(schema: &'s Value, kind: SectionKind) -> Self {
        Self { schema, shape: &schema["properties"][kind.as_str()]["additionalProperties"], has_headings: false }
    }

    /// Of a value about whose keys nothing is said.
    pub fn nothing() -> Self {
        Self { schema: &Value::Null, shape: &Value::Null, has_headings: false }
    }

    fn with(&self, shape: &'s Value) -> Self {
        Self { schema: self.schema, shape, has_headings: false }
    }

    /// Every shape that a value may have here, each without references.
    fn shapes(&self) -> Vec<&'s Value> {
        let mut found = Vec::new();
        let mut open = vec![self.shape];
        while let Some(shape) = open.pop() {
            if let Some(name) = shape["$ref"].as_str().and_then(|to| to.strip_prefix("#/$defs/")) {
                open.push(&self.schema["$defs"][name]);
                continue;
            }
            let variants = ["oneOf", "anyOf"].into_iter().flat_map(|list| shape[list].as_array().into_iter().flatten());
            let before = open.len();
            open.extend(variants.rev());
            if open.len() == before {
                found.push(shape);
            }
        }
        found
    }

    /// The shape that a table has: no other one knows more of its keys, and the words that it has are those of the table.
    fn table(&self, value: &Map<String, Value>) -> Option<&'s Map<String, Value>> {
        let known = |table: &&'s Map<String, Value>| value.keys().filter(|key| table.contains_key(*key)).count();
        let is_of_another_kind = |table: &Map<String, Value>| {
            table.iter().any(|(key, shape)| {
                let word = &shape["const"];
                !word.is_null() && value.get(key).is_some_and(|said| said != word)
            })
        };
        let tables = self.shapes().into_iter().filter_map(|shape| shape["properties"].as_object());
        // Of several that know as much the first one counts.
        let of_its_kind: Vec<_> = tables.filter(|table| !is_of_another_kind(table)).collect();
        of_its_kind.into_iter().rev().max_by_key(known)
    }

    /// What the key of this value is called by people.
    pub fn title(&self) -> Option<&'s str> {
        self.shape["title"].as_str()
    }

    /// What a step of this kind is called.
    pub fn kind_title(&self, step: &Map<String, Value>) -> Option<&'s str> {
        let kinds = self.shapes().into_iter().filter(|shape| shape["group"].is_string());
        kinds
            .filter_map(|shape| Some((shape["required"][0].as_str()?, shape["title"].as_str()?)))
            .find_map(|(kind, title)| step.contains_key(kind).then_some(title))
    }

    /// The keys of a table in their order; those that the schema does not know stand at the end.
    pub fn keys(&self, value: &Map<String, Value>) -> Vec<String> {
        let known = self.table(value).map(|table| table.keys().collect::<Vec<_>>()).unwrap_or_default();
        let mut keys: Vec<String> =
            known.iter().filter(|key| value.contains_key(**key)).map(|key| (*key).clone()).collect();
        keys.extend(value.keys().filter(|key| !known.contains(key)).cloned());
        keys
    }

    /// Of the value behind a key of a table.
    pub fn key(&self, value: &Map<String, Value>, key: &str) -> Self {
        let shape = self.table(value).and_then(|table| table.get(key)).unwrap_or(&Value::Null);
        let rule = self.schema["properties"]["rule"]["additionalProperties"]["$ref"].as_str();
        let is_branch = key == "branch" && rule.is_some() && self.shape["$ref"].as_str() == rule;
        if !shape.is_null() {
            return Self { has_headings: is_branch, ..self.with(shape) };
        }
        let others =
            self.shapes().into_iter().map(|shape| &shape["additionalProperties"]).find(|inner| inner.is_object());
        self.with(others.unwrap_or(&Value::Null))
    }

    /// Of one of a list.
    pub fn item(&self) -> Self {
        let items = self.shapes().into_iter().map(|shape| &shape["items"]).find(|items| items.is_object());
        self.with(items.unwrap_or(&Value::Null))
    }
}
