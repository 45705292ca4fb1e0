//! The step `move`.

use schemars::JsonSchema;
use serde::Deserialize;

use super::{Group, Kind, Shift, Target, Telling, target::TargetShape};
use crate::{
    ChainEvent,
    shape::{Checked, Here},
};

/// Put it elsewhere and remove it here; within one file system no byte is moved.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(transparent)]
#[schemars(title = "Move")]
pub(crate) struct Shape(TargetShape);

/// Put it elsewhere and remove it here; within one file system no byte is moved.
#[derive(Debug, Clone)]
pub struct Move(pub Target);

impl Kind for Move {
    type Shape = Shape;

    const GROUP: Group = Group::Put;
    const EXAMPLE: &'static str = r#"move = { folder = "done/{{ file.modified | date('%Y') }}" }"#;

    fn resolve(Shape(shape): &Shape, here: &Here<'_>) -> Checked<Self> {
        shape.resolve(here).map(Self)
    }

    fn told(&self, telling: Telling<'_>) -> (&'static str, String) {
        ("move it", format!("to {}", self.0.words(telling)))
    }

    fn shift(&self) -> Shift<'_> {
        Shift::Moves(&self.0)
    }

    fn event(&self) -> Option<ChainEvent> {
        Some(ChainEvent::Moved)
    }

    fn target(&self) -> Option<&Target> {
        Some(&self.0)
    }
}
