//! The step `expand`.

use schemars::JsonSchema;
use serde::Deserialize;

use super::{Group, Kind, Most, Shift, Telling};
use crate::{
    Template,
    shape::{Checked, Here, Text, folder_template, holds, most},
};

/// Make the large file of a compressed one again, of gzip and Zstandard, whichever it is.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "Expand")]
pub(crate) struct Shape {
    /// The result's name.
    #[serde(rename = "as")]
    #[schemars(title = "Name of the result", extend("default" = EXPANDED))]
    name: Option<Text<holds::NameTemplate>>,
    /// What may come out of it; more is held. Unless it is said, no more than 250 times what went in either.
    #[schemars(title = "At most", extend("default" = "50 GB"))]
    most: Option<Text<holds::Size>>,
}

/// What a compressed file was called before.
const EXPANDED: &str =
    "{% if file.extension in [\"gz\", \"zst\"] %}{{ file.stem }}{% else %}{{ file.name }}.expanded{% endif %}";

/// Make the large file of a small one again; which it is, the file tells.
#[derive(Debug, Clone)]
pub struct Expand {
    /// How much may come out.
    pub most: Most,
    /// The result's name.
    pub name: Template,
}

impl Kind for Expand {
    type Shape = Shape;

    const GROUP: Group = Group::Change;
    const EXAMPLE: &'static str = "expand = {}";

    fn resolve(shape: &Shape, _: &Here<'_>) -> Checked<Self> {
        Ok(Self { most: most(shape.most.as_ref())?, name: folder_template(shape.name.as_ref(), EXPANDED)? })
    }

    fn told(&self, _: Telling<'_>) -> (&'static str, String) {
        ("expand it", String::new())
    }

    fn shift(&self) -> Shift<'_> {
        Shift::Makes(&self.name)
    }

    fn templates(&self) -> Vec<&Template> {
        vec![&self.name]
    }
}
