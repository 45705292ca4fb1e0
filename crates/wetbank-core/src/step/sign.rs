//! The step `sign`.

use schemars::JsonSchema;
use serde::Deserialize;

use super::{Group, Kind, Shift, Telling};
use crate::{
    Template,
    shape::{Checked, Here, Text, folder_template, holds},
};

/// Sign it with OpenPGP in a file of its own; the file and its signature both go on.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "Sign")]
pub(crate) struct Shape {
    /// The key of ours that signs.
    #[schemars(title = "By")]
    by: Text<holds::KeyName>,
    /// As letters and digits (ASCII armour), for what carries text only.
    #[serde(default)]
    #[schemars(title = "As text")]
    armour: bool,
    /// The signature's name; as text its ending is `.asc`.
    #[serde(rename = "as")]
    #[schemars(title = "Name of the signature", extend("default" = "{{ file.name }}.sig"))]
    name: Option<Text<holds::NameTemplate>>,
}

/// Sign the file; it and its detached signature both go on.
#[derive(Debug, Clone)]
pub struct Sign {
    /// The key that signs.
    pub by: String,
    /// ASCII armour instead of binary.
    pub armour: bool,
    /// The signature's name.
    pub name: Template,
}

impl Kind for Sign {
    type Shape = Shape;

    const GROUP: Group = Group::Protect;
    const EXAMPLE: &'static str = r#"sign = { by = "merrow" }"#;

    fn resolve(shape: &Shape, _: &Here<'_>) -> Checked<Self> {
        let ending = if shape.armour { "{{ file.name }}.asc" } else { "{{ file.name }}.sig" };
        let name = folder_template(shape.name.as_ref(), ending)?;
        Ok(Self { by: shape.by.str().to_owned(), armour: shape.armour, name })
    }

    fn told(&self, _: Telling<'_>) -> (&'static str, String) {
        ("sign it", format!("with {} in a file beside it", self.by))
    }

    fn shift(&self) -> Shift<'_> {
        Shift::Adds(&self.name)
    }

    fn templates(&self) -> Vec<&Template> {
        vec![&self.name]
    }
}
