//! The step `compress`.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Group, Kind, Shift, Telling};
use crate::{
    Template,
    shape::{Checked, Here, Text, folder_template, holds},
};

/// Make a smaller file of it.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "Compress")]
pub(crate) struct Shape {
    /// How.
    #[schemars(title = "With", extend("default" = "gzip"))]
    with: Option<Compression>,
    /// The result's name; with Zstandard its ending is `.zst`.
    #[serde(rename = "as")]
    #[schemars(title = "Name of the result", extend("default" = "{{ file.name }}.gz"))]
    name: Option<Text<holds::NameTemplate>>,
}

/// How a file is compressed.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
#[serde(rename_all = "lowercase")]
pub enum Compression {
    /// gzip (RFC 1952), which everybody can open.
    Gzip,
    /// Zstandard (RFC 8878), faster and smaller.
    Zstd,
}

/// Make a small file of it.
#[derive(Debug, Clone)]
pub struct Compress {
    /// How.
    pub with: Compression,
    /// The result's name.
    pub name: Template,
}

impl Kind for Compress {
    type Shape = Shape;

    const GROUP: Group = Group::Change;
    const EXAMPLE: &'static str = r#"compress = { with = "gzip" }"#;

    fn resolve(shape: &Shape, _: &Here<'_>) -> Checked<Self> {
        let with = shape.with.unwrap_or(Compression::Gzip);
        let ending = match with {
            Compression::Gzip => "{{ file.name }}.gz",
            Compression::Zstd => "{{ file.name }}.zst",
        };
        Ok(Self { with, name: folder_template(shape.name.as_ref(), ending)? })
    }

    fn told(&self, telling: Telling<'_>) -> (&'static str, String) {
        ("compress it", format!("to {}", telling.of(&self.name)))
    }

    fn shift(&self) -> Shift<'_> {
        Shift::Makes(&self.name)
    }

    fn templates(&self) -> Vec<&Template> {
        vec![&self.name]
    }
}
