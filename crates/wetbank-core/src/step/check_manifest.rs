//! The step `check-manifest`.

use schemars::JsonSchema;
use serde::Deserialize;

use super::{Group, Kind, Telling, manifest::MANIFEST};
use crate::{
    Template,
    shape::{Checked, Here, Text, folder_template, holds},
};

/// Compare it with the list of checksums that lies beside it.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "Check against a list of checksums")]
pub(crate) struct Shape {
    /// The list's name.
    #[serde(rename = "as")]
    #[schemars(title = "Name of the list", extend("default" = MANIFEST))]
    name: Option<Text<holds::NameTemplate>>,
}

/// Compare the file with a list of checksums that lies beside it.
#[derive(Debug, Clone)]
pub struct CheckManifest {
    /// The list's name.
    pub name: Template,
}

impl Kind for CheckManifest {
    type Shape = Shape;

    const GROUP: Group = Group::Protect;
    const EXAMPLE: &'static str = r#"check-manifest = { as = "SHA256SUMS" }"#;

    fn resolve(shape: &Shape, _: &Here<'_>) -> Checked<Self> {
        Ok(Self { name: folder_template(shape.name.as_ref(), MANIFEST)? })
    }

    fn told(&self, telling: Telling<'_>) -> (&'static str, String) {
        ("compare it", format!("with the checksums in {}", telling.of(&self.name)))
    }

    fn templates(&self) -> Vec<&Template> {
        vec![&self.name]
    }
}
