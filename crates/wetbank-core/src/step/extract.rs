//! The step `extract`.

use std::{borrow::Cow, collections::BTreeMap};

use schemars::JsonSchema;
use serde::Deserialize;

use super::{
    Group, Kind, Shift, Telling,
    table::{separator, table},
};
use crate::{
    Name, Template,
    shape::{Checked, Here, Text, folder_template, holds, template},
};

/// Write what a query finds, or all of a table, into a file of separated values, which goes on.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "Extract from a database")]
pub(crate) struct Shape {
    /// The database.
    #[schemars(title = "From")]
    from: Text<holds::DatabaseName>,
    /// All rows of this table; a dot parts its schema from its name.
    #[schemars(title = "Table")]
    table: Option<Text>,
    /// In place of a table: what is asked; `:day` stands for the value `day`.
    #[schemars(title = "Query")]
    query: Option<Text<holds::Lines>>,
    /// The values that the query names.
    #[serde(default)]
    #[schemars(title = "Values")]
    values: BTreeMap<String, Text<holds::Template>>,
    /// What stands between two values: one character, or `tab`.
    #[schemars(title = "Separator", extend("default" = ","))]
    separator: Option<Text>,
    /// The file's name.
    #[serde(rename = "as")]
    #[schemars(title = "Name of the file")]
    name: Text<holds::NameTemplate>,
}

/// A file that comes out of a database.
#[derive(Debug, Clone)]
pub struct Extract {
    /// The database.
    pub from: Name,
    /// What is asked.
    pub asked: Asked,
    /// The values.
    pub values: Vec<(String, Template)>,
    /// What stands between two values.
    pub separator: u8,
    /// The file's name.
    pub name: Template,
}

/// What a database is asked for.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Asked {
    /// All rows of a table; a dot parts its schema from its name.
    Table(String),
    /// What a query finds; `:name` stands for a value.
    Query(String),
}

impl Asked {
    /// The same as a query.
    #[must_use]
    pub fn query(&self) -> Cow<'_, str> {
        match self {
            Self::Query(query) => Cow::Borrowed(query),
            Self::Table(table) => {
                let parts: Vec<String> =
                    table.split('.').map(|part| format!("\"{}\"", part.replace('"', "\"\""))).collect();
                Cow::Owned(format!("SELECT * FROM {}", parts.join(".")))
            }
        }
    }
}

impl Kind for Extract {
    type Shape = Shape;

    const GROUP: Group = Group::Data;
    const EXAMPLE: &'static str = r#"extract = { from = "survey", query = "SELECT * FROM readings WHERE day = :day", values = { day = "{{ today }}" }, as = "readings-{{ today }}.csv" }"#;

    fn resolve(shape: &Shape, here: &Here<'_>) -> Checked<Self> {
        let asked = match (&shape.table, &shape.query) {
            (Some(text), None) => Asked::Table(table(text)?),
            (None, Some(text)) => Asked::Query(text.str().trim().trim_end_matches(';').to_owned()),
            _ => return Err(here.wrong("extract has either \"table\" or \"query\"")),
        };
        if asked.query().contains("{{") {
            let words = "a query takes no placeholders, they could change what it asks; write :day and values = { day = \"{{ today }}\" }";
            return Err(here.wrong(words));
        }
        let values = shape.values.iter().map(|(key, value)| Ok((key.clone(), template(Some(value), "")?)));
        Ok(Self {
            from: here.database(&shape.from)?,
            asked,
            values: values.collect::<Checked<_>>()?,
            separator: separator(shape.separator.as_ref())?,
            name: folder_template(Some(&shape.name), "")?,
        })
    }

    fn told(&self, telling: Telling<'_>) -> (&'static str, String) {
        ("extract", format!("{} from {}", telling.of(&self.name), self.from))
    }

    fn shift(&self) -> Shift<'_> {
        Shift::Makes(&self.name)
    }

    fn templates(&self) -> Vec<&Template> {
        self.values.iter().map(|(_, value)| value).chain([&self.name]).collect()
    }

    fn needs_file(&self) -> bool {
        false
    }

    fn makes_file(&self) -> bool {
        true
    }

    fn database(&self) -> Option<&Name> {
        Some(&self.from)
    }
}
