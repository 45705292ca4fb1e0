//! The step `hold`.

use schemars::JsonSchema;
use serde::Deserialize;

use super::{Group, Kind, Shift, Telling};
use crate::shape::{Checked, Here, Text};

/// Let the file wait for a person.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "Hold")]
pub(crate) struct Shape {
    /// What the person is told.
    #[schemars(title = "Why")]
    why: Text,
}

/// Wait for a person.
#[derive(Debug, Clone)]
pub struct Hold {
    /// What the person is told.
    pub why: String,
}

impl Kind for Hold {
    type Shape = Shape;

    const GROUP: Group = Group::Decide;
    const EXAMPLE: &'static str = r#"hold = { why = "no assay sheet" }"#;

    fn resolve(shape: &Shape, _: &Here<'_>) -> Checked<Self> {
        Ok(Self { why: shape.why.str().to_owned() })
    }

    fn told(&self, _: Telling<'_>) -> (&'static str, String) {
        ("hold it", format!("for a person ({})", self.why))
    }

    fn shift(&self) -> Shift<'_> {
        Shift::Holds(&self.why)
    }

    fn needs_file(&self) -> bool {
        false
    }

    fn ends_file(&self) -> bool {
        true
    }
}
