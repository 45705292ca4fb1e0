//! The step `fetch`.

use schemars::JsonSchema;
use serde::Deserialize;

use super::{Group, Kind, Target, Telling, target::TargetShape};
use crate::{
    ChainEvent,
    shape::{Checked, Here},
};

/// Get a copy from somebody else's place. It is done like `copy`; other rules can tell them apart.
#[derive(Debug, Deserialize, JsonSchema)]
#[serde(transparent)]
#[schemars(title = "Fetch")]
pub(crate) struct Shape(TargetShape);

/// Get a copy from somebody else's place. It is done like `copy`; other rules can tell them apart.
#[derive(Debug, Clone)]
pub struct Fetch(pub Target);

impl Kind for Fetch {
    type Shape = Shape;

    const GROUP: Group = Group::Put;
    const EXAMPLE: &'static str = r#"fetch = { to = "office", folder = "in" }"#;

    fn resolve(Shape(shape): &Shape, here: &Here<'_>) -> Checked<Self> {
        shape.resolve(here).map(Self)
    }

    fn told(&self, telling: Telling<'_>) -> (&'static str, String) {
        ("fetch it", format!("to {}", self.0.words(telling)))
    }

    fn event(&self) -> Option<ChainEvent> {
        Some(ChainEvent::Fetched)
    }

    fn target(&self) -> Option<&Target> {
        Some(&self.0)
    }
}
