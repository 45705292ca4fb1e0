//! The step `align`.

use schemars::JsonSchema;
use serde::Deserialize;

use super::{Group, Kind, Telling};
use crate::{
    Name,
    shape::{Checked, Here, Text, holds, unknown},
};

/// Make a pass of a twin and wait for its end. Without a file in the run it can be the only step: so several twins follow
/// one schedule.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
#[schemars(title = "Align")]
pub(crate) struct Shape {
    /// The twin.
    #[schemars(title = "Twin")]
    twin: Text<holds::TwinName>,
}

/// Make a pass of a twin.
#[derive(Debug, Clone)]
pub struct Align {
    /// The twin.
    pub twin: Name,
}

impl Kind for Align {
    type Shape = Shape;

    const GROUP: Group = Group::Put;
    const EXAMPLE: &'static str = r#"align = { twin = "volunteers" }"#;

    fn resolve(shape: &Shape, here: &Here<'_>) -> Checked<Self> {
        match here.ends.twins.iter().find(|name| name.as_str() == shape.twin.str()) {
            Some(name) => Ok(Self { twin: name.clone() }),
            None => Err(unknown("twin", &shape.twin, here.ends.twins.iter().map(Name::as_str))),
        }
    }

    fn told(&self, _: Telling<'_>) -> (&'static str, String) {
        ("make both sides alike", format!("of the twin {}", self.twin))
    }

    fn needs_file(&self) -> bool {
        false
    }
}
