//! The step `copy`.

use schemars::JsonSchema;
use serde::Deserialize;

use super::{Group, Kind, Target, Telling, target::TargetShape};
use crate::{
    ChainEvent,
    shape::{Checked, Here},
};

/// Put a copy somewhere; the original stays what it is.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(transparent)]
#[schemars(title = "A copy")]
pub(crate) struct Shape(TargetShape);

/// Put a copy somewhere; the original stays what it is.
#[derive(Debug, Clone)]
pub struct Copy(pub Target);

impl Kind for Copy {
    type Shape = Shape;

    const GROUP: Group = Group::Put;
    const EXAMPLE: &'static str = r#"copy = { to = "archive", folder = "{{ today }}", exists = "skip-same" }"#;

    fn resolve(Shape(shape): &Shape, here: &Here<'_>) -> Checked<Self> {
        shape.resolve(here).map(Self)
    }

    fn told(&self, telling: Telling<'_>) -> (&'static str, String) {
        ("copy it", format!("to {}", self.0.words(telling)))
    }

    fn event(&self) -> Option<ChainEvent> {
        Some(ChainEvent::Copied)
    }

    fn target(&self) -> Option<&Target> {
        Some(&self.0)
    }
}
