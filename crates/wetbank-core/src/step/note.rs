//! The step `note`.

use schemars::JsonSchema;
use serde::Deserialize;

use super::{Group, Kind, Telling};
use crate::{
    Template,
    shape::{Checked, Here, Text, holds, template},
};

/// Write a line into the file's record.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "Note")]
pub(crate) struct Shape {
    /// The line.
    #[schemars(title = "Text")]
    text: Text<holds::Template>,
}

/// Write a line into the file's record.
#[derive(Debug, Clone)]
pub struct Note {
    /// The line.
    pub text: Template,
}

impl Kind for Note {
    type Shape = Shape;

    const GROUP: Group = Group::Tell;
    const EXAMPLE: &'static str = r#"note = { text = "checked by hand on {{ today }}" }"#;

    fn resolve(shape: &Shape, _: &Here<'_>) -> Checked<Self> {
        Ok(Self { text: template(Some(&shape.text), "")? })
    }

    fn told(&self, telling: Telling<'_>) -> (&'static str, String) {
        ("note", format!("\"{}\"", telling.of(&self.text)))
    }

    fn templates(&self) -> Vec<&Template> {
        vec![&self.text]
    }

    fn needs_file(&self) -> bool {
        false
    }
}
