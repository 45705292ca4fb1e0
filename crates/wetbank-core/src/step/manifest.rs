//! The step `manifest`.

use schemars::JsonSchema;
use serde::Deserialize;

use super::{Group, Kind, Shift, Telling};
use crate::{
    Template,
    shape::{Checked, Here, Text, folder_template, holds},
};

/// Write the checksums of the run's files into a list, as `sha256sum` does, which goes on instead of them.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "List checksums")]
pub(crate) struct Shape {
    /// The list's name. It is made of all files of a run, so it cannot take its name from one of them.
    #[serde(rename = "as")]
    #[schemars(title = "Name of the list", extend("default" = MANIFEST))]
    name: Option<Text<holds::NameTemplate>>,
}

/// The usual name of a list of checksums.
pub(super) const MANIFEST: &str = "SHA256SUMS";

/// What is made of all files of a run cannot be called after one of them.
pub(super) fn of_the_run(text: Option<&Text<holds::NameTemplate>>, name: &Template) -> Checked<()> {
    match text {
        Some(text) if name.mentions("file") => {
            Err(text.wrong("is made of all files of a run, so it cannot take its name from one {{ file }}"))
        }
        _ => Ok(()),
    }
}

/// Write the checksums of the run's files into a list, which goes on instead of them.
#[derive(Debug, Clone)]
pub struct Manifest {
    /// The list's name.
    pub name: Template,
}

impl Kind for Manifest {
    type Shape = Shape;

    const GROUP: Group = Group::Change;
    const EXAMPLE: &'static str = r#"manifest = { as = "SHA256SUMS" }"#;

    fn resolve(shape: &Shape, _: &Here<'_>) -> Checked<Self> {
        let name = folder_template(shape.name.as_ref(), MANIFEST)?;
        of_the_run(shape.name.as_ref(), &name)?;
        Ok(Self { name })
    }

    fn told(&self, telling: Telling<'_>) -> (&'static str, String) {
        ("list the checksums", format!("of all of a run in {}", telling.of(&self.name)))
    }

    fn shift(&self) -> Shift<'_> {
        Shift::Makes(&self.name)
    }

    fn templates(&self) -> Vec<&Template> {
        vec![&self.name]
    }

    fn makes_file(&self) -> bool {
        true
    }

    fn joins(&self) -> bool {
        true
    }
}
