//! The step `rename`.

use schemars::JsonSchema;
use serde::Deserialize;

use super::{Group, IfExists, Kind, Shift, Telling};
use crate::{
    Template,
    shape::{Checked, Here, Text, folder_template, holds},
};

/// Give the original another name in its folder.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "Rename")]
pub(crate) struct Shape {
    /// The new name.
    #[serde(rename = "as")]
    #[schemars(title = "New name")]
    name: Text<holds::NameTemplate>,
    /// What is done when the name is taken.
    #[schemars(title = "When the name is taken", extend("default" = "refuse"))]
    exists: Option<IfExists>,
}

/// Give the original another name in its folder.
#[derive(Debug, Clone)]
pub struct Rename {
    /// The new name.
    pub name: Template,
    /// What to do when it is taken.
    pub exists: IfExists,
}

impl Kind for Rename {
    type Shape = Shape;

    const GROUP: Group = Group::Put;
    const EXAMPLE: &'static str = r#"rename = { as = "{{ file.name }}.done" }"#;

    fn resolve(shape: &Shape, _: &Here<'_>) -> Checked<Self> {
        let exists = shape.exists.unwrap_or(IfExists::Refuse);
        Ok(Self { name: folder_template(Some(&shape.name), "")?, exists })
    }

    fn told(&self, telling: Telling<'_>) -> (&'static str, String) {
        ("rename it", format!("to {}", telling.of(&self.name)))
    }

    fn shift(&self) -> Shift<'_> {
        Shift::Renames(&self.name, self.exists)
    }

    fn templates(&self) -> Vec<&Template> {
        vec![&self.name]
    }
}
